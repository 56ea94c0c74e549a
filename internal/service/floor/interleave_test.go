package floor

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
	"vexillum/internal/recipe"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// TestInterleavings lets nodes, their lines, their machines and the service
// fail at random while a run is rendered, and looks that the promises of the
// protocol hold: accepted at most once, published only if accepted, nothing
// acknowledged forgotten, no lease for ever. VEXILLUM_SEEDS sets how many
// courses are tried.
func TestInterleavings(t *testing.T) {
	seeds := 250
	if n, err := strconv.Atoi(os.Getenv("VEXILLUM_SEEDS")); err == nil {
		seeds = n
	}
	total := map[string]int{}
	for seed := range uint64(seeds) {
		ok := true
		synctest.Test(t, func(t *testing.T) {
			c := newCourse(t, seed)
			c.play()
			for what, n := range c.met {
				total[what] += n
			}
			ok = !t.Failed()
		})
		if !ok {
			t.Fatalf("seed %d", seed)
		}
	}
	t.Logf("%d courses met %v", seeds, total)
	for _, what := range []string{"service crash", "commit unknown", "node crash", "machine crash", "lease forgotten", "request lost", "answer lost", "said twice", "adopted", "trimmed", "discarded", "late", "side by side", "copy late", "asked again"} {
		if total[what] == 0 && seeds >= 100 {
			t.Errorf("no course met %q: that was not tried", what)
		}
	}
}

// TestLateCopiesLoseNothing lets copies of asks come late, and nothing else go
// wrong, while work comes and goes: every lease arrives at its node.
func TestLateCopiesLoseNothing(t *testing.T) {
	late := 0
	for seed := range uint64(50) {
		synctest.Test(t, func(t *testing.T) {
			c := newCourse(t, seed)
			c.only = "copy late"
			ctx, stop := context.WithCancel(t.Context())
			defer stop()
			go c.onAndOff(ctx)
			c.play()
			late += c.met[c.only]
			for _, r := range c.disk {
				if ended, ok := r.(farm.LeaseEnded); ok && strings.Contains(ended.Reason, "knows nothing") {
					t.Errorf("seed %d: %s", seed, ended.Reason)
				}
			}
		})
	}
	if late < 50 {
		t.Errorf("only %d copies came late", late)
	}
}

// onAndOff holds and releases the run again and again while things go wrong.
func (c *course) onAndOff(ctx context.Context) {
	for ctx.Err() == nil {
		for _, what := range []queue.Steering{queue.Hold, queue.Release} {
			sleep(ctx, c.some(200*time.Millisecond))
			c.mu.Lock()
			f := c.floor
			if c.calm {
				what = queue.Release
			}
			c.mu.Unlock()
			if f != nil {
				_, _ = f.Queue.Steer(ctx, 1, what, queue.How{}, farm.Person{Name: "admin", Role: farm.Admin})
			}
		}
	}
}

// course is one life of a small farm with all that may go wrong.
type course struct {
	t    *testing.T
	book recipe.Book

	mu      sync.Mutex
	r       *rand.Rand
	disk    []farm.Record // what is committed
	floor   *Floor
	epoch   int64
	place   map[int]string // frame to hash: what stands in the frame place
	met     map[string]int
	calm    bool   // nothing goes wrong any more
	only    string // what alone may go wrong; empty for all
	trouble []string
}

const interleavedFrames = 12

func newCourse(t *testing.T, seed uint64) *course {
	book, err := recipe.Builtin()
	if err != nil {
		t.Fatal(err)
	}
	return &course{t: t, book: book, r: rand.New(rand.NewPCG(seed, 7)), place: map[int]string{}, met: map[string]int{}}
}

// chance reports true once in n times, and counts what happens then.
func (c *course) chance(n int, what string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.calm || c.only != "" && what != c.only || c.r.IntN(n) != 0 {
		return false
	}
	c.met[what]++
	return true
}

func (c *course) some(most time.Duration) time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	return time.Duration(c.r.Int64N(int64(most)))
}

func (c *course) saw(what string) {
	c.mu.Lock()
	c.met[what]++
	c.mu.Unlock()
}

