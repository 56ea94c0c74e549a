package bundle

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"
)

// Source gives pieces: the service, or another node.
type Source interface {
	Name() string
	// Piece returns a piece. ErrNotHere says that it does not have it.
	Piece(ctx context.Context, c Content, i int) ([]byte, error)
}

// Plan is where pieces of a bundle are to be had now. Pieces are counted through all
// contents, in the order of [Manifest.Contents].
type Plan struct {
	Seeds []int // that nobody else gets from the service now
	Peers []Peer
}

// Standing is how the fetching of a bundle stands.
type Standing struct {
	Have []bool   // of all pieces
	Want int      // seeds that could be taken now
	Shun []string // peers that are left alone, as they gave rubbish or nothing
}

// Peer is another node that has some of the bundle.
type Peer struct {
	Source
	Have []bool
}

// Fetching says how a bundle is fetched.
type Fetching struct {
	Store    *Store
	Manifest *Manifest
	Service  Source
	// Plan says how things stand here, and learns what to get where.
	Plan func(ctx context.Context, at Standing) (Plan, error)
	Told func(Progress)                    // hears how far it is; may be nil
	Bad  func(source string, reason error) // hears of sources that are given up; may be nil
}

// Progress is how far the fetching of a bundle is.
type Progress struct {
	Bytes, Of int64
	From      []string // who gave pieces lately, who gave most first
}

// Bounds of fetching.
const (
	atOnce        = 12 // pieces that are on their way
	atOnceService = 2
	atOncePeer    = 2
	planEvery     = 250 * time.Millisecond
	planSoon      = 100 * time.Millisecond
	mostFailures  = 3 // of a peer, before it is left alone for a while
	leftAlone     = time.Minute
	leastPatience = 10 * time.Second // for a piece
	leastRate     = 256 << 10        // bytes a second that a piece has to come with
	mostRefusals  = 20               // of the service in a row, where nobody else has anything
)

// pieceAt is a piece of a bundle by its number through all contents.
type pieceAt struct {
	Content
	i int
}

// pieces returns all pieces of a bundle, in order.
func (m *Manifest) pieces() (out []pieceAt) {
	for _, c := range m.Contents() {
		for i := range c.Count() {
			out = append(out, pieceAt{c, i})
		}
	}
	return out
}

// PieceCount returns how many pieces a bundle has through all contents.
func (m *Manifest) PieceCount() (n int) {
	for _, c := range m.Contents() {
		n += c.Count()
	}
	return n
}

// fetcher is one fetching of a bundle. It belongs to one goroutine.
type fetcher struct {
	Fetching
	pieces  []pieceAt
	have    []bool
	flying  []bool
	left    int
	plan    Plan
	seeds   []int
	load    map[string]int // pieces on their way, by source
	failed  map[string]int
	alone   map[string]time.Time // until when a source is left alone
	refused int                  // of the service in a row
	lastErr error
	got     chan arrival
	given   map[string]int // bytes lately, by source
	since   time.Time
}

// arrival is what came of asking for a piece.
type arrival struct {
	piece  int
	source string
	data   []byte
	err    error
}

// Fetch completes a bundle in a store: the rarest pieces first, each verified, from the
// service and from other nodes. The error says why it cannot be completed; what has
// come stays.
func Fetch(ctx context.Context, f Fetching) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	missing, err := f.Store.Missing(ctx, f.Manifest)
	if err != nil {
		return err
	}
	w := &fetcher{
		Fetching: f, pieces: f.Manifest.pieces(), load: map[string]int{}, failed: map[string]int{},
		alone: map[string]time.Time{}, got: make(chan arrival, atOnce), given: map[string]int{}, since: time.Now(),
	}
	w.have, w.flying = make([]bool, len(w.pieces)), make([]bool, len(w.pieces))
	for n, p := range w.pieces {
		w.have[n] = !slices.Contains(missing[p.Hash], p.i)
		if !w.have[n] {
			w.left++
		}
	}
	w.tell()
	err = w.run(ctx)
	cancel()
	for w.flyingNow() > 0 { // nobody is left behind
		a := <-w.got
		w.load[a.source]--
	}
	return err
}

func (w *fetcher) flyingNow() (n int) {
	for _, l := range w.load {
		n += l
	}
	return n
}

func (w *fetcher) run(ctx context.Context) error {
	again := time.NewTimer(0)
	defer again.Stop()
	for w.left > 0 {
		for w.next(ctx) {
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case a := <-w.got:
			if err := w.take(a); err != nil {
				return err
			}
		case <-again.C:
			plan, err := w.Plan(ctx, w.standing())
			if err != nil {
				return err
			}
			w.plan, w.seeds = plan, append(w.seeds, plan.Seeds...)
			w.tell()
			if len(plan.Seeds) > 0 { // they are gone soon
				again.Reset(planSoon)
			} else {
				again.Reset(planEvery)
			}
		}
	}
	_, err := w.Plan(ctx, Standing{Have: slices.Clone(w.have)}) // so that others know
	w.tell()
	return err
}

