package node

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"github.com/shirou/gopsutil/v4/mem"

	"vexillum/internal/core/frames"
	"vexillum/internal/launcher"
	"vexillum/internal/wire"
)

// What a lease owns of the machine. The service deals cores and devices out;
// that nothing is used twice, even when a lease that the service has given up
// still has processes here, is seen to on the node itself.

// own is what a launch may use.
type own struct {
	whole   bool       // nothing runs beside it
	cores   frames.Set // numbers of logical processors
	threads int
	part    float64 // of the machine's power
	memory  int64   // that the renderer is told
	limit   int64   // that it is held to; 0: none
	devices []string
	numbers []int // of the devices among all of the machine, in order
	nice    int
}

// share returns what a launch of a lease may use, as the caps are when it is
// asked.
func (a *Agent) share(of wire.Share) func() own {
	return func() own {
		caps := a.caps.Load().Caps
		out := own{
			whole: of.Cores == "", nice: caps.Nice, threads: a.o.Threads, part: 1, memory: a.facts.Memory,
			limit: caps.MemoryBytes,
		}
		if caps.Cores > 0 && caps.Cores < out.threads {
			out.threads = caps.Cores
		}
		if caps.MemoryBytes > 0 {
			out.memory = caps.MemoryBytes
		}
		if !out.whole {
			_ = out.cores.UnmarshalText([]byte(of.Cores)) // the service has written it
			out.threads = out.cores.Len()
			out.part = min(1, float64(out.threads)/float64(max(1, a.facts.Cores)))
		} else if out.threads < a.facts.Cores {
			out.cores = frames.Of(frames.Span{First: 0, Last: out.threads - 1})
		}
		if of.MemoryBytes > 0 {
			out.memory, out.limit = of.MemoryBytes, of.MemoryBytes
		}
		for i, d := range a.facts.Devices {
			if slices.Contains(of.Devices, d.ID) {
				out.devices, out.numbers = append(out.devices, d.ID), append(out.numbers, i)
			}
		}
		return out
	}
}

// limits is what the launcher holds a renderer to.
func (o own) limits() launcher.Limits {
	out := launcher.Limits{Nice: o.nice, Memory: o.limit}
	for c := range o.cores.All() {
		out.Cores = append(out.Cores, c)
	}
	return out
}

// coreList writes processors as the system writes such lists: 0-3,6.
func coreList(cores frames.Set) string {
	var parts []string
	for sp := range cores.Spans() {
		if sp.First == sp.Last {
			parts = append(parts, fmt.Sprint(sp.First))
		} else {
			parts = append(parts, fmt.Sprintf("%d-%d", sp.First, sp.Last))
		}
	}
	return strings.Join(parts, ",")
}

// environment tells a renderer what it owns.
func (o own) environment() []string {
	return []string{
		fmt.Sprintf("LEASE_CORES=%d", o.threads),
		"LEASE_CORE_LIST=" + coreList(o.cores), fmt.Sprintf("LEASE_MEMORY_BYTES=%d", o.memory),
		"LEASE_DEVICES=" + strings.Join(o.devices, ","), "LEASE_DEVICE_NUMBERS=" + o.deviceNumbers(),
	}
}

func (o own) deviceNumbers() string {
	var numbers []string
	for _, n := range o.numbers {
		numbers = append(numbers, fmt.Sprint(n))
	}
	return strings.Join(numbers, ",")
}

// collides reports whether two launches cannot be at the same time.
func (o own) collides(with own) bool {
	if o.whole || with.whole || !o.cores.Intersect(with.cores).Empty() {
		return true
	}
	return slices.ContainsFunc(o.devices, func(d string) bool { return slices.Contains(with.devices, d) })
}

// owned is what the leases of a node own at the moment.
type owned struct {
	mu    sync.Mutex
	by    map[int64]own // by lease
	freed chan struct{} // closed and made again when something is given back
}

func newOwned() *owned { return &owned{by: map[int64]own{}, freed: make(chan struct{})} }

