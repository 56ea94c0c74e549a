// Package capacity says what fits where: which nodes a run could use, what of a
// node a further lease would own, licences, and what a person holds as a whole.
// Each rule stands here once, for dealing, hand-overs, races and pages. It decides
// about nobody's turn.
package capacity

import (
	"fmt"
	"slices"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
)

// Leases side by side: what of a node a further lease would own. Cores and
// devices are free again when the lease that owns them has ended, and a lease
// ends when its processes are gone.

// Memory is what an asking node measures of its main memory just now.
type Memory struct {
	Free int64                  // that new processes could have, in bytes
	Used map[farm.LeaseID]int64 // by the processes of a lease, in bytes
}

// most side by side, whatever the caps say.
const mostBeside = 256

// Room returns what of the node a lease of the run would own beside those that
// it holds; or why there is no room. leaving, if not nil, says which of those
// would have ended before.
func Room(
	s *farm.State, m *pace.Model, n *farm.Node, run *farm.Run, measured *Memory, leaving func(*farm.Lease) bool,
) (farm.Share, string) {
	held := s.LeasesOf(n.ID)
	if leaving != nil {
		held = slices.DeleteFunc(slices.Clone(held), leaving)
	}
	takes := run.Spec.Takes
	offer := n.Offer()
	if takes.Whole() {
		if len(held) > 0 {
			return farm.Share{}, fmt.Sprintf(
				"a lease of %s has its node for itself, and %s works on %s", run.Spec.Name(), n.Name,
				s.Runs[held[0].Run].Spec.Name(),
			)
		}
		memory := n.Settings.Caps.MemoryBytes
		if takes.MemoryBytes > 0 && (memory == 0 || takes.MemoryBytes < memory) { // it is held to what it says
			memory = takes.MemoryBytes
		}
		return farm.Share{MemoryBytes: memory, Devices: offer.Devices}, ""
	}
	most := mostBeside
	if c := n.Settings.Caps.Leases; c > 0 {
		most = min(most, c)
	}
	if len(held) >= most {
		return farm.Share{}, fmt.Sprintf(
			"%s has %s side by side, and no more are allowed", n.Name, english.Plural(len(held), "lease", ""),
		)
	}
	cores, devices, memory := offer.Cores, offer.Devices, offer.MemoryBytes
	if cores.Empty() { // it does not tell: one core
		cores = frames.One(0)
	}
	for _, l := range held {
		if l.Share.Whole() {
			return farm.Share{}, fmt.Sprintf(
				"%s works on %s, which has the node for itself", n.Name, s.Runs[l.Run].Spec.Name(),
			)
		}
		cores = cores.Minus(l.Share.Cores)
		devices = without(devices, l.Share.Devices)
		memory -= l.Share.MemoryBytes
	}
	switch {
	case cores.Len() < takes.Cores:
		return farm.Share{}, fmt.Sprintf(
			"%s takes %s a lease, and %d of %s are free", run.Spec.Name(), english.Plural(takes.Cores, "core", ""),
			cores.Len(),
			n.Name,
		)
	case len(devices) < takes.Devices:
		return farm.Share{}, fmt.Sprintf(
			"%s takes %s a lease, and %d of %s are free", run.Spec.Name(),
			english.Plural(takes.Devices, "graphics device", ""), len(devices), n.Name,
		)
	case offer.MemoryBytes > 0 && memory < takes.MemoryBytes:
		return farm.Share{}, fmt.Sprintf(
			"%s takes %s of memory a lease, and %s of %s are not promised to others", run.Spec.Name(),
			bytes(takes.MemoryBytes), bytes(max(0, memory)), n.Name,
		)
	}
	if len(held) > 0 {
		if why := guard(s, m, n, run, held, measured); why != "" {
			return farm.Share{}, why
		}
	}
	return farm.Share{
		Cores: cores.Take(takes.Cores), MemoryBytes: takes.MemoryBytes,
		Devices: devices[:takes.Devices:takes.Devices],
	}, ""
}

