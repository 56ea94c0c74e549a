package bundle

import (
	"math/rand/v2"
	"slices"
	"time"
)

// Tracker knows which nodes have which pieces of bundles, and shares out who gets which
// from the service, so that it sends each piece once where nodes pass them on. It
// belongs to one goroutine, or is guarded by a lock.
type Tracker struct {
	bundles map[string]*tracked
}

// tracked is what is known of one bundle.
type tracked struct {
	holders map[string]*holder
	given   []time.Time // when the service gave each piece last
}

// holder is a node that has some of a bundle.
type holder struct {
	have  []bool
	seen  time.Time
	alone bool
}

// Holding is what a node says of a bundle.
type Holding struct {
	Node string
	Standing
	Alone bool // it neither gets pieces from other nodes nor gives them any
}

// Times and bounds of sharing out.
const (
	seedsAtOnce  = 6
	givenIsFresh = 30 * time.Second // a piece that was given is passed on, or given again
	holderLives  = 24 * time.Hour   // without a word
	mostBundles  = 1000
	mostPeers    = 30 // that a node is told of
)

// NewTracker returns a Tracker that knows nothing yet.
func NewTracker() *Tracker { return &Tracker{bundles: map[string]*tracked{}} }

// Share notes what a node has of a bundle, and says which pieces it may get from the
// service and which nodes it may ask.
func (t *Tracker) Share(id string, h Holding, now time.Time) (seeds []int, peers []string) {
	b := t.bundles[id]
	if b == nil || len(b.given) != len(h.Have) {
		if len(t.bundles) >= mostBundles {
			clear(t.bundles)
		}
		b = &tracked{holders: map[string]*holder{}, given: make([]time.Time, len(h.Have))}
		t.bundles[id] = b
	}
	b.holders[h.Node] = &holder{h.Have, now, h.Alone}
	count := make([]int, len(h.Have))
	for name, other := range b.holders {
		if now.Sub(other.seen) > holderLives {
			delete(b.holders, name)
			continue
		}
		if name == h.Node || other.alone || h.Alone || slices.Contains(h.Shun, name) {
			continue
		}
		useful := false
		for n, has := range other.have {
			if has {
				count[n]++
				useful = useful || !h.Have[n]
			}
		}
		if useful {
			peers = append(peers, name)
		}
	}
	rand.Shuffle(len(peers), func(i, k int) { peers[i], peers[k] = peers[k], peers[i] })
	return b.seeds(h, count, now), peers[:min(len(peers), mostPeers)]
}

// seeds returns pieces that the node lacks, nobody has whom it could ask, and nobody
// just gets.
func (b *tracked) seeds(h Holding, count []int, now time.Time) (seeds []int) {
	var open []int
	for n, has := range h.Have {
		if !has && count[n] == 0 && (h.Alone || now.Sub(b.given[n]) > givenIsFresh) {
			open = append(open, n)
		}
	}
	rand.Shuffle(len(open), func(i, k int) { open[i], open[k] = open[k], open[i] })
	seeds = open[:min(len(open), seedsAtOnce, max(0, h.Want))]
	slices.Sort(seeds)
	for _, n := range seeds {
		b.given[n] = now
	}
	return seeds
}

// Have returns what is known of which pieces a node has.
func (t *Tracker) Have(id, node string) []bool {
	if b := t.bundles[id]; b != nil && b.holders[node] != nil {
		return b.holders[node].have
	}
	return nil
}
