// Package crowd pretends to be many nodes in one process, to load a service:
// they enrol, give signs of life, wait for orders, ask for work, and report
// frames that were never rendered. What they report is made up, so a farm that
// has met a crowd is good for nothing else.
//
// It speaks the protocol of nodes by internal/wire and shares nothing else
// with them.
package crowd

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"vexillum/internal/client"
	"vexillum/internal/core/frames"
	"vexillum/internal/wire"
)

// Options says how large a crowd is and what it does.
type Options struct {
	Service string // address
	Key     string // with a use for each
	Nodes   int
	Beat    time.Duration // between signs of life
	Frame   time.Duration // that a node of speed 1 pretends to render a frame
}

// Crowd is many pretended nodes.
type Crowd struct {
	o       Options
	beats   latencies
	asks    latencies // from an ask that found work at once to its lease
	frames  atomic.Int64
	leases  atomic.Int64
	failed  atomic.Int64 // calls
	members []*member
}

type member struct {
	c       *Crowd
	client  *client.Client
	speed   float64
	session int64
	mu      sync.Mutex
	doing   *wire.Progress
	sampled time.Time // when it last told what it measures
}

// Figures is what a crowd has met since the last call of Figures.
type Figures struct {
	Beats, Leases, Frames, Failed int64
	BeatP99, AskP99               time.Duration
}

// Join enrols all nodes of a crowd.
func Join(ctx context.Context, o Options) (*Crowd, error) {
	c := &Crowd{o: o, members: make([]*member, o.Nodes)}
	work := make(chan int)
	trouble := make(chan error, 1)
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	var wg sync.WaitGroup
	for range 16 {
		wg.Go(func() {
			for i := range work {
				m, err := c.join(ctx, i)
				if err != nil {
					select {
					case trouble <- err:
						stop()
					default:
					}
					continue
				}
				c.members[i] = m
			}
		})
	}
	for i := range o.Nodes {
		select {
		case work <- i:
		case <-ctx.Done():
		}
	}
	close(work)
	wg.Wait()
	select {
	case err := <-trouble:
		return nil, err
	default:
		return c, nil
	}
}

func (c *Crowd) join(ctx context.Context, i int) (*member, error) {
	cl, err := client.New(c.o.Service, "")
	if err != nil {
		return nil, err
	}
	m := &member{c: c, speed: 0.5 + float64(i%8)/4}
	facts := wire.Facts{
		OS: "linux", System: "made up", Cores: 8, Memory: 32 << 30, Speed: m.speed,
		Version: "0.1.0", Renderers: []wire.Renderer{{Recipe: "practice", Version: "1.0"}},
	}
	var enrolled wire.Enrolled
	if err := cl.Do(
		ctx, http.MethodPost, "/node/v1/enrol",
		wire.Enrol{Key: c.o.Key, Name: fmt.Sprintf("crowd-%05d", i), Kind: "rack", Facts: facts}, &enrolled,
	); err != nil {
		return nil, fmt.Errorf("enrolling node %d of the crowd: %w", i, err)
	}
	m.client = cl.WithToken(enrolled.Token)
	var started wire.Started
	if err := m.client.Do(ctx, http.MethodPost, "/node/v1/start", wire.Start{Facts: facts}, &started); err != nil {
		return nil, fmt.Errorf("starting node %d of the crowd: %w", i, err)
	}
	m.session = started.Session
	return m, nil
}

// Run lets the crowd work until the context ends.
func (c *Crowd) Run(ctx context.Context) {
	var wg sync.WaitGroup
	for _, m := range c.members {
		wg.Go(func() { m.beat(ctx) })
		wg.Go(func() { m.obey(ctx) })
		wg.Go(func() { m.work(ctx) })
	}
	wg.Wait()
}

// Figures returns what was met since it was last called.
func (c *Crowd) Figures() Figures {
	beats, beatP99 := c.beats.take()
	_, askP99 := c.asks.take()
	return Figures{
		Beats: beats, Leases: c.leases.Swap(0), Frames: c.frames.Swap(0), Failed: c.failed.Swap(0),
		BeatP99: beatP99, AskP99: askP99,
	}
}

// call counts what goes wrong; the crowd does not mind.
func (m *member) call(ctx context.Context, path string, limit time.Duration, in, out any) bool {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	err := m.client.Do(ctx, http.MethodPost, path, in, out)
	if err != nil && !errors.Is(err, context.Canceled) {
		m.c.failed.Add(1)
	}
	return err == nil
}

