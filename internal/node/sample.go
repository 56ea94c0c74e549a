package node

import (
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/shirou/gopsutil/v4/cpu"
	"github.com/shirou/gopsutil/v4/disk"
	"github.com/shirou/gopsutil/v4/load"
	"github.com/shirou/gopsutil/v4/mem"
	"github.com/shirou/gopsutil/v4/net"
	"github.com/shirou/gopsutil/v4/sensors"

	"vexillum/internal/wire"
)

// sampleEvery is how often a node measures itself.
const sampleEvery = 5 * time.Second

// mostGroups bounds the groups of cores that are told apart.
const mostGroups = 16

// unknown stands for what the system does not tell.
const unknown = -1

// sampler measures the machine. Rates are over the time since the last sample.
type sampler struct {
	at       time.Time
	times    []cpu.TimesStat // by core
	read     uint64
	written  uint64
	received uint64
	sent     uint64
}

// sample measures the machine; the first time there are no rates yet.
func (s *sampler) sample(ctx context.Context, staging string, devices []wire.DeviceSample) *wire.Sample {
	now := time.Now()
	seconds := now.Sub(s.at).Seconds()
	first := s.at.IsZero()
	s.at = now
	out := &wire.Sample{
		Processor: unknown, Memory: unknown, Swap: unknown, DiskFree: unknown, DiskRead: unknown,
		DiskWritten: unknown, Received: unknown, Sent: unknown, Load: unknown, Temperature: unknown,
		Devices: devices,
	}
	if times, err := cpu.TimesWithContext(ctx, true); err == nil {
		if len(times) == len(s.times) {
			out.Processor, out.Groups = busy(s.times, times)
		}
		s.times = times
	}
	if m, err := mem.VirtualMemoryWithContext(ctx); err == nil {
		out.Memory = float64(m.Total - m.Available)
	}
	if m, err := mem.SwapMemoryWithContext(ctx); err == nil {
		out.Swap = float64(m.Used)
	}
	if d, err := disk.UsageWithContext(ctx, staging); err == nil {
		out.DiskFree = float64(d.Free)
	}
	if disks, err := disk.IOCountersWithContext(ctx); err == nil {
		var read, written uint64
		for name, d := range disks {
			if !isPart(name, disks) {
				read, written = read+d.ReadBytes, written+d.WriteBytes
			}
		}
		if !first {
			out.DiskRead, out.DiskWritten = rate(s.read, read, seconds), rate(s.written, written, seconds)
		}
		s.read, s.written = read, written
	}
	if lines, err := net.IOCountersWithContext(ctx, true); err == nil {
		var received, sent uint64
		for _, l := range lines {
			if l.Name != "lo" && !strings.HasPrefix(l.Name, "lo0") {
				received, sent = received+l.BytesRecv, sent+l.BytesSent
			}
		}
		if !first {
			out.Received, out.Sent = rate(s.received, received, seconds), rate(s.sent, sent, seconds)
		}
		s.received, s.sent = received, sent
	}
	if l, err := load.AvgWithContext(ctx); err == nil {
		out.Load = l.Load1
	}
	out.Temperature = temperature(ctx)
	if first {
		return nil
	}
	return out
}

// rate is how much a counter grew a second; one that was reset says nothing.
func rate(before, after uint64, seconds float64) float64 {
	if after < before || seconds <= 0 {
		return unknown
	}
	return float64(after-before) / seconds
}

// isPart reports whether a disk is a partition of another that is counted.
func isPart(name string, disks map[string]disk.IOCountersStat) bool {
	for whole := range disks {
		if rest, ok := strings.CutPrefix(name, whole); ok && rest != "" {
			if _, err := strconv.Atoi(strings.TrimPrefix(rest, "p")); err == nil {
				return true
			}
		}
	}
	return strings.HasPrefix(name, "loop") || strings.HasPrefix(name, "ram") || strings.HasPrefix(name, "dm-") ||
		strings.HasPrefix(name, "md")
}

// busy returns which part of all cores was in use between two readings, and of
// each of at most mostGroups groups of cores.
func busy(before, after []cpu.TimesStat) (all float64, groups []float64) {
	used := make([]float64, len(after))
	total := 0.0
	for i := range after {
		a, b := after[i], before[i]
		idle := (a.Idle + a.Iowait) - (b.Idle + b.Iowait)
		work := (a.User + a.System + a.Nice + a.Irq + a.Softirq + a.Steal) - (b.User + b.System + b.Nice + b.Irq + b.Softirq + b.Steal)
		if whole := idle + work; whole > 0 {
			used[i] = min(max(work/whole, 0), 1)
		}
		total += used[i]
	}
	size := (len(used) + mostGroups - 1) / mostGroups
	for i := 0; i < len(used); i += size {
		sum := 0.0
		end := min(i+size, len(used))
		for _, u := range used[i:end] {
			sum += u
		}
		groups = append(groups, sum/float64(end-i))
	}
	return total / float64(max(1, len(used))), groups
}

// temperature returns that of the processor, where it is told.
func temperature(ctx context.Context) float64 {
	found, _ := sensors.TemperaturesWithContext(ctx) // some of them may be readable though others are not
	most := float64(unknown)
	for _, t := range found {
		key := strings.ToLower(t.SensorKey)
		for _, of := range []string{"coretemp", "k10temp", "zenpower", "cpu", "soc"} {
			if strings.Contains(key, of) && t.Temperature < 150 {
				most = max(most, t.Temperature)
			}
		}
	}
	return most
}

// deviceSamples measures the graphics devices, as far as their drivers tell.
// The made-up ones of a practice node are busy while a lease owns them.
func deviceSamples(bus string, devices []wire.Device, owned map[string]bool) []wire.DeviceSample {
	var out []wire.DeviceSample
	for _, d := range devices {
		s := wire.DeviceSample{ID: d.ID, Busy: unknown, Memory: unknown, Temperature: unknown}
		if strings.HasPrefix(d.ID, toldDevice) {
			s.Busy, s.Memory, s.Temperature = 0.02, float64(d.Memory)/50, 38
			if owned[d.ID] {
				wave := float64(time.Now().Unix()%60) / 60
				s.Busy, s.Memory, s.Temperature = 0.82+0.15*wave, float64(d.Memory)*(0.4+0.1*wave), 66+6*wave
			}
			out = append(out, s)
			continue
		}
		dir := filepath.Join(bus, d.ID)
		if v, ok := readNumber(filepath.Join(dir, "gpu_busy_percent")); ok {
			s.Busy = v / 100
		}
		if v, ok := readNumber(filepath.Join(dir, "mem_info_vram_used")); ok {
			s.Memory = v
		}
		if found, err := filepath.Glob(filepath.Join(dir, "hwmon", "*", "temp1_input")); err == nil && len(found) > 0 {
			if v, ok := readNumber(found[0]); ok {
				s.Temperature = v / 1000
			}
		}
		out = append(out, s)
	}
	return out
}

// deviceUse returns how much of the busiest of some devices is in use, 0 to 1, as far as
// their drivers tell.
func deviceUse(bus string, ids []string) (most float64) {
	for _, id := range ids {
		if v, ok := readNumber(filepath.Join(bus, id, "gpu_busy_percent")); ok {
			most = max(most, v/100)
		}
	}
	return most
}

// toldDevice begins the ids of devices that were told and not found.
const toldDevice = "told-"

func readNumber(path string) (float64, bool) {
	data, err := os.ReadFile(path)
	if err != nil {
		return 0, false
	}
	v, err := strconv.ParseFloat(strings.TrimSpace(string(data)), 64)
	return v, err == nil && v >= 0
}
