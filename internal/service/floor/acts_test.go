package floor

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/health"
	"vexillum/internal/core/protocol/accept"
	"vexillum/internal/service/fleet"
	"vexillum/internal/service/refusal"
	"vexillum/internal/service/views"
	"vexillum/internal/wire"
)

var nadia = farm.Person{Name: "nadia", Role: farm.Wrangler}

func (w *world) act(in wire.NodeAct) wire.NodesActed {
	w.t.Helper()
	out, err := w.Fleet.Act(context.Background(), in, nadia)
	w.ok(err)
	return out
}

// askBriefly asks for work and does not wait.
func (w *world) askBriefly(id farm.NodeID) fleet.Answer {
	w.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	w.asks[id]++
	a, err := w.Fleet.Ask(ctx, id, fleet.Question{Session: 1, Number: w.asks[id]})
	w.ok(err)
	return a
}

func (w *world) node(id farm.NodeID) wire.Node {
	w.t.Helper()
	n, err := w.Views.Node(context.Background(), id, farm.Sight{})
	w.ok(err)
	return n
}

// orders returns what a node is told within a moment.
func (w *world) orders(id farm.NodeID, caps int64, leases ...farm.LeaseID) fleet.Orders {
	w.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	o, err := w.Fleet.Orders(ctx, id, 1, fleet.OrdersAsked{Leases: leases, Caps: caps})
	if err != nil && !errors.Is(err, context.DeadlineExceeded) {
		w.t.Fatal(err)
	}
	return o
}

func (w *world) renders(n farm.NodeID, l farm.LeaseID, frame int) {
	w.t.Helper()
	w.ok(
		w.Fleet.Beat(
			context.Background(), n, 1,
			fleet.Beat{Leases: map[farm.LeaseID]fleet.Progress{l: {Frame: &frame, Phase: "rendering"}}},
		),
	)
}

func TestActsSayWhatTheyDoAndDoIt(t *testing.T) {
	for _, c := range []struct {
		act         wire.NodeAct
		says, node  string // about all, and about the node
		state       string // of the node afterwards
		stops, now  bool
		changesOnce bool // a second time changes nothing
	}{
		{wire.NodeAct{Do: "hold"}, "1 frame in flight finishes first", "gets no new work", "held", true, false, true},
		{wire.NodeAct{Do: "hold", Now: true, Reason: "loud"}, "1 frame in flight is thrown away", "thrown away", "held", true, true, true},
		{wire.NodeAct{Do: "drain"}, "finishes first", "its page says when its last frame", "draining", true, false, true},
		{wire.NodeAct{Do: "sideline", Reason: "wrong colours"}, "finishes first", "until somebody releases it", "sidelined", true, false, true},
		{wire.NodeAct{Do: "give-back", Now: true}, "thrown away", "belongs to its owner until", "off duty", true, true, true},
		{wire.NodeAct{Do: "release"}, "0 nodes are released; for 1 nothing changes", "is not held", "rendering", false, false, true},
		{wire.NodeAct{Do: "retire"}, "thrown away", "leaves the farm", "retired", true, true, false},
		{wire.NodeAct{Do: "revoke"}, "1 node is shut out", "is shut out", "silent", true, true, true},
	} {
		t.Run(c.act.Do, func(t *testing.T) {
			bubble(t, func(t *testing.T, w *world) {
				n := w.join("kiln-01")
				w.submit("a", "practice", "1-5")
				l := w.ask(n, 0).Lease()
				w.renders(n, l.ID, 1)
				c.act.Nodes = []int64{int64(n)}
				dry := c.act
				dry.DryRun = true
				before := len(w.memory.records)
				if out := w.act(dry); !out.DryRun || strings.Contains(out.Sentence, "1 node is") ||
					len(w.memory.records) != before {
					t.Errorf("a dry run: %+v, %d records", out, len(w.memory.records)-before)
				}
				out := w.act(c.act)
				if !strings.Contains(out.Sentence, c.says) || !strings.Contains(out.Effects[0].Sentence, c.node) {
					t.Errorf("it says %+v", out)
				}
				if got := w.node(n).State; got != c.state {
					t.Errorf("the node is %s, want %s", got, c.state)
				}
				if c.act.Do == "retire" {
					return
				}
				o := w.orders(n, 9, l.ID)
				if got := len(o.Stop) == 1; got != c.stops || got && o.Stop[0].Now != c.now {
					t.Errorf("the node is told %+v", o)
				}
				if c.changesOnce {
					if again := w.act(c.act); again.Effects[0].Changes {
						t.Errorf("again: %+v", again)
					}
				}
			})
		})
	}
}

