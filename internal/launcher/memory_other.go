//go:build !linux

package launcher

import (
	"time"

	gops "github.com/shirou/gopsutil/v4/process"
)

// Pins reports whether renderers can be held to their cores.
func Pins() bool { return false }

// usedBy returns the processor time of a process and all that it has started.
func usedBy(pid int) time.Duration {
	p, err := gops.NewProcess(int32(pid))
	if err != nil {
		return 0
	}
	var used time.Duration
	if t, err := p.Times(); err == nil {
		used = time.Duration((t.User + t.System) * float64(time.Second))
	}
	below, err := p.Children()
	if err != nil {
		return used
	}
	for _, c := range below {
		used += usedBy(int(c.Pid))
	}
	return used
}

// memoryOf returns the main memory of a process and all that it has started.
func memoryOf(pid int) int64 {
	p, err := gops.NewProcess(int32(pid))
	if err != nil {
		return 0
	}
	var bytes int64
	if m, err := p.MemoryInfo(); err == nil {
		bytes = int64(m.RSS)
	}
	below, err := p.Children()
	if err != nil {
		return bytes
	}
	for _, c := range below {
		bytes += memoryOf(int(c.Pid))
	}
	return bytes
}
