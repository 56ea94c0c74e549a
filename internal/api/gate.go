package api

import (
	"context"
	"errors"
	"io"
	"net/http"
	"strconv"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

// What anybody can make the service do before signing in is bounded here.

// Bounds before sign-in. Only failures use up an allowance, so that the right
// password is not refused for the guesses of others: those are counted by
// address and name, and by address.
const (
	pairBurst    = 8 // failures for a name from an address at once
	pairEvery    = 5 * time.Second
	addressBurst = 60 // failures from an address at once
	addressEvery = 500 * time.Millisecond
	mostWatched  = 10_000 // addresses and pairs that are remembered

	hashesAtOnce = 4 // 19 MiB each
	hashesWait   = 256
	hashPatience = 10 * time.Second

	bodiesAtOnce   = 256 // that strangers are sending
	bodiesOfOne    = 32  // from one address
	bodyPatience   = 20 * time.Second
	uploadPatience = 2 * time.Minute
)

// gate is what stands between strangers and the service.
type gate struct {
	hashing chan struct{} // one slot for each password that is looked at
	waiting chan struct{}

	mu      sync.Mutex
	pairs   map[string]*rate.Limiter // failures by address and name
	from    map[string]*rate.Limiter // failures by address
	known   map[string]bool          // address and name of those who have signed in
	bodies  int
	sending map[string]int
	failed  map[string]*failures // not on record yet
}

// failures counts those of a name from an address since the last was put on
// record.
type failures struct {
	count int
	told  time.Time
}

func newGate() *gate {
	return &gate{
		hashing: make(chan struct{}, hashesAtOnce), waiting: make(chan struct{}, hashesWait),
		pairs: map[string]*rate.Limiter{}, from: map[string]*rate.Limiter{}, known: map[string]bool{},
		sending: map[string]int{}, failed: map[string]*failures{},
	}
}

func pair(address, name string) string { return address + " " + name }

func limiterOf(of map[string]*rate.Limiter, key string, every time.Duration, burst int) *rate.Limiter {
	if len(of) >= mostWatched { // forget everybody rather than grow without end
		clear(of)
	}
	if of[key] == nil {
		of[key] = rate.NewLimiter(rate.Every(every), burst)
	}
	return of[key]
}

// may reports whether somebody at an address may try to sign in under a name.
func (g *gate) may(address, name string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	if limiterOf(g.pairs, pair(address, name), pairEvery, pairBurst).Tokens() < 1 {
		return false
	}
	return g.known[pair(address, name)] || limiterOf(g.from, address, addressEvery, addressBurst).Tokens() >= 1
}

// passed notes that somebody has come in.
func (g *gate) passed(address, name string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.known) >= mostWatched {
		clear(g.known)
	}
	g.known[pair(address, name)] = true
	delete(g.pairs, pair(address, name))
}

// turnedAway notes that somebody has not. It returns how many such tries shall be
// put on record now: the first at once, then one line a minute.
func (g *gate) turnedAway(address, name string, now time.Time) (record int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	key := pair(address, name)
	limiterOf(g.pairs, key, pairEvery, pairBurst).Allow()
	limiterOf(g.from, address, addressEvery, addressBurst).Allow()
	if len(g.failed) >= mostWatched {
		clear(g.failed)
	}
	f := g.failed[key]
	if f == nil {
		f = &failures{}
		g.failed[key] = f
	}
	f.count++
	if now.Sub(f.told) < time.Minute {
		return 0
	}
	record, f.count, f.told = f.count, 0, now
	return record
}

var errBusy = errors.New("too many passwords are being checked; try again in a moment")

// hash looks at a password once there is a slot for it.
func (g *gate) hash(ctx context.Context, look func() error) error {
	select {
	case g.waiting <- struct{}{}:
		defer func() { <-g.waiting }()
	default:
		return errBusy
	}
	ctx, cancel := context.WithTimeout(ctx, hashPatience)
	defer cancel()
	select {
	case g.hashing <- struct{}{}:
		defer func() { <-g.hashing }()
	case <-ctx.Done():
		return errBusy
	}
	return look()
}

// enter lets a stranger at an address send a body; leave ends it.
func (g *gate) enter(address string) (leave func(), ok bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.bodies >= bodiesAtOnce || g.sending[address] >= bodiesOfOne {
		return nil, false
	}
	g.bodies++
	g.sending[address]++
	return func() {
		g.mu.Lock()
		defer g.mu.Unlock()
		g.bodies--
		if g.sending[address]--; g.sending[address] == 0 {
			delete(g.sending, address)
		}
	}, true
}

// timed bounds the time that the body of a request may take, whichever handler reads it.
func timed(w http.ResponseWriter, r *http.Request, patience time.Duration) {
	if r.Body == nil || r.Body == http.NoBody {
		return
	}
	rc := http.NewResponseController(w)
	if rc.SetReadDeadline(time.Now().Add(patience)) == nil {
		r.Body = &timedBody{r.Body, rc}
	}
}

// timedBody takes the limit away when all is read: what follows on the line is
// not the body's.
type timedBody struct {
	io.ReadCloser
	rc *http.ResponseController
}

// Read implements io.Reader.
func (b *timedBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if errors.Is(err, io.EOF) {
		_ = b.rc.SetReadDeadline(time.Time{})
	}
	return n, err
}

// retryAfter tells a client when to come again.
func retryAfter(w http.ResponseWriter, d time.Duration) {
	w.Header().Set("Retry-After", strconv.Itoa(int(d.Seconds())))
}