func TestADrainedNodeIsTold(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		w.submit("a", "practice", "1-5")
		l := w.ask(n, 0).Lease()
		w.act(wire.NodeAct{Selection: wire.Selection{Where: "rack"}, Do: "drain"})
		time.Sleep(2 * time.Second)
		if got := w.node(n).State; got != "draining" {
			t.Errorf("while it renders it is %s", got)
		}
		w.report(n, accept.Report{Outcome: accept.Ended, Lease: l.ID})
		time.Sleep(2 * time.Second)
		if got := w.node(n); got.State != "held" || !strings.Contains(got.Why, "its last frame has left") {
			t.Errorf("it is %s: %s", got.State, got.Why)
		}
	})
}

func TestSettingsReachTheNode(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n, other := w.join("kiln-01"), w.join("desk-tobin")
		_, err := w.Setup.SetPool(
			context.Background(), "graphics", wire.NewPool{Projects: []string{"salt-clock"}}, nadia,
		)
		w.ok(err)
		change := func(in wire.NodeChange) (wire.NodesActed, error) {
			return w.Fleet.Change(context.Background(), in, nadia)
		}
		two, staging := 2, int64(1<<30)
		got := make(chan fleet.Orders, 1)
		go func() {
			o, err := w.Fleet.Orders(context.Background(), n, 1, fleet.OrdersAsked{Leases: nil, Caps: 0})
			if err != nil {
				t.Error(err)
			}
			got <- o
		}()
		time.Sleep(time.Second)
		out, err := change(
			wire.NodeChange{
				Selection: wire.Selection{Nodes: []int64{int64(n)}}, AddTraits: []string{"big-memory", "floor=2"},
				AddPools: []string{"graphics"},
				Caps: &wire.CapChange{
					Cores: &two, StagingBytes: &staging,
				},
				Hours: &wire.Hours{Zone: "Europe/Dublin", Week: "always"},
			},
		)
		w.ok(err)
		if len(out.Effects) != 1 || !out.Effects[0].Changes ||
			!strings.Contains(out.Effects[0].Sentence, "cores: 2 instead of all") {
			t.Errorf("it says %+v", out)
		}
		if o := <-got; o.Caps == nil || o.Caps.Cores != 2 || o.Set != 1 {
			t.Errorf("the node is told %+v", o)
		}
		if o := w.orders(n, 1); o.Caps != nil {
			t.Errorf("it is told again: %+v", o)
		}
		picked, err := w.Fleet.Picked(context.Background(), "big-memory && floor>1 && pool==graphics && !submarine")
		w.ok(err)
		if len(picked.Nodes) != 1 || picked.Nodes[0] != int64(n) || len(picked.Unknown) != 1 ||
			picked.Unknown[0] != "submarine" {
			t.Errorf("picked %+v", picked)
		}
		// Another value of a trait replaces it; what is taken over is only what was asked for.
		_, err = change(
			wire.NodeChange{
				Selection: wire.Selection{Where: "big-memory"}, AddTraits: []string{"floor=3"},
				DropTraits: []string{"big-memory"},
			},
		)
		w.ok(err)
		_, err = change(
			wire.NodeChange{
				Selection: wire.Selection{Nodes: []int64{int64(other)}}, From: int64(n),
				Parts: []string{"traits", "hours"},
			},
		)
		w.ok(err)
		if s := w.node(
			other,
		).Settings; len(s.Traits) != 1 || s.Traits[0] != "floor=3" || s.Caps.Cores != 0 || len(s.Pools) != 0 || s.Hours == nil ||
			s.Version != 1 {
			t.Errorf("the other has %+v", s)
		}
		for what, in := range map[string]wire.NodeChange{
			"no node is named":              {},
			"there is no node 99":           {Selection: wire.Selection{Nodes: []int64{99}}},
			"no pool \"nowhere\"":           {Selection: wire.Selection{Where: "rack"}, AddPools: []string{"nowhere"}},
			"cannot be given":               {Selection: wire.Selection{Where: "rack"}, AddTraits: []string{"cores=64"}},
			"is not a time zone":            {Selection: wire.Selection{Where: "rack"}, Hours: &wire.Hours{Zone: "Pellmarsh", Week: "always"}},
			"at character":                  {Selection: wire.Selection{Where: "rack &&"}},
			"the parts of the settings are": {Selection: wire.Selection{Where: "rack"}, Parts: []string{"name"}},
		} {
			before := len(w.memory.records)
			if _, err := change(in); err == nil || !strings.Contains(err.Error(), what) ||
				len(w.memory.records) != before {
				t.Errorf("%s: %v, %d records", what, err, len(w.memory.records)-before)
			}
		}
		if err := w.Setup.DropPool(context.Background(), "graphics", nadia); err == nil ||
			!strings.Contains(err.Error(), "take them out first") {
			t.Errorf("a pool with members: %v", err)
		}
	})
}