func (c *course) wrong(format string, args ...any) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.trouble = append(c.trouble, fmt.Sprintf(format, args...))
}

// Commit implements Committer. Its outcome may be unknown to the service.
func (b *courseBatch) Commit(records []farm.Record) error {
	time.Sleep(b.c.some(4 * time.Millisecond))
	b.c.mu.Lock()
	defer b.c.mu.Unlock()
	if b.epoch != b.c.epoch {
		return errors.New("deposed")
	}
	if !b.c.calm && b.c.only == "" && b.c.r.IntN(150) == 0 {
		b.c.met["commit unknown"]++
		if b.c.r.IntN(2) == 0 {
			b.c.disk = append(b.c.disk, records...)
		}
		b.c.epoch++ // the one that goes on is another one
		return errors.New("the line broke in the middle of a commit")
	}
	b.c.disk = append(b.c.disk, records...)
	return nil
}

// courseBatch is the right of one service to commit.
type courseBatch struct {
	c     *course
	epoch int64
}

func (b *courseBatch) Confirm() error {
	b.c.mu.Lock()
	defer b.c.mu.Unlock()
	if b.epoch != b.c.epoch {
		return errors.New("deposed")
	}
	return nil
}

// serve keeps a service going, each loaded from what was committed, until the
// context ends.
func (c *course) serve(ctx context.Context) {
	for ctx.Err() == nil {
		c.mu.Lock()
		c.epoch++
		state := farm.NewState()
		for _, r := range c.disk {
			if err := state.Apply(r); err != nil {
				c.trouble = append(c.trouble, "what was committed contradicts itself: "+err.Error())
				c.mu.Unlock()
				return
			}
		}
		f := New(Options{State: state, Pace: pace.New(), Committer: &courseBatch{c, c.epoch}, Recipes: c.book,
			Log: slog.New(slog.DiscardHandler), Now: time.Now, Active: wire.Active{Epoch: c.epoch}})
		c.floor = f
		c.mu.Unlock()
		living, kill := context.WithCancel(ctx)
		go func() {
			for living.Err() == nil {
				sleep(living, time.Second+c.some(20*time.Second))
				if c.chance(6, "service crash") {
					kill()
				}
			}
		}()
		if err := f.Run(living); err != nil && strings.Contains(err.Error(), "contradicts") {
			c.wrong("a service decided what cannot be: %v", err)
		}
		kill()
		c.mu.Lock()
		c.floor = nil
		c.mu.Unlock()
		sleep(ctx, c.some(5*time.Second))
	}
}

func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

var errAway = errors.New("no answer")

// call brings a request to the service over a bad line: it may get lost, or
// its answer, or arrive twice. It is repeated until there is an answer; an
// error is the service's refusal or the context's.
func (c *course) call(ctx context.Context, cut *bool, do func(f *Floor) error) error {
	for ctx.Err() == nil {
		err := c.once(ctx, cut, do)
		var no *refusal.Refusal
		if err == nil || errors.As(err, &no) {
			return err
		}
		sleep(ctx, 100*time.Millisecond+c.some(time.Second))
	}
	return ctx.Err()
}

func (c *course) once(ctx context.Context, cut *bool, do func(f *Floor) error) error {
	sleep(ctx, c.some(50*time.Millisecond))
	c.mu.Lock()
	f, dead := c.floor, *cut && !c.calm
	c.mu.Unlock()
	if f == nil || dead || c.chance(25, "request lost") {
		return errAway
	}
	if c.chance(25, "said twice") {
		_ = do(f)
		sleep(ctx, c.some(time.Second))
	}
	err := do(f)
	if c.chance(25, "answer lost") {
		return errAway
	}
	return err
}

// leaseIn returns a lease as it was committed.
func leaseIn(c *course, id farm.LeaseID) *farm.Lease {
	c.mu.Lock()
	defer c.mu.Unlock()
	var l *farm.Lease
	for _, r := range c.disk {
		switch r := r.(type) {
		case farm.LeaseOpened:
			if r.Lease == id {
				l = &farm.Lease{ID: id}
			}
		case farm.LeaseEnded:
			if r.Lease == id && l != nil {
				l.EndedAt = r.At
			}
		}
	}
	return l
}