// take waits until what a lease owns is free, and takes it. One that goes on
// from an earlier process has it already. The error is the context's.
func (o *owned) take(ctx context.Context, lease int64, want own, has bool) error {
	for {
		o.mu.Lock()
		free := true
		for id, other := range o.by {
			free = free && (id == lease || !want.collides(other))
		}
		if free || has {
			o.by[lease] = want
			o.mu.Unlock()
			return nil
		}
		freed := o.freed
		o.mu.Unlock()
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-freed:
		}
	}
}

// giveBack frees what a lease owned. Its processes must be gone.
func (o *owned) giveBack(lease int64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if _, had := o.by[lease]; had {
		delete(o.by, lease)
		close(o.freed)
		o.freed = make(chan struct{})
	}
}

// trialShare takes what a trial gets of the machine: everything where nothing is rendered, else
// the cores and devices that no lease owns, with their part of the memory. It waits while there
// are none. giveBack must be called when the trial's processes are gone. The error is the
// context's.
func (a *Agent) trialShare(
	ctx context.Context, errand int64, most own, waits func(),
) (share func() own, giveBack func(), err error) {
	if most.limit == 0 {
		most.limit = most.memory
	}
	if most.cores.Empty() {
		most.cores = frames.Of(frames.Span{First: 0, Last: max(1, most.threads) - 1})
	}
	got, err := a.owned.takeFree(ctx, -errand, func(others []own) (own, bool) { return most.beside(others) }, waits)
	if err != nil {
		return nil, nil, err
	}
	return func() own { return got }, func() { a.owned.giveBack(-errand) }, nil
}

// beside returns what is left of a share beside what others own, and false where that is
// nothing.
func (o own) beside(others []own) (own, bool) {
	if len(others) == 0 {
		return o, true
	}
	left := o
	left.whole = false
	for _, other := range others {
		if other.whole {
			return own{}, false
		}
		left.cores = left.cores.Minus(other.cores)
	}
	left.devices, left.numbers = nil, nil
	for i, d := range o.devices {
		if !slices.ContainsFunc(others, func(other own) bool { return slices.Contains(other.devices, d) }) {
			left.devices, left.numbers = append(left.devices, d), append(left.numbers, o.numbers[i])
		}
	}
	if left.cores.Empty() {
		return own{}, false
	}
	part := float64(left.cores.Len()) / float64(o.cores.Len())
	left.threads, left.part = left.cores.Len(), o.part*part
	left.memory, left.limit = int64(float64(o.memory)*part), int64(float64(o.limit)*part)
	return left, true
}

// takeFree waits until there is something left beside what leases own, and takes it. waits is
// called once if it has to wait.
func (o *owned) takeFree(
	ctx context.Context, id int64, choose func(others []own) (own, bool), waits func(),
) (own, error) {
	for first := true; ; first = false {
		o.mu.Lock()
		got, free := choose(slices.Collect(maps.Values(o.by)))
		if free {
			o.by[id] = got
			o.mu.Unlock()
			return got, nil
		}
		freed := o.freed
		o.mu.Unlock()
		if first {
			waits()
		}
		select {
		case <-ctx.Done():
			return own{}, ctx.Err()
		case <-freed:
		}
	}
}

// memory measures what a further lease could have of main memory, and what
// those that are worked on have; nil where the system does not tell.
func (a *Agent) memory(ctx context.Context) *wire.Memory {
	m, err := mem.VirtualMemoryWithContext(ctx)
	if err != nil {
		return nil
	}
	out := &wire.Memory{Free: int64(m.Available)}
	a.mu.Lock()
	defer a.mu.Unlock()
	for id, w := range a.works {
		out.Used = append(out.Used, wire.LeaseUsed{Lease: id, Bytes: w.status.used.Load()})
	}
	return out
}

// devices returns which devices are owned by a lease now.
func (o *owned) devices() map[string]bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	out := map[string]bool{}
	for _, by := range o.by {
		for _, d := range by.devices {
			out[d] = true
		}
	}
	return out
}
