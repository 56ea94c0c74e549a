package deal_test

import (
	"strings"
	"testing"
	"time"

	"vexillum/internal/core/deal"
	"vexillum/internal/core/explain"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/hours"
	"vexillum/internal/core/pace"
	"vexillum/internal/testkit/smallfarm"
)

func week(t *testing.T, text string) *hours.Hours {
	t.Helper()
	w, err := hours.ParseWeek(text)
	if err != nil {
		t.Fatal(err)
	}
	return &hours.Hours{Week: w}
}

func TestWhoMayTakeARun(t *testing.T) {
	for _, c := range []struct {
		name     string
		settings farm.Settings
		needs    string
		why      string // part of the reason against it; empty: it gets frames
	}{
		{"no needs, no pools", farm.Settings{}, "", ""},
		{"a trait that was given", farm.Settings{Traits: []string{"big-memory"}}, "big-memory && speed>=1", ""},
		{"a trait that is missing", farm.Settings{}, "rack && big-memory", "needs big-memory, which kiln-01 " +
			"does not fulfil"},
		{"an open pool", farm.Settings{Pools: []string{"open"}}, "pool==open", ""},
		{"a pool of another project", farm.Settings{Pools: []string{"tidal"}}, "", "the pool tidal is not open " +
			"to salt-clock"},
		{"one of its pools is open", farm.Settings{Pools: []string{"open", "tidal"}}, "", ""},
	} {
		b := smallfarm.New(t, 1)
		b.Apply(
			farm.PoolSet{Name: "open", At: b.Now},
			farm.PoolSet{Name: "tidal", Projects: []string{"tidal-room"}, At: b.Now},
		)
		b.Set(1, c.settings)
		run := b.State.Runs[b.SubmitFor("salt-clock", c.needs)]
		d := b.Dealer.Next(deal.Ask{Node: 1, Number: 1}, b.Now)
		if got := len(d.Records) > 0; got != (c.why == "") || !strings.Contains(d.Why, c.why) {
			t.Errorf("%s: gets frames %v: %s", c.name, got, d.Why)
		}
		if why := explain.New(b.Dealer, b.State, b.Pace).Run(run, b.Now); c.why != "" && !strings.Contains(why, c.why) {
			t.Errorf("%s: the run says %s", c.name, why)
		}
	}
}

func TestNothingIsBegunThatDoesNotEndInTime(t *testing.T) {
	b := smallfarm.New(t, 2) // now is Tuesday, 20:00
	b.Set(1, farm.Settings{Hours: week(t, "tue 18:00-20:10")})
	run := b.SubmitFor("salt-clock", "")
	ask := func() deal.Decision { return b.Dealer.Next(deal.Ask{Node: 1, Number: 1}, b.Now) }
	if d := ask(); len(d.Records) > 0 || !strings.Contains(d.Why, "not yet known how long frames") {
		t.Errorf("without an estimate: %v %s", d.Records, d.Why)
	}
	for range 10 { // 100 reference seconds each, without spread
		b.Observe(1, farm.FrameAccepted{Run: run, RenderSeconds: 50, StartupSeconds: 40})
	}
	d := ask()
	if len(d.Records) == 0 ||
		d.Records[0].(farm.LeaseOpened).Frames.Len() != 10 { // (600 - 40) / 50, some of which take longer
		t.Errorf("with ten minutes left: %+v %s", d.Records, d.Why)
	}
	b.Now = b.Now.Add(8*time.Minute + 40*time.Second)
	if d := ask(); len(d.Records) > 0 || !strings.Contains(d.Why, "may take 1m3") {
		t.Errorf("with eighty seconds left: %+v %s", d.Records, d.Why)
	}
	if _, ok, _ := b.Dealer.TakeOver(1, b.Now); ok {
		t.Error("an end is taken over that does not end in time")
	}
	b.Now = b.Now.Add(time.Hour)
	if d := ask(); len(d.Records) > 0 || !strings.Contains(d.Why, "outside its duty hours") {
		t.Errorf("after hours: %+v %s", d.Records, d.Why)
	}
}

func TestLateIsTheNinetiethPart(t *testing.T) {
	if deal.P90Factor(pace.Estimate{Mean: 1, Count: 50}) != 1 {
		t.Error("times without spread have a spread")
	}
	if few, many := deal.P90Factor(pace.Estimate{Mean: 1, Count: 1}), deal.P90Factor(
		pace.Estimate{Mean: 1, Spread: 0.1, Count: 50},
	); few < many || few < 1.3 || many < 1.1 ||
		many > 1.2 {
		t.Errorf("late is %v after one frame, %v after fifty", few, many)
	}
}

func TestDutyFollowsHours(t *testing.T) {
	b := smallfarm.New(t, 1, 1, 1)
	b.Set(1, farm.Settings{Hours: week(t, "tue 20:30-21:00")})
	b.Set(2, farm.Settings{Hours: week(t, "tue 19:00-21:00")})
	step := func(after time.Duration) map[farm.NodeID]farm.Duty {
		b.Now = b.Now.Add(after)
		out := map[farm.NodeID]farm.Duty{}
		for _, r := range b.State.DutyChanges(b.Now) {
			b.Apply(r)
			out[r.About().Node] = r.(farm.NodeDuty).Duty
		}
		return out
	}
	want := func(at string, got map[farm.NodeID]farm.Duty, want map[farm.NodeID]farm.Duty) {
		t.Helper()
		if len(got) != len(want) || got[1] != want[1] || got[2] != want[2] || got[3] != want[3] {
			t.Errorf("%s: %v, want %v", at, got, want)
		}
	}
	want("at first", step(0), map[farm.NodeID]farm.Duty{1: farm.OffDuty})
	want("again", step(time.Minute), nil)
	if why := explain.New(b.Dealer, b.State, b.Pace).
		Node(b.State.Nodes[1], b.Now); !strings.Contains(why, "begin again 2031-03-04T20:30:00Z") {
		t.Errorf("it says %s", why)
	}
	b.Apply(farm.NodeDuty{Node: 2, Duty: farm.Held, Reason: "by nadia", At: b.Now})
	want("its hours begin", step(40*time.Minute), map[farm.NodeID]farm.Duty{1: farm.OnDuty})
	home := b.Now.Add(time.Hour)
	b.Apply(farm.NodeDuty{Node: 3, Duty: farm.OffDuty, OffUntil: &home, Reason: "given back", At: b.Now})
	want("given back, and held", step(30*time.Minute), map[farm.NodeID]farm.Duty{1: farm.OffDuty})
	want("the owner has gone", step(time.Hour), map[farm.NodeID]farm.Duty{3: farm.OnDuty})
}