// standing says how things stand.
func (w *fetcher) standing() Standing {
	at := Standing{Have: slices.Clone(w.have), Want: max(0, 2*atOnceService-len(w.seeds))}
	for name, until := range w.alone {
		if name != w.Service.Name() && time.Now().Before(until) {
			at.Shun = append(at.Shun, name)
		}
	}
	return at
}

// next asks for one more piece, if there is one that somebody could give.
func (w *fetcher) next(ctx context.Context) bool {
	if w.flyingNow() >= atOnce {
		return false
	}
	if w.load[w.Service.Name()] < atOnceService && time.Now().After(w.alone[w.Service.Name()]) {
		for len(w.seeds) > 0 {
			n := w.seeds[0]
			w.seeds = w.seeds[1:]
			if n >= 0 && n < len(w.pieces) && !w.have[n] && !w.flying[n] {
				w.ask(ctx, n, w.Service)
				return true
			}
		}
	}
	n, peer := w.rarest()
	if peer == nil {
		return false
	}
	w.ask(ctx, n, peer)
	return true
}

// rarest returns the missing piece that the fewest peers have, of those that one has
// who is not busy, and that peer.
func (w *fetcher) rarest() (piece int, from Source) {
	now := time.Now()
	best, ties := len(w.plan.Peers)+1, 0
	for n := range w.pieces {
		if w.have[n] || w.flying[n] {
			continue
		}
		holders, free := 0, -1
		for i, p := range w.plan.Peers {
			if n >= len(p.Have) || !p.Have[n] {
				continue
			}
			holders++
			if w.load[p.Name()] < atOncePeer && now.After(w.alone[p.Name()]) &&
				(free < 0 || w.load[p.Name()] < w.load[w.plan.Peers[free].Name()]) {
				free = i
			}
		}
		if free < 0 || holders > best {
			continue
		}
		if holders < best {
			best, ties = holders, 0
		}
		if ties++; rand.IntN(ties) == 0 { // each of those that are as rare is as likely
			piece, from = n, w.plan.Peers[free].Source
		}
	}
	return piece, from
}

// ask asks a source for a piece.
func (w *fetcher) ask(ctx context.Context, n int, from Source) {
	w.flying[n] = true
	w.load[from.Name()]++
	p := w.pieces[n]
	go func() {
		_, length := p.Range(p.i)
		ctx, cancel := context.WithTimeout(ctx, leastPatience+time.Duration(length/leastRate)*time.Second)
		defer cancel()
		data, err := from.Piece(ctx, p.Content, p.i)
		w.got <- arrival{n, from.Name(), data, err}
	}()
}

// take takes in what came. The error says that going on makes no sense.
func (w *fetcher) take(a arrival) error {
	w.flying[a.piece] = false
	w.load[a.source]--
	p := w.pieces[a.piece]
	if a.err == nil {
		a.err = w.Store.PutPiece(p.Content, p.i, a.data)
		if a.err != nil && !errors.Is(a.err, ErrWrongPiece) {
			return a.err
		}
	}
	if a.err == nil {
		w.have[a.piece] = true
		w.left--
		w.failed[a.source] = 0
		if a.source == w.Service.Name() {
			w.refused = 0
		}
		w.given[a.source] += len(a.data)
		return nil
	}
	w.lastErr = a.err
	if a.source == w.Service.Name() {
		w.refused++
		w.alone[a.source] = time.Now().Add(min(time.Duration(w.refused)*100*time.Millisecond, 5*time.Second))
		if errors.Is(a.err, ErrNotHere) && w.refused > mostRefusals && len(w.plan.Peers) == 0 {
			return fmt.Errorf("neither the service nor any node has all of the bundle: %w", a.err)
		}
		return nil
	}
	w.failed[a.source]++
	if w.failed[a.source] >= mostFailures || errors.Is(a.err, ErrWrongPiece) ||
		errors.Is(a.err, context.DeadlineExceeded) {
		w.failed[a.source] = 0
		w.alone[a.source] = time.Now().Add(leftAlone)
		if w.Bad != nil {
			w.Bad(a.source, a.err)
		}
	}
	return nil
}

// tell tells how far it is.
func (w *fetcher) tell() {
	if w.Told == nil {
		return
	}
	p := Progress{}
	for n, piece := range w.pieces {
		_, length := piece.Range(piece.i)
		p.Of += length
		if w.have[n] {
			p.Bytes += length
		}
	}
	for name := range w.given {
		p.From = append(p.From, name)
	}
	slices.SortFunc(p.From, func(a, b string) int { return w.given[b] - w.given[a] })
	if time.Since(w.since) > 2*time.Second {
		w.since = time.Now()
		clear(w.given)
	}
	w.Told(p)
}
