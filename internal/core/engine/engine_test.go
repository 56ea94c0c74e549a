package engine_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"vexillum/internal/core/engine"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/protocol/accept"
)

var start = time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)

// course is one course of events on a farm, chosen by dice, with what nodes truly
// know: the number of their asks, and the leases that they have been given.
type course struct {
	t       *testing.T
	dice    *rand.Rand
	e       *engine.Engine
	s       *farm.State
	now     time.Time
	asks    map[farm.NodeID]int64
	waits   map[farm.NodeID]int64 // the number of the ask that waits
	holds   map[farm.NodeID]map[farm.LeaseID]bool
	done    map[farm.RunID]map[int]int // how often frames were accepted
	records []string                   // as JSON, in order
	after   int                        // leases that were looked at
}

const crew = 4 // nodes

func newCourse(t *testing.T, seed uint64) *course {
	c := &course{
		t: t, dice: rand.New(rand.NewPCG(seed, 7)), s: farm.NewState(), now: start, asks: map[farm.NodeID]int64{},
		waits: map[farm.NodeID]int64{}, holds: map[farm.NodeID]map[farm.LeaseID]bool{},
		done: map[farm.RunID]map[int]int{},
	}
	c.s.Places["loft"] = &farm.Place{Name: "loft"}
	c.s.Projects["salt-clock"] = &farm.Project{Name: "salt-clock", Weight: 1, Scenes: "loft", Frames: "loft"}
	for i := range farm.NodeID(crew) {
		c.s.PutNode(&farm.Node{
			ID: i + 1, Name: fmt.Sprintf("kiln-%02d", i+1), Kind: farm.Rack, Duty: farm.OnDuty, Health: farm.Fine,
		})
	}
	c.e = engine.New(engine.Live(engine.Options{State: c.s, Pace: pace.New()}), c.now)
	return c
}

// batch lets some events happen at one moment, and looks at what came of them.
func (c *course) batch(events int) {
	c.t.Helper()
	c.now = c.now.Add(time.Duration(c.dice.IntN(4000)) * time.Millisecond)
	c.e.Begin(c.now)
	for range events {
		c.event(farm.NodeID(c.dice.IntN(crew) + 1))
	}
	c.e.Tick()
	out, err := c.e.Finish()
	if err != nil {
		c.t.Fatalf("a decision contradicts the farm: %v", err)
	}
	for _, r := range out.Records {
		text, err := json.Marshal(r)
		if err != nil {
			c.t.Fatal(err)
		}
		c.records = append(c.records, string(r.Kind())+" "+string(text))
		switch r := r.(type) {
		case farm.FrameAccepted:
			c.accepted(r)
		case farm.DeliveryLost:
			c.done[r.Run][r.Frame]--
		}
	}
	c.steps(out.Records)
	for _, a := range out.Answers {
		c.answered(a)
	}
	for _, trim := range out.Trims {
		if l := c.s.Lease(trim.Lease); l == nil || !l.Open() {
			c.t.Fatalf("a trim is asked of lease %d, which is over", trim.Lease)
		}
	}
	if err := c.s.Check(); err != nil {
		c.t.Fatalf("after %v: %v", c.records[max(0, len(c.records)-8):], err)
	}
}

// accepted counts how often a frame was taken: again only after it was lost.
func (c *course) accepted(a farm.FrameAccepted) {
	if c.done[a.Run] == nil {
		c.done[a.Run] = map[int]int{}
	}
	if c.done[a.Run][a.Frame]++; c.done[a.Run][a.Frame] > 1 {
		c.t.Fatalf("frame %d of run %d was accepted twice", a.Frame, a.Run)
	}
}

// answered looks that an answer goes to an ask that waits, with leases of the
// node's own that it has not been given before.
func (c *course) answered(a engine.Answer) {
	c.t.Helper()
	if c.waits[a.Node] != a.Number {
		c.t.Fatalf("node %d is answered ask %d, and waits for %d", a.Node, a.Number, c.waits[a.Node])
	}
	delete(c.waits, a.Node)
	c.given(a)
}

func (c *course) given(a engine.Answer) {
	c.t.Helper()
	if a.Why == "" {
		c.t.Fatalf("node %d is told no reason", a.Node)
	}
	for _, l := range a.Leases {
		if l.Node != a.Node {
			c.t.Fatalf("node %d is given lease %d of node %d", a.Node, l.ID, l.Node)
		}
		if c.holds[a.Node] == nil {
			c.holds[a.Node] = map[farm.LeaseID]bool{}
		}
		c.holds[a.Node][l.ID] = true
	}
}

