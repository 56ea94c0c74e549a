package node

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/shirou/gopsutil/v4/cpu"
	"github.com/shirou/gopsutil/v4/disk"
	"github.com/shirou/gopsutil/v4/host"
	"github.com/shirou/gopsutil/v4/mem"

	"vexillum/internal/account"
	"vexillum/internal/wire"
)

// machineFacts says what the machine is. What the system does not tell stays
// empty.
func machineFacts(ctx context.Context, dir, version string, accounts *account.Policy) wire.Facts {
	f := wire.Facts{
		OS: runtime.GOOS, System: runtime.GOOS, Arch: runtime.GOARCH, Cores: runtime.NumCPU(),
		Version: version, Renderers: []wire.Renderer{}, Means: means(accounts),
	}
	if info, err := host.InfoWithContext(ctx); err == nil {
		f.System = info.Platform + " " + info.PlatformVersion
	}
	if m, err := mem.VirtualMemoryWithContext(ctx); err == nil {
		f.Memory = int64(m.Total)
	}
	if d, err := disk.UsageWithContext(ctx, dir); err == nil {
		f.Disk = int64(d.Free)
	}
	return f
}

// noRenderers is what --renderers says of a machine that offers none.
const noRenderers = "none"

// checkRenderers refuses names of which no recipe has any; of one among others it
// only warns, as a recipe may be away for a while.
func (a *Agent) checkRenderers() error {
	var known, unknown []string
	for _, r := range a.recipes.Load().newest() {
		known = append(known, r.Name)
	}
	slices.Sort(known)
	for _, name := range a.o.Renderers {
		if name != noRenderers && !slices.Contains(known, name) {
			unknown = append(unknown, name)
		}
	}
	switch {
	case len(unknown) == 0:
		return nil
	case len(unknown) == len(a.o.Renderers):
		return fmt.Errorf(
			"--renderers %s: the farm has no such recipe; there are %s, or none", strings.Join(unknown, ","),
			strings.Join(known, ", "),
		)
	}
	a.o.Told(fmt.Sprintf(
		"--renderers names %s, and the farm has no such recipe; there are %s", strings.Join(unknown, ", "),
		strings.Join(known, ", "),
	))
	return nil
}

// signs says how busy and how well the machine is.
func signs(ctx context.Context, staging string, b *wire.Beat) {
	if p, err := cpu.PercentWithContext(ctx, 0, false); err == nil && len(p) > 0 {
		b.Processor = p[0] / 100
	}
	if m, err := mem.VirtualMemoryWithContext(ctx); err == nil {
		b.Memory = m.UsedPercent / 100
		free := int64(m.Available)
		b.MemoryFree = &free
	}
	if s, err := mem.SwapMemoryWithContext(ctx); err == nil {
		b.SwapUsed = int64(s.Used)
	}
	if d, err := disk.UsageWithContext(ctx, staging); err == nil {
		free := int64(d.Free)
		b.DiskFree, b.DiskTotal = &free, int64(d.Total)
	}
	now := time.Now()
	b.Now = &now
}