// guard keeps a node from starting a further process when its memory may not
// do: what is free now, less what those that run are expected to grow to, less
// what the new one is expected to take, must leave the node's spare. It
// returns why, or "".
func guard(s *farm.State, m *pace.Model, n *farm.Node, run *farm.Run, held []*farm.Lease, measured *Memory) string {
	if measured == nil {
		return "" // the node does not measure; what was told has been reckoned with
	}
	mine, known := expected(m, run, run.ToDo)
	if !known {
		return fmt.Sprintf(
			"it is not yet known how much memory %s takes, and %s already works on %s", run.Spec.Name(), n.Name,
			s.Runs[held[0].Run].Spec.Name(),
		)
	}
	free := measured.Free
	for _, l := range held {
		other := s.Runs[l.Run]
		peak, known := expected(m, other, l.Left)
		if !known {
			return fmt.Sprintf("it is not yet known how much memory %s grows to on %s", other.Spec.Name(), n.Name)
		}
		free -= max(0, peak-measured.Used[l.ID])
	}
	if free-mine < n.Spare() {
		return fmt.Sprintf(
			"%s is expected to take %s of memory, and of %s only %s will be free beside %s, of which %s stay free",
			run.Spec.Name(), bytes(mine), n.Name, bytes(max(0, free)), english.Plural(len(held), "lease", ""),
			bytes(n.Spare()),
		)
	}
	return ""
}

// expected returns how much main memory a launch of the run is expected to
// grow to over some of its frames, in bytes: as was seen along the range, or
// else what the run says.
func expected(m *pace.Model, run *farm.Run, set frames.Set) (peak int64, known bool) {
	if peak, known := m.Memory(run, set); known {
		return peak, true
	}
	return run.Spec.Takes.MemoryBytes, run.Spec.Takes.MemoryBytes > 0
}

// Offers reports whether a node still offers what a lease on it owns.
func Offers(n *farm.Node, of farm.Share) bool {
	offer := n.Offer()
	return (offer.Cores.Empty() || of.Cores.Minus(offer.Cores).Empty()) && len(without(of.Devices, offer.Devices)) == 0
}

// HasRoom reports whether a further lease could be on the node beside those
// that it holds, if only it were small enough.
func HasRoom(s *farm.State, n *farm.Node) bool {
	held := s.LeasesOf(n.ID)
	if len(held) == 0 {
		return true
	}
	most := mostBeside
	if c := n.Settings.Caps.Leases; c > 0 {
		most = min(most, c)
	}
	owned := 0
	for _, l := range held {
		if l.Share.Whole() {
			return false
		}
		owned += l.Share.Cores.Len()
	}
	return len(held) < most && owned < n.OfferedCores()
}

// Slots returns how many leases of the run could be side by side on the node,
// were it empty; at least 1.
func Slots(n *farm.Node, run *farm.Run) int {
	takes := run.Spec.Takes
	if takes.Whole() {
		return 1
	}
	out := min(mostBeside, n.OfferedCores()/takes.Cores)
	if c := n.Settings.Caps.Leases; c > 0 {
		out = min(out, c)
	}
	if takes.MemoryBytes > 0 || takes.Devices > 0 {
		offer := n.Offer()
		if takes.MemoryBytes > 0 && offer.MemoryBytes > 0 {
			out = min(out, int(offer.MemoryBytes/takes.MemoryBytes))
		}
		if takes.Devices > 0 {
			out = min(out, len(offer.Devices)/takes.Devices)
		}
	}
	return max(1, out)
}

// Part returns which part of a node's power a lease of the run has.
func Part(n *farm.Node, run *farm.Run) float64 { return n.PartOf(run.Spec.Takes.Cores) }

// Speed returns the reference seconds that a lease of the run does in a second
// on the node.
func Speed(m *pace.Model, n *farm.Node, run *farm.Run) float64 {
	return m.SpeedFor(n, run) * Part(n, run)
}

func without(list, taken []string) []string {
	if len(taken) == 0 {
		return list
	}
	var out []string
	gone := map[string]bool{}
	for _, t := range taken {
		gone[t] = true
	}
	for _, x := range list {
		if !gone[x] {
			out = append(out, x)
		}
	}
	return out
}

func bytes(n int64) string { return humanize.IBytes(uint64(n)) }