// event is what a node or a person does next.
func (c *course) event(id farm.NodeID) {
	switch what := c.dice.IntN(20); {
	case what == 0 || c.s.Nodes[id].Session == 0:
		facts := farm.Facts{
			OS: "linux", Cores: 8, Speed: float64(id), Renderers: []farm.Renderer{{Recipe: "practice", Version: "1"}},
		}
		c.e.Start(id, facts, nil)
		c.asks[id], c.holds[id] = 0, nil
		delete(c.waits, id)
	case what == 1 && len(c.s.Queue()) < 3:
		c.submit()
	case what == 2:
		c.e.Leave(id, "its machine is wanted")
		c.holds[id] = nil
		delete(c.waits, id)
	case what < 8:
		c.ask(id)
	case what < 16:
		c.report(id)
	case what < 19:
		for lease := range c.holds[id] {
			c.e.Hear(id)
			c.e.Beat(id, map[farm.LeaseID]engine.Progress{lease: {Phase: "rendering"}}, -1)
			break
		}
	case c.dice.IntN(4) == 0 && len(c.s.Queue()) > 0:
		c.cancel(c.s.Queue()[0])
	default:
		c.now = c.now.Add(time.Duration(c.dice.IntN(40)) * time.Second)
	}
}

func (c *course) cancel(run *farm.Run) {
	for l := range run.OpenLeases {
		c.e.Append(farm.LeaseEnded{Lease: l.ID, Node: l.Node, Run: run.ID, Reason: "cancelled", At: c.now})
	}
	c.e.Append(farm.RunMoved{Run: run.ID, State: farm.RunCancelled, Reason: "cancelled", At: c.now})
}

func (c *course) submit() {
	id := c.s.LastRun + 1
	spec := farm.Spec{
		Job: fmt.Sprintf("salt_%03d", id), Project: "salt-clock", Kind: farm.Final, Number: 1, Recipe: "practice",
		Mode:   []farm.Mode{farm.ModeRange, farm.ModeFeed, farm.ModeSingle, farm.ModeWhole}[c.dice.IntN(4)],
		Frames: frames.Of(frames.Span{First: 1, Last: 1 + c.dice.IntN(12)}), Tries: 3,
	}
	for _, other := range c.s.Queue() { // some wait for others
		if c.dice.IntN(2) == 0 {
			continue
		}
		after := farm.After{Run: other.ID, Frames: c.dice.IntN(2) > 0}
		if after.Frames {
			spec.Frames = spec.Frames.Intersect(other.Spec.Frames)
		}
		spec.After = append(spec.After, after)
	}
	state, broken := c.s.Begins(spec)
	if broken != nil {
		c.t.Fatalf("%s is in the queue and brings nothing any more", broken.Spec.Name())
	}
	c.e.Append(farm.RunSubmitted{Run: id, State: state, Order: int64(id), At: c.now, Spec: spec})
}

// steps looks that nothing is begun that waits, and that nothing waits in vain.
func (c *course) steps(records []farm.Record) {
	c.t.Helper()
	for _, r := range records {
		l, ok := r.(farm.LeaseOpened)
		if !ok {
			continue
		}
		for _, a := range c.s.Runs[l.Run].Spec.After {
			c.after++
			other := c.s.Runs[a.Run]
			if a.Frames && !l.Frames.Minus(other.Done).Empty() || !a.Frames && other.State != farm.RunDone {
				c.t.Fatalf("frames %v of run %d are dealt, and run %d is %s", l.Frames, l.Run, a.Run, other.State)
			}
		}
	}
	for _, run := range c.s.Queue() {
		gate, other := c.s.Gate(run)
		var want farm.RunState
		switch gate {
		case farm.GateBroken:
			want = farm.RunHeld
		case farm.GateShut:
			want = farm.RunWaiting
			if !run.StartedAt.IsZero() { // some frames could be begun
				continue
			}
		default:
			if run.State == farm.RunQueued || run.State == farm.RunRendering || run.Held == farm.HeldFailing {
				continue
			}
		}
		if run.State != want {
			c.t.Fatalf("%s is %s, and the gate before it is %s (%v)", run.Spec.Name(), run.State, gate, other)
		}
	}
}

// ask asks, sometimes again what was asked before: then the answer must be the same.
func (c *course) ask(id farm.NodeID) {
	c.t.Helper()
	if c.s.Nodes[id].Reach != farm.Online || c.waits[id] != 0 {
		return
	}
	c.asks[id]++
	a, waits := c.e.Ask(id, engine.Question{Number: c.asks[id]})
	if waits {
		c.waits[id] = c.asks[id]
		return
	}
	c.given(a)
	if again, waits := c.e.Ask(id, engine.Question{Number: c.asks[id]}); !waits && len(again.Leases) != len(a.Leases) {
		c.t.Fatalf("node %d gets %d leases, and %d when it asks again", id, len(a.Leases), len(again.Leases))
	}
}