// play runs the course to its end and looks at what came of it.
func (c *course) play() {
	ctx, stop := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	set := frames.Of(frames.Span{First: 1, Last: interleavedFrames})
	var takes farm.Amounts
	if c.chance(2, "cores dealt out") {
		takes = farm.Amounts{Cores: 1, MemoryBytes: 1 << 20}
	}
	c.disk = []farm.Record{
		farm.PlaceSet{Name: "scenes", Paths: map[string]string{"linux": "/scenes"}},
		farm.PlaceSet{Name: "frames", Paths: map[string]string{"linux": "/frames"}},
		farm.ProjectSet{Name: "salt-clock", Weight: 1, Scenes: "scenes", Frames: "frames"},
		farm.KeyIssued{Hash: "k", Uses: 9, ExpiresAt: time.Now().Add(time.Hour)},
		farm.RunSubmitted{Run: 1, State: farm.RunQueued, At: time.Now(), Spec: farm.Spec{
			Job: "a", Project: "salt-clock", Kind: farm.Final, Number: 1, Recipe: "practice",
			Mode: farm.ModeRange, Frames: set, Takes: takes, Tries: 3,
		}},
	}
	var machines []*machine
	for i := range 3 {
		name := fmt.Sprintf("kiln-%02d", i+1)
		c.disk = append(c.disk, farm.NodeEnrolled{Node: farm.NodeID(i + 1), Name: name, KeyHash: "k", At: time.Now()})
		machines = append(
			machines, &machine{c: c, name: name, id: farm.NodeID(i + 1), held: map[farm.LeaseID]*holding{}},
		)
	}
	wg.Go(func() { c.serve(ctx) })
	for _, m := range machines {
		wg.Go(func() { m.live(ctx) })
	}
	time.Sleep(time.Duration(60+c.some(240)) * time.Second)
	c.mu.Lock()
	c.calm = true
	c.mu.Unlock()
	for deadline := time.Now().Add(3 * time.Hour); !c.finished() && len(c.trouble) == 0; time.Sleep(time.Second) {
		if time.Now().After(deadline) {
			c.wrong("the run does not come to an end")
		}
	}
	stop()
	wg.Wait()
	time.Sleep(time.Minute) // renderers notice
	c.check()
	for _, text := range c.trouble {
		c.t.Error(text)
	}
}

func (c *course) finished() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.ContainsFunc(
		c.disk, func(r farm.Record) bool { m, ok := r.(farm.RunMoved); return ok && m.State.Closed() },
	)
}

// check looks at what was committed and what stands in the place.
func (c *course) check() {
	state := farm.NewState()
	accepted, done := map[string]bool{}, map[int]string{}
	for _, r := range c.disk {
		if err := state.Apply(r); err != nil {
			c.wrong("what was committed contradicts itself: %v", err)
			return
		}
		switch r := r.(type) {
		case farm.FrameAccepted:
			accepted[fmt.Sprint(r.Frame, r.Hash)] = true
		case farm.FrameDone:
			if done[r.Frame] != "" {
				c.wrong("frame %d was done twice", r.Frame)
			}
			if !accepted[fmt.Sprint(r.Frame, r.Hash)] {
				c.wrong("frame %d is done as %s, which was never accepted", r.Frame, r.Hash)
			}
			done[r.Frame] = r.Hash
		}
	}
	run := state.Runs[1]
	if run.State != farm.RunDone {
		c.wrong("the run is %s: %s", run.State, run.Reason)
	}
	for f := 1; f <= interleavedFrames; f++ {
		if done[f] == "" || c.place[f] != done[f] {
			c.wrong("frame %d is done as %q, and %q stands in its place", f, done[f], c.place[f])
		}
	}
	for f, hash := range c.place {
		if !accepted[fmt.Sprint(f, hash)] {
			c.wrong("%s was published as frame %d and never accepted", hash, f)
		}
	}
	for _, n := range state.Nodes {
		for _, l := range state.LeasesOf(n.ID) {
			c.wrong("lease %d is open at the end", l.ID)
		}
	}
}