func TestTheOwnerWins(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("desk-tobin")
		until := time.Now().UTC().Add(10 * time.Minute)
		_, err := w.Fleet.Change(
			context.Background(),
			wire.NodeChange{Selection: wire.Selection{Nodes: []int64{int64(n)}},
				Hours: &wire.Hours{Week: "mon-sun 00:00-" + until.Format("15:04")}},
			nadia,
		)
		w.ok(err)
		w.submit("a", "practice", "1-50")
		if a := w.askBriefly(n); a.Lease() != nil || !strings.Contains(a.Why, "not yet known how long") {
			t.Errorf("without an estimate it gets %+v", a)
		}
		w.o.Pace.Observe(
			w.o.State.Runs[1], w.o.State.Nodes[n], 1, farm.FrameAccepted{Run: 1, Frame: 1, RenderSeconds: 10},
		)
		l := w.ask(n, 0).Lease()
		if l == nil {
			t.Fatal("it gets nothing in its hours")
		}
		w.renders(n, l.ID, 1)
		for range 12 { // it does not end in time
			time.Sleep(time.Minute)
			for range 6 {
				w.renders(n, l.ID, 1)
				time.Sleep(time.Second)
			}
		}
		if got := w.node(n); got.Duty != "off duty" {
			t.Errorf("after its hours it is %s: %s", got.Duty, got.Why)
		}
		if o := w.orders(n, 9, l.ID); len(o.Stop) != 1 || !o.Stop[0].Now {
			t.Errorf("it is told %+v", o)
		}
	})
}

func TestARevokedMachineEnrolsAgain(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		_, err := w.Setup.SetPool(context.Background(), "graphics", wire.NewPool{Projects: nil}, nadia)
		w.ok(err)
		_, err = w.People.IssueKey(
			context.Background(), farm.Key{Hash: "k", CreatedBy: "nadia", UsesLeft: 2, Pools: []string{"graphics"}},
			time.Hour,
		)
		w.ok(err)
		key := "k"
		enrol := func() (farm.NodeID, error) {
			return w.Fleet.Enrol(
				context.Background(),
				fleet.Enrolment{KeyHash: key, TokenHash: "another token", Name: "kiln-01", Kind: farm.Rack},
			)
		}
		if _, err := enrol(); err == nil || !strings.Contains(err.Error(), "vexillum nodes revoke kiln-01") {
			t.Errorf("a second machine of that name: %v", err)
		}
		w.act(wire.NodeAct{Selection: wire.Selection{Nodes: []int64{int64(n)}}, Do: "revoke"})
		if _, err := enrol(); err == nil || !strings.Contains(err.Error(), "vexillum key new --return kiln-01") {
			t.Errorf("it comes back with any key: %v", err)
		}
		if _, err = w.People.IssueKey(
			context.Background(), farm.Key{Hash: "none", UsesLeft: 1, Returns: []string{"kiln-09"}}, time.Hour,
		); err == nil {
			t.Error("a key lets a node return that there is not")
		}
		_, err = w.People.IssueKey(
			context.Background(),
			farm.Key{
				Hash: "r", CreatedBy: "nadia", UsesLeft: 2, Pools: []string{"graphics"}, Returns: []string{"kiln-01"},
			},
			time.Hour,
		)
		w.ok(err)
		key = "r"
		if again, err := enrol(); err != nil || again != n {
			t.Errorf("it is node %d, %v; was %d", again, err, n)
		}
		if pools := w.node(n).Settings.Pools; len(pools) != 1 || pools[0] != "graphics" {
			t.Errorf("it is in the pools %v", pools)
		}
		w.act(wire.NodeAct{Selection: wire.Selection{Nodes: []int64{int64(n)}}, Do: "revoke"})
		if err := w.People.RevokeKey(context.Background(), "k", nadia); err == nil {
			t.Error("a key is found by one letter")
		}
	})
}