// report brings a frame of a lease of the node, well or not, or ends the lease.
func (c *course) report(id farm.NodeID) {
	held := slices.Sorted(func(yield func(farm.LeaseID) bool) {
		for l := range c.holds[id] {
			if !yield(l) {
				return
			}
		}
	})
	if len(held) == 0 {
		return
	}
	lease := held[c.dice.IntN(len(held))]
	l := c.s.Lease(lease)
	if l == nil || l.Left.Empty() || c.dice.IntN(12) == 0 {
		c.e.Report(id, accept.Report{Outcome: accept.Ended, Lease: lease, Message: "is over"})
		delete(c.holds[id], lease)
		return
	}
	frame := l.Left.First()
	if c.dice.IntN(10) == 0 {
		c.e.Report(id, accept.Report{Outcome: accept.Failed, Lease: lease, Launch: 1, Frame: frame, Cause: "crash"})
		return
	}
	good := accept.Report{Outcome: accept.Good, Lease: lease, Launch: 1, Frame: frame, Hash: "h", RenderSeconds: 3}
	if c.e.Report(id, good).Deliver && c.dice.IntN(8) > 0 {
		good.Outcome = accept.Delivered
		c.e.Report(id, good)
	}
}

// TestWhateverHappensTheFarmIsSound plays courses in which anything happens in any
// order: the farm stays sound, no frame is taken twice, answers go to those that
// wait.
func TestWhateverHappensTheFarmIsSound(t *testing.T) {
	taken, waited := 0, 0
	for seed := range uint64(150) {
		c := newCourse(t, seed)
		for range 300 {
			c.batch(1 + c.dice.IntN(4))
		}
		for _, frames := range c.done {
			taken += len(frames)
		}
		waited += c.after
	}
	if waited < 200 {
		t.Errorf("only %d leases waited for other runs: they show little", waited)
	}
	if taken < 1000 {
		t.Errorf("only %d frames were taken in all courses: they show little", taken)
	}
}

// TestTheSameEventsGiveTheSameRecords plays a course twice, to the byte.
func TestTheSameEventsGiveTheSameRecords(t *testing.T) {
	for seed := range uint64(10) {
		var played [2][]string
		for i := range played {
			c := newCourse(t, seed)
			for range 150 {
				c.batch(3)
			}
			played[i] = c.records
		}
		if !slices.Equal(played[0], played[1]) {
			t.Fatalf("seed %d: the same events gave other Records", seed)
		}
	}
}

// TestWaitingAsksAreAnsweredByWhatComes lets a node wait, and work come.
func TestWaitingAsksAreAnsweredByWhatComes(t *testing.T) {
	c := newCourse(t, 1)
	c.e.Begin(c.now)
	c.e.Start(1, farm.Facts{OS: "linux", Speed: 1, Renderers: []farm.Renderer{{Recipe: "practice"}}}, nil)
	if _, waits := c.e.Ask(1, engine.Question{Number: 1}); !waits {
		t.Fatal("an ask with nothing to do is answered at once")
	}
	if _, err := c.e.Finish(); err != nil || !c.e.Waits(1) {
		t.Fatal(err, c.e.Waits(1))
	}
	c.e.Begin(c.now.Add(time.Hour))
	c.e.Hear(1)
	c.submit()
	out, err := c.e.Finish()
	if err != nil || len(out.Answers) != 1 || out.Answers[0].Node != 1 || len(out.Answers[0].Leases) != 1 {
		t.Fatalf("%+v, %v", out.Answers, err)
	}
	if c.e.Waits(1) {
		t.Error("it still waits")
	}
}

// TestSilenceFreesWork has a node fall silent with a lease: after a while its frames
// go to another.
func TestSilenceFreesWork(t *testing.T) {
	c := newCourse(t, 1)
	facts := farm.Facts{OS: "linux", Speed: 1, Renderers: []farm.Renderer{{Recipe: "practice"}}}
	c.e.Begin(c.now)
	c.e.Start(1, facts, nil)
	c.submit()
	a, _ := c.e.Ask(1, engine.Question{Number: 1})
	if _, err := c.e.Finish(); err != nil || len(a.Leases) != 1 {
		t.Fatal(err, a)
	}
	lease := a.Leases[0].ID
	for range 600 { // a second each; the other node is heard from, the first is not
		c.now = c.now.Add(time.Second)
		c.e.Begin(c.now)
		if c.s.Nodes[2].Session == 0 {
			c.e.Start(2, facts, nil)
		}
		c.e.Hear(2)
		c.e.Tick()
		if _, err := c.e.Finish(); err != nil {
			t.Fatal(err)
		}
		if l := c.s.Lease(lease); l == nil || !l.Open() {
			if c.s.Nodes[1].Reach != farm.Silent {
				t.Errorf("the lease ended, and its node is %s", c.s.Nodes[1].Reach)
			}
			return
		}
	}
	t.Error("a node that was silent for ten minutes keeps its frames")
}
