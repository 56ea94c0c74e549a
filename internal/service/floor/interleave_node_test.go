package floor

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/protocol/accept"
	"vexillum/internal/core/protocol/journal"
	"vexillum/internal/service/fleet"
)

// machine is a node with its disk. What is in held outlives its process;
// renderers outlive the process, but not the machine.
type machine struct {
	c        *course
	name     string
	id       farm.NodeID
	held     map[farm.LeaseID]*holding
	cut      bool // its line is cut
	launches int
}

// holding is what the disk of a machine keeps of a lease: what a journal reports
// is the same as in a real node.
type holding struct {
	lease farm.LeaseID
	mine  frames.Set // wanted from the lease when the process started, or it was given
	held  *journal.Lease
	stop  context.CancelFunc // of the renderer; nil when none runs
	said  []journal.Entry    // by the renderer, and not read yet: a launcher keeps it
}

// end ends the renderer; what it has not finished is begun again, if at all.
func (h *holding) end() {
	if h.stop != nil {
		h.stop()
	}
	h.stop, h.said = nil, nil
	if running := h.held.Running(); running != nil {
		h.held.Note(journal.Entry{Do: journal.Over, Launch: running.Number})
	}
}

// flying returns the frame that is rendered.
func (h *holding) flying() (frame int, ok bool) {
	if running := h.held.Running(); running != nil {
		return running.InFlight()
	}
	return 0, false
}

// live runs node processes of the machine, one after the other.
func (m *machine) live(ctx context.Context) {
	for ctx.Err() == nil {
		process, kill := context.WithCancel(ctx)
		go func() {
			for process.Err() == nil {
				sleep(process, time.Second+m.c.some(20*time.Second))
				switch {
				case m.c.chance(8, "node crash"):
					kill()
				case m.c.chance(16, "machine crash"):
					m.c.mu.Lock()
					for _, h := range m.held {
						h.end() // a new process finds the renderer gone
					}
					m.c.mu.Unlock()
					kill()
				case m.c.chance(8, "line cut"):
					m.setCut(true)
					sleep(process, m.c.some(2*time.Minute))
					m.setCut(false)
				}
			}
		}()
		m.process(ctx, process)
		kill()
		m.setCut(false)
		sleep(ctx, m.c.some(30*time.Second))
	}
}

func (m *machine) setCut(cut bool) {
	m.c.mu.Lock()
	m.cut = cut
	m.c.mu.Unlock()
}

// process is one node process: it starts a session with what is held, goes on
// with that, and asks for more.
func (m *machine) process(machine, ctx context.Context) {
	facts := farm.Facts{OS: "linux", Speed: 1, Cores: 3, Renderers: []farm.Renderer{{Recipe: "practice"}}}
	var session fleet.Session
	var holds []farm.LeaseID
	m.c.mu.Lock()
	for id := range m.held {
		holds = append(holds, id)
	}
	m.c.mu.Unlock()
	if m.c.call(ctx, &m.cut, func(f *Floor) (err error) {
		session, err = f.Fleet.Start(ctx, m.id, facts, holds, nil)
		return err
	}) != nil {
		return
	}
	var wg sync.WaitGroup
	defer wg.Wait()
	ctx, end := context.WithCancel(ctx)
	defer end()
	wg.Go(func() {
		for ctx.Err() == nil {
			if m.c.call(
				ctx, &m.cut, func(f *Floor) error { return f.Fleet.Beat(ctx, m.id, session.Number, m.beat()) },
			) != nil {
				end()
				return
			}
			sleep(ctx, 5*time.Second)
		}
	})
	wg.Go(func() { m.obey(ctx, session.Number) })
	ended := make(chan struct{}, 100)
	working := 0
	begin := func(h *holding) {
		working++
		wg.Go(func() {
			if m.work(machine, ctx, h, session.Number) != nil {
				end()
			}
			ended <- struct{}{}
		})
	}
	for _, id := range holds {
		left, goesOn := session.Keep[id]
		m.c.mu.Lock()
		h := m.held[id]
		h.mine = left
		if goesOn {
			m.c.met["adopted"]++
		} else {
			h.end()
		}
		m.c.mu.Unlock()
		begin(h)
	}
	more := true
	for number := int64(1); ctx.Err() == nil; number++ {
		for working > 0 && !more {
			select {
			case <-ended:
				working--
				more = true
			case <-ctx.Done():
				return
			}
		}
		var a fleet.Answer
		if m.c.chance(3, "copy late") {
			wg.Go(func() { m.askLate(ctx, session.Number, number) })
		}
		if m.c.call(ctx, &m.cut, func(f *Floor) (err error) {
			waiting, cancel := context.WithTimeout(ctx, 20*time.Second)
			defer cancel()
			a, err = f.Fleet.Ask(waiting, m.id, fleet.Question{Session: session.Number, Number: number})
			return err
		}) != nil {
			return
		}
		if a.Again {
			m.c.saw("asked again")
			number--
			continue
		}
		more = a.More
		for _, l := range a.Leases {
			m.c.acknowledged(func(r farm.Record) bool {
				o, ok := r.(farm.LeaseOpened)
				return ok && o.Lease == l.ID && o.Node == m.id
			}, "lease %d", l.ID)
			if m.c.chance(8, "lease forgotten") { // it dies before it has written it down
				return
			}
			h := &holding{lease: l.ID, mine: l.Frames, held: journal.New()}
			m.c.mu.Lock()
			m.held[h.lease] = h
			if working > 0 {
				m.c.met["side by side"]++
			}
			m.c.mu.Unlock()
			begin(h)
		}
	}
}

