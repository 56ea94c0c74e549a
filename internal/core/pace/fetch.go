package pace

import (
	"math"

	"vexillum/internal/core/farm"
)

// fetches is what nodes have of bundles, and how fast they get them. A node gets
// files before its first launch: that is learned apart from how long launches take,
// as it is the same for all runs of a bundle and grows with its bytes.
type fetches struct {
	has    map[string]map[farm.NodeID]bool // by bundle
	rates  map[farm.NodeID]*tally          // bytes a second
	common tally                           // the same of all nodes
}

// Bounds of what is kept, and of what tells a rate: of few bytes most of the time goes
// into asking for them.
const (
	mostBundles = 1000
	leastTold   = 1 << 20
)

func newFetches() fetches {
	return fetches{has: map[string]map[farm.NodeID]bool{}, rates: map[farm.NodeID]*tally{}}
}

// fetched learns that a node has a bundle, and how long it took to get it.
func (m *Model) fetched(bundle string, n farm.NodeID, f farm.Fetched) {
	m.BelieveHas(bundle, n)
	if f.Bytes < leastTold || !positive(f.Seconds) {
		return
	}
	rate := float64(f.Bytes) / f.Seconds
	if m.fetches.rates[n] == nil {
		m.fetches.rates[n] = &tally{}
	}
	m.fetches.rates[n].add(rate)
	m.fetches.common.add(rate)
}

// BelieveHas takes for granted that a node has all of a bundle.
func (m *Model) BelieveHas(bundle string, n farm.NodeID) {
	if bundle == "" {
		return
	}
	has := m.fetches.has
	if has[bundle] == nil {
		if len(has) >= mostBundles {
			clear(has) // nodes are thought to lack what they have, until they show it
		}
		has[bundle] = map[farm.NodeID]bool{}
	}
	has[bundle][n] = true
}

// Has reports whether a node is known to have all of a bundle.
func (m *Model) Has(bundle string, n farm.NodeID) bool { return m.fetches.has[bundle][n] }

// Lacks returns how many bytes of a run's bundle a node has to get before its first
// launch, as far as is known.
func (m *Model) Lacks(run *farm.Run, n farm.NodeID) int64 {
	switch spec := &run.Spec; {
	case spec.BundleBytes == 0 || m.Has(spec.Bundle, n):
		return 0
	case spec.BundleBefore != "" && m.Has(spec.BundleBefore, n):
		return spec.BundleNew
	default:
		return spec.BundleBytes
	}
}

// FetchRate returns the bytes a second at which a node gets bundles: as it did before,
// else as others did, else as fast as its line to the service was measured; 0 where
// none of that is known.
func (m *Model) FetchRate(n *farm.Node) float64 {
	if t := m.fetches.rates[n.ID]; t != nil {
		return math.Exp(t.logMean)
	}
	if m.fetches.common.n > 0 {
		return math.Exp(m.fetches.common.logMean)
	}
	return float64(n.Facts.NetworkRate)
}

// Fetch returns the seconds that a node needs to get what it lacks of a run's bundle;
// 0 where nothing is known of its line.
func (m *Model) Fetch(run *farm.Run, n *farm.Node) float64 {
	if run.Spec.BundleBytes == 0 {
		return 0
	}
	rate := m.FetchRate(n)
	if !positive(rate) {
		return 0
	}
	return float64(m.Lacks(run, n.ID)) / rate
}
