package drillfile

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/hours"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/simulate"
)

// TestALiveFarmIsWrittenDown writes a farm in the middle of its work, reads the
// file back, and plays it.
func TestALiveFarmIsWrittenDown(t *testing.T) {
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)
	s, m := farm.NewState(), pace.New()
	week, err := hours.ParseWeek("mon-fri 18:30-08:00")
	if err != nil {
		t.Fatal(err)
	}
	apply := func(records ...farm.Record) {
		t.Helper()
		for _, r := range records {
			if err := s.Apply(r); err != nil {
				t.Fatal(err)
			}
		}
	}
	apply(
		farm.PlaceSet{Name: "scenes"}, farm.ProjectSet{Name: "salt-clock", Weight: 2, Scenes: "scenes"},
		farm.PoolSet{Name: "graphics", Projects: []string{"salt-clock"}}, farm.LicenceSet{Name: "tidal", Count: 3},
	)
	for i, n := range []farm.Node{
		{Name: "kiln-01", Settings: farm.Settings{Pools: []string{"graphics"}, Traits: []string{"quiet"}}},
		{Name: "desk-nadia", Settings: farm.Settings{Hours: &hours.Hours{Zone: "Europe/Dublin", Week: week}}},
		{Name: "loom-01", Duty: farm.Held}, {Name: "kiln-02", Reach: farm.Silent},
	} {
		n.ID, n.Session, n.Health = farm.NodeID(i+1), 1, farm.Fine
		n.Facts = farm.Facts{OS: "linux", Speed: 1, Renderers: []farm.Renderer{{Recipe: "povray", Version: "3.7.0"}}}
		if n.Reach == "" {
			n.Reach = farm.Online
		}
		if n.Duty == "" {
			n.Duty = farm.OnDuty
		}
		s.PutNode(&n)
	}
	spec := farm.Spec{
		Job: "salt_010", Project: "salt-clock", Owner: "nadia", Kind: farm.Final, Number: 1,
		Recipe: "povray", Mode: farm.ModeRange, Tries: 3, Needs: "quiet || desk",
		Frames:  frames.Of(frames.Span{First: 1, Last: 300}),
		Licence: &farm.LicenceNeed{Name: "tidal", Per: farm.PerNode},
		Terms:   farm.Terms{Level: farm.High, Ceiling: farm.Ceiling{Percent: 80}},
	}
	apply(farm.RunSubmitted{Run: 1, Spec: spec, State: farm.RunQueued, Order: 1})
	held := spec
	held.Job = "salt_020"
	apply(farm.RunSubmitted{Run: 2, Spec: held, State: farm.RunHeld, Order: 2})
	apply(
		farm.LeaseOpened{
			Lease: 1, Node: 1, Run: 1, Session: 1, Ask: 1,
			Frames: frames.Of(frames.Span{First: 1, Last: 100}),
		},
	)
	for f := 1; f <= 50; f++ {
		done := farm.FrameAccepted{
			Run: 1, Frame: f, Lease: 1, Node: 1, Hash: "-",
			RenderSeconds: 20 + float64(f)/5, StartupSeconds: float64(max(0, 9-8*f)),
		}
		apply(done, farm.FrameDone{Run: 1, Frame: f, Lease: 1, Node: 1, Hash: "-"})
		m.Observe(s.Runs[1], s.Nodes[1], 1, done)
	}
	text, err := FromFarm(s, m, now).Write()
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"51-300", "kiln-01", "desk-nadia", "Europe/Dublin", "povray && (quiet || desk)", "80%", "per: node", "weight: 2", "priority: high"} {
		if !strings.Contains(string(text), want) {
			t.Errorf("the file does not say %q:\n%s", want, text)
		}
	}
	for _, no := range []string{"loom-01", "kiln-02", "salt_020"} {
		if strings.Contains(string(text), no) {
			t.Errorf("the file has %s, which can do nothing now", no)
		}
	}
	f, err := Parse(text)
	if err != nil {
		t.Fatalf("it cannot be read back: %v\n%s", err, text)
	}
	r, err := simulate.Play(f, simulate.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if done := len(r.Attempts); done != 250 {
		t.Errorf("%d frames are rendered on paper, 250 are left", done)
	}
}

// TestShortForms reads what may be written in two ways.
func TestShortForms(t *testing.T) {
	const jobs = "jobs:\n  - {name: a, frames: 1-4, mode: range, cost: 1s, licence: tidal, needs: quiet}\n"
	long, err := Parse(
		[]byte(
			"licences: [{name: tidal, count: 2}]\npools: [{name: graphics, projects: [gannet]}]\nnodes:\n" +
				"  - {name: n, speed: 1, traits: [quiet], pools: [graphics], hours: {week: \"mon-sun 00:00-24:00\"}}\n" + jobs,
		),
	)
	if err != nil {
		t.Fatal(err)
	}
	short, err := Parse(
		[]byte(
			"licences: {tidal: 2}\npools: {graphics: [gannet]}\nnodes:\n" +
				"  - {name: n, speed: 1, traits: [quiet], pools: [graphics], hours: \"mon-sun 00:00-24:00\"}\n" + jobs,
		),
	)
	if err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(long, short) {
		t.Errorf("%+v is not %+v", short, long)
	}
	for _, bad := range []string{"licences: {tidal: -1}", "pools: {graphics: 3}", "projects: [{name: a, weight: 0}]", "loads: -2"} {
		if _, err := Parse([]byte(bad + "\nnodes: [{name: n, speed: 1}]\n" + jobs)); err == nil {
			t.Errorf("%s is taken", bad)
		}
	}
}