// askLate lets a copy of an ask come late. Its sender has gone.
func (m *machine) askLate(ctx context.Context, session, number int64) {
	sleep(ctx, m.c.some(3*time.Second))
	m.c.mu.Lock()
	f := m.c.floor
	m.c.mu.Unlock()
	if f == nil {
		return
	}
	waiting, cancel := context.WithTimeout(ctx, m.c.some(2*time.Second))
	defer cancel()
	_, _ = f.Fleet.Ask(waiting, m.id, fleet.Question{Session: session, Number: number})
}

// acknowledged looks that something which was answered is committed.
func (c *course) acknowledged(is func(farm.Record) bool, what string, args ...any) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !slices.ContainsFunc(c.disk, is) {
		c.trouble = append(c.trouble, fmt.Sprintf(what, args...)+" was answered and is not committed")
	}
}

func (m *machine) beat() fleet.Beat {
	m.c.mu.Lock()
	defer m.c.mu.Unlock()
	b := fleet.Beat{Leases: map[farm.LeaseID]fleet.Progress{}}
	for id, h := range m.held {
		var p fleet.Progress
		if f, ok := h.flying(); ok {
			p.Frame = &f
		}
		for _, done := range h.held.Unsettled() {
			p.Verifying = append(p.Verifying, done.Frame)
		}
		b.Leases[id] = p
	}
	return b
}

// obey carries orders out.
func (m *machine) obey(ctx context.Context, session int64) {
	for ctx.Err() == nil {
		var leases []farm.LeaseID
		m.c.mu.Lock()
		for id := range m.held {
			leases = append(leases, id)
		}
		m.c.mu.Unlock()
		var o fleet.Orders
		if m.c.call(ctx, &m.cut, func(f *Floor) (err error) {
			waiting, cancel := context.WithTimeout(ctx, 3*time.Second)
			defer cancel()
			o, err = f.Fleet.Orders(waiting, m.id, session, fleet.OrdersAsked{Leases: leases, Caps: 0})
			return err
		}) != nil {
			return
		}
		for _, s := range o.Stop {
			m.c.mu.Lock()
			if h := m.held[s.Lease]; h != nil {
				h.mine = frames.Set{}
				if s.Now {
					h.end()
				}
			}
			m.c.mu.Unlock()
		}
		for _, q := range o.Trim {
			var given frames.Set
			m.c.mu.Lock()
			if h := m.held[q.Lease]; h != nil {
				var again bool
				if given, again = h.held.Give(q.ID, q.Frames, h.mine, frames.Set{}); !again {
					h.held.Note(journal.Entry{Do: journal.Trimmed, Trim: q.ID, Frames: given.String()})
					if !given.Empty() {
						m.c.met["trimmed"]++
					}
				}
			}
			m.c.mu.Unlock()
			if m.c.call(
				ctx, &m.cut, func(f *Floor) error { return f.Fleet.Trimmed(ctx, m.id, session, q.ID, q.Lease, given) },
			) != nil {
				return
			}
		}
		sleep(ctx, 100*time.Millisecond)
	}
}