func TestWhatIsWrongWithAMachineIsTold(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		beat := func(s views.Signs) wire.Node {
			t.Helper()
			w.ok(w.Fleet.Beat(context.Background(), n, 1, fleet.Beat{Signs: s}))
			return w.node(n)
		}
		if v := beat(views.Signs{Now: time.Now(), DiskFree: 1 << 40}); v.Health != "fine" || len(v.Findings) != 0 {
			t.Errorf("a machine that is well: %+v", v)
		}
		v := beat(views.Signs{Now: time.Now().Add(-time.Hour), DiskFree: 1})
		if v.Health != "warned" || len(v.Findings) != 2 || v.Findings[0].Kind != "disk" ||
			!strings.Contains(v.Findings[1].Sentence, "60 min behind") {
			t.Errorf("a machine with a full disk and a slow clock: %+v", v)
		}
		if v.State != "ready" {
			t.Errorf("it is %s", v.State)
		}
		w.submit("salt_010", "practice", "1-5")
		lease := w.ask(n, 0).Leases[0].ID
		w.ok(w.Fleet.Killed(context.Background(), n, health.Killed{At: time.Now(), Sure: true, Bytes: 20 << 30}, lease))
		if v := w.node(n); len(v.Findings) != 3 || v.Findings[0].Kind != "memory" || !strings.Contains(
			v.Findings[0].Sentence, "salt_010/final-1 on lease 1 had 20 GiB then",
		) {
			t.Errorf("a node process that was killed for memory: %+v", v.Findings)
		}
		for range 5 {
			_, err := w.Fleet.Start(
				context.Background(), n, farm.Facts{Renderers: []farm.Renderer{{Recipe: "practice"}}}, nil, nil,
			)
			w.ok(err)
		}
		if v := w.node(n); len(v.Findings) != 2 || v.Findings[0].Kind != "memory" || v.Findings[1].Kind != "restarts" {
			t.Errorf("a node process that starts again and again: %+v", v.Findings)
		}
	})
}

// TestGivingBackIsNoWayAround: who is no wrangler gives back desks alone, and
// what a wrangler has held stays held.
func TestGivingBackIsNoWayAround(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		rack := w.join("kiln-01")
		w.ok(func() error {
			_, err := w.People.IssueKey(
				context.Background(), farm.Key{Hash: "desks", CreatedBy: "nadia", UsesLeft: 1}, time.Hour,
			)
			return err
		}())
		facts := farm.Facts{OS: "linux", Speed: 1, Renderers: []farm.Renderer{{Recipe: "practice"}}}
		desk, err := w.Fleet.Enrol(
			context.Background(),
			fleet.Enrolment{
				KeyHash: "desks", TokenHash: "token of the desk", Name: "desk-tobin", Kind: farm.Desk,
				Facts: facts,
			},
		)
		w.ok(err)
		_, err = w.Fleet.Start(context.Background(), desk, facts, nil, nil)
		w.ok(err)
		tobin := farm.Person{Name: "tobin", Role: farm.Artist}
		try := func(do string, ids ...farm.NodeID) error {
			in := wire.NodeAct{Do: do}
			for _, id := range ids {
				in.Nodes = append(in.Nodes, int64(id))
			}
			_, err := w.Fleet.Act(context.Background(), in, tobin)
			return err
		}
		for what, err := range map[string]error{
			"only a wrangler may hold nodes":     try("hold", desk),
			"kiln-01 is nobody's own machine":    try("give-back", desk, rack),
			"only a wrangler may take it off":    try("give-back", rack),
			"only a wrangler may release nodes;": try("release", desk),
		} {
			var no *refusal.Refusal
			if !errors.As(err, &no) || no.Kind != refusal.Forbidden || !strings.Contains(err.Error(), what) {
				t.Errorf("%v, want %q", err, what)
			}
		}
		w.act(wire.NodeAct{Selection: wire.Selection{Nodes: []int64{int64(desk)}}, Do: "hold", Reason: "broken"})
		w.ok(try("give-back", desk))
		if n := w.node(desk); n.Duty != "held" || n.OffUntil != nil {
			t.Errorf("a held desk that was given back is %s until %v", n.Duty, n.OffUntil)
		}
		w.act(wire.NodeAct{Selection: wire.Selection{Nodes: []int64{int64(desk)}}, Do: "release"})
		w.ok(try("give-back", desk))
		if n := w.node(desk); n.Duty != "off duty" || n.OffUntil == nil {
			t.Errorf("a desk that was given back is %s until %v", n.Duty, n.OffUntil)
		}
	})
}