func wait(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

func (m *member) beat(ctx context.Context) {
	wait(ctx, time.Duration(rand.Int64N(int64(m.c.o.Beat)))) // not all at once
	for ctx.Err() == nil {
		now, free := time.Now(), int64(100<<30)
		in := wire.Beat{
			Session: m.session, Leases: []wire.Progress{}, Processor: rand.Float64(), Memory: 0.3,
			Now: &now, DiskFree: &free, DiskTotal: 500 << 30,
		}
		m.mu.Lock()
		if m.doing != nil {
			in.Leases = append(in.Leases, *m.doing)
		}
		m.mu.Unlock()
		if time.Since(m.sampled) >= 5*time.Second {
			m.sampled = now
			r := rand.Float64
			in.Sample = &wire.Sample{
				Processor: in.Processor, Groups: []float64{r(), r(), r(), r(), r(), r(), r(), r()},
				Memory: r() * 30e9, DiskFree: 1e11 * r(), DiskRead: 1e8 * r(), DiskWritten: 1e8 * r(),
				Received: 1e8 * r(), Sent: 1e8 * r(), Load: 16 * r(), Temperature: 40 + 30*r(),
			}
		}
		begin := time.Now()
		if m.call(ctx, "/node/v1/beat", 10*time.Second, in, nil) {
			m.c.beats.add(time.Since(begin))
		}
		wait(ctx, m.c.o.Beat)
	}
}

func (m *member) obey(ctx context.Context) {
	var known []int64 // errands
	for ctx.Err() == nil {
		in := wire.Orders{Session: m.session, Leases: []int64{}, Seconds: 25, Errands: known}
		m.mu.Lock()
		if m.doing != nil {
			in.Leases = append(in.Leases, m.doing.Lease)
		}
		m.mu.Unlock()
		var out wire.Ordered
		if !m.call(ctx, "/node/v1/orders", 35*time.Second, in, &out) || len(out.Stop)+len(out.Trim) > 0 {
			for _, q := range out.Trim { // it gives nothing back
				m.call(
					ctx, "/node/v1/trimmed", 10*time.Second, wire.Trimmed{Session: m.session, ID: q.ID, Lease: q.Lease},
					nil,
				)
			}
			wait(ctx, time.Second)
		}
		for _, e := range out.Errands {
			known = append(known, e.ID)
			m.answer(ctx, e)
		}
	}
}

// answer answers an errand: all is as it should be.
func (m *member) answer(ctx context.Context, e wire.Errand) {
	told := wire.ErrandTold{Session: m.session, ID: e.ID, Done: true, Error: "a pretended node does no such errand"}
	if e.Check != nil {
		told.Error, told.Checked = "", &wire.Checked{Now: time.Now()}
		for _, question := range []string{
			wire.AskScene, wire.AskOutput, wire.AskRenderer, wire.AskAccount, wire.AskDisk,
		} {
			told.Checked.Answers = append(
				told.Checked.Answers, wire.PreflightAnswer{Question: question, Passes: true, Says: "pretended"},
			)
		}
	}
	m.call(ctx, "/node/v1/errands", 10*time.Second, told, nil)
}

func (m *member) work(ctx context.Context) {
	var ended []wire.Ended
	for number := int64(1); ctx.Err() == nil; number++ {
		var a wire.Answer
		begin := time.Now()
		if !m.call(
			ctx, "/node/v1/ask", 35*time.Second,
			wire.Ask{Session: m.session, Number: number, Seconds: 25, Ended: ended}, &a,
		) {
			number--
			wait(ctx, time.Second)
			continue
		}
		if a.Again {
			number--
			continue
		}
		ended = nil
		if len(a.Leases) == 0 {
			continue
		}
		if took := time.Since(begin); took < time.Second { // the others waited for work
			m.c.asks.add(took)
		}
		for i := range a.Leases {
			m.c.leases.Add(1)
			m.render(ctx, &a.Leases[i])
			ended = append(ended, wire.Ended{Lease: a.Leases[i].ID, Message: "has finished its frames"})
		}
	}
}

// render pretends to render the frames of a lease.
func (m *member) render(ctx context.Context, l *wire.Lease) {
	var set frames.Set
	if set.UnmarshalText([]byte(l.Frames)) != nil {
		return
	}
	for f := range set.All() {
		m.mu.Lock()
		m.doing = &wire.Progress{Lease: l.ID, Frame: &f, Phase: "rendering", Fraction: 0.5}
		m.mu.Unlock()
		took := time.Duration(float64(m.c.o.Frame) / m.speed * (0.8 + 0.4*rand.Float64()))
		wait(ctx, took)
		item := wire.ReportItem{
			Outcome: wire.OutcomeGood, Lease: l.ID, Launch: 1, Frame: f,
			Hash: strings.Repeat("0", 64), Bytes: 1 << 20, RenderSeconds: took.Seconds(),
		}
		var out wire.Reported
		if ctx.Err() != nil ||
			!m.call(
				ctx, "/node/v1/report", 10*time.Second, wire.Report{Session: m.session, Items: []wire.ReportItem{item}},
				&out,
			) {
			break
		}
		if len(out.Verdicts) == 1 && out.Verdicts[0].Verdict == wire.VerdictDeliver {
			if err := put(l, f, item.Bytes); err != nil {
				m.c.failed.Add(1)
			}
			item.Outcome = wire.OutcomeDelivered
			m.call(
				ctx, "/node/v1/report", 10*time.Second, wire.Report{Session: m.session, Items: []wire.ReportItem{item}},
				&out,
			)
			m.c.frames.Add(1)
		}
	}
	m.mu.Lock()
	m.doing = nil
	m.mu.Unlock()
}

// put makes a file of nothing where a frame belongs: the service looks for it.
func put(l *wire.Lease, frame int, size int64) error {
	folder := filepath.Join(l.OutputRoot, filepath.FromSlash(l.Output))
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	file, err := os.Create(filepath.Join(folder, l.FilePrefix+frames.Name(frame, l.Digits)+l.FileEnding))
	if err != nil {
		return err
	}
	return errors.Join(file.Truncate(size), file.Close())
}

// latencies gathers how long calls took.
type latencies struct {
	mu  sync.Mutex
	all []time.Duration
}

func (l *latencies) add(d time.Duration) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.all = append(l.all, d)
}

// take returns the count and the 99th percentile, and begins again.
func (l *latencies) take() (count int64, p99 time.Duration) {
	l.mu.Lock()
	defer l.mu.Unlock()
	slices.Sort(l.all)
	if n := len(l.all); n > 0 {
		count, p99 = int64(n), l.all[n*99/100]
	}
	l.all = nil
	return count, p99
}