// work renders a lease, delivers its frames and ends it.
func (m *machine) work(machine, ctx context.Context, h *holding, session int64) error {
	for ctx.Err() == nil {
		m.c.mu.Lock()
		m.listen(h)
		unsettled := h.held.Unsettled()
		if left := h.held.Left(h.mine); h.stop == nil && !left.Empty() {
			m.launch(machine, h, left)
		}
		running := h.stop != nil
		m.c.mu.Unlock()
		switch {
		case len(unsettled) > 0:
			if err := m.bring(ctx, h, session, unsettled[0]); err != nil {
				return err
			}
		case running:
			sleep(ctx, 100*time.Millisecond)
		default:
			_, err := m.report(
				ctx, session, accept.Report{Outcome: accept.Ended, Lease: h.lease, Message: "has finished"},
			)
			if err == nil {
				m.c.mu.Lock()
				delete(m.held, h.lease)
				m.c.mu.Unlock()
			}
			return err
		}
	}
	return ctx.Err()
}

// listen reads what the renderer has said. One that begins a frame which was
// given back, or is no longer wanted, is ended there.
func (m *machine) listen(h *holding) {
	for len(h.said) > 0 {
		e := h.said[0]
		h.said = h.said[1:]
		if e.Do == journal.Began && (h.held.Gave(e.Frame) || h.mine.Empty()) {
			m.c.met["ended at a border"]++
			h.end()
			return
		}
		h.held.Note(e)
		if e.Do == journal.Over {
			h.stop = nil
		}
	}
}

// launch starts a renderer. It needs no node process to go on.
func (m *machine) launch(ctx context.Context, h *holding, left frames.Set) {
	m.launches++
	number := m.launches
	h.held.Note(journal.Entry{Do: journal.Launched, Launch: number, First: left.First(), Last: left.Last()})
	ctx, h.stop = context.WithCancel(ctx)
	say := func(e journal.Entry) bool {
		m.c.mu.Lock()
		defer m.c.mu.Unlock()
		if ctx.Err() != nil {
			return false
		}
		e.Launch = number
		h.said = append(h.said, e)
		return true
	}
	go func() {
		for f := range left.All() {
			if !say(journal.Entry{Do: journal.Began, Frame: f}) {
				return
			}
			sleep(ctx, time.Second+m.c.some(20*time.Second))
			if !say(journal.Entry{Do: journal.Finished, Frame: f, Path: fmt.Sprintf("%s-%d-%d", m.name, f, number)}) {
				return
			}
		}
		say(journal.Entry{Do: journal.Over})
	}()
}

func (m *machine) report(ctx context.Context, session int64, r accept.Report) (v accept.Verdict, err error) {
	err = m.c.call(ctx, &m.cut, func(f *Floor) error {
		all, err := f.Fleet.Report(ctx, m.id, session, []accept.Report{r})
		if err == nil {
			v = all[0]
		}
		return err
	})
	return v, err
}

// bring offers a finished frame and publishes it if it is accepted.
func (m *machine) bring(ctx context.Context, h *holding, session int64, p journal.Picture) error {
	frame, hash := p.Frame, p.Path
	good := accept.Report{
		Outcome: accept.Good, Lease: h.lease, Launch: p.Launch, Frame: frame,
		Hash: hash, RenderSeconds: 10,
	}
	v, err := m.report(ctx, session, good)
	if err != nil {
		return err
	}
	if v.Deliver {
		if l := leaseIn(m.c, h.lease); l != nil && !l.Open() {
			m.c.saw("late")
		}
		m.c.acknowledged(func(r farm.Record) bool {
			a, ok := r.(farm.FrameAccepted)
			return ok && a.Frame == frame && a.Hash == hash
		}, "frame %d as %s", frame, hash)
		m.c.mu.Lock()
		h.held.Note(journal.Entry{Do: journal.Accepted, Launch: p.Launch, Frame: frame, Hash: hash})
		m.c.mu.Unlock()
		sleep(ctx, m.c.some(2*time.Second))
		if ctx.Err() != nil {
			return ctx.Err()
		}
		m.c.mu.Lock()
		standing, there := m.c.place[frame]
		switch {
		case !there:
			m.c.place[frame], standing = hash, hash
		case standing != hash && !slices.Contains(v.Adopt, standing):
			m.c.trouble = append(
				m.c.trouble,
				fmt.Sprintf(
					"frame %d: %s stands where %s shall go, and only %v may be adopted", frame, standing, hash, v.Adopt,
				),
			)
		}
		m.c.mu.Unlock()
		sleep(ctx, m.c.some(time.Second))
		good.Outcome, good.Hash = accept.Delivered, standing
		if _, err := m.report(ctx, session, good); err != nil {
			return err
		}
	} else {
		m.c.saw("discarded")
	}
	m.c.mu.Lock()
	h.held.Note(journal.Entry{Do: journal.Settled, Launch: p.Launch, Frame: frame})
	m.c.mu.Unlock()
	return nil
}
