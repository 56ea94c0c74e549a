package triage_test

import (
	"strings"
	"testing"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/triage"
)

// eaten lets a farm of two nodes fail frame after frame on one of them, a second apart, until
// something is done about it. done lets so many frames in ten come out well on the other.
func eaten(t *testing.T, most, perLease, doneInTen int) (s *farm.State, tries int, told []farm.Record) {
	t.Helper()
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)
	s = farm.NewState()
	for id := farm.NodeID(1); id <= 4; id++ {
		s.PutNode(
			&farm.Node{
				ID:      id,
				Name:    "kiln-0" + string('0'+rune(id)),
				Session: 1,
				Reach:   farm.Online,
				Duty:    farm.OnDuty,
				Health:  farm.Fine,
			},
		)
	}
	apply := func(records ...farm.Record) {
		for _, r := range records {
			if err := s.Apply(r); err != nil {
				t.Fatal(err)
			}
		}
	}
	apply(
		farm.PlaceSet{
			Name: "frames",
		},
		farm.ProjectSet{Name: "salt-clock", Weight: 1, Scenes: "frames", Frames: "frames"},
		farm.RunSubmitted{Run: 1, State: farm.RunRendering, At: now, Spec: farm.Spec{
			Job: "salt_010", Project: "salt-clock", Kind: farm.Final, Number: 1, Tries: 3,
			Frames: frames.Of(frames.Span{First: 1, Last: 100_000}),
		}},
	)
	run := s.Runs[1]
	lease := farm.LeaseID(0)
	for tries < most {
		lease++
		node := farm.NodeID(1 + int(lease)%4)
		if s.Nodes[node].Health != farm.Fine {
			return s, tries, told
		}
		apply(farm.LeaseOpened{Lease: lease, Node: node, Run: 1, Session: 1, Frames: run.ToDo.Take(perLease), At: now})
		for f := range s.Lease(lease).Left.All() {
			l := s.Lease(lease)
			if !l.Open() {
				break
			}
			now = now.Add(time.Second)
			if f%10 < doneInTen {
				apply(
					farm.FrameAccepted{Run: 1, Frame: f, Lease: lease, Node: node, Launch: f, Hash: "x", At: now},
					farm.FrameDone{Run: 1, Frame: f, Lease: lease, Node: node, Hash: "x", At: now},
				)
				continue
			}
			tries++
			// A cause that nobody is blamed for so soon.
			told = triage.Failed(s, triage.Failure{Lease: lease, Launch: f, Frame: f, Cause: triage.CauseNodeLost}, now)
			apply(told...)
			if run.State != farm.RunRendering {
				return s, tries, told
			}
		}
		if l := s.Lease(lease); l.Open() {
			apply(farm.LeaseEnded{Lease: lease, Node: node, Run: 1, At: now})
		}
	}
	return s, tries, told
}

func reasons(records []farm.Record) (out string) {
	for _, r := range records {
		out += r.About().Reason + "\n"
	}
	return out
}

func TestNothingFailsForEver(t *testing.T) {
	// A lease that fails and fails is ended, and the rest of it dealt anew.
	s, tries, told := eaten(t, 25, 1000, 0)
	if l := s.Lease(1); l.Open() || tries != 25 ||
		!strings.Contains(reasons(told), "what is left of it is dealt anew") {
		t.Errorf("after %d tries on one lease: %s", tries, reasons(told))
	}
	// Run or node, something ends it, though nothing is judged.
	for _, perLease := range []int{1, 3, 20} {
		s, tries, told := eaten(t, 5000, perLease, 0)
		aside := 0
		for _, n := range s.Nodes {
			if n.Health == farm.Sidelined {
				aside++
			}
		}
		if tries > 320 || s.Runs[1].State == farm.RunRendering && aside == 0 {
			t.Errorf(
				"leases of %d: %d tries, the run is %s, %d nodes are aside: %s",
				perLease,
				tries,
				s.Runs[1].State,
				aside,
				reasons(told),
			)
		}
	}
}

// TestARunIsHeldAfterSoManyFailures: as was asked, and again as many after a release.
func TestARunIsHeldAfterSoManyFailures(t *testing.T) {
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)
	s := farm.NewState()
	s.PutNode(&farm.Node{ID: 1, Name: "kiln-01", Session: 1, Reach: farm.Online, Duty: farm.OnDuty, Health: farm.Fine})
	apply := func(records ...farm.Record) {
		t.Helper()
		for _, r := range records {
			if err := s.Apply(r); err != nil {
				t.Fatal(err)
			}
		}
	}
	apply(
		farm.PlaceSet{
			Name: "frames",
		},
		farm.ProjectSet{Name: "salt-clock", Weight: 1, Scenes: "frames", Frames: "frames"},
		farm.RunSubmitted{Run: 1, State: farm.RunRendering, At: now, Spec: farm.Spec{
			Job: "salt_010", Project: "salt-clock", Kind: farm.Final, Number: 1, Tries: 5, HoldAfter: 3,
			Frames: frames.Of(frames.Span{First: 1, Last: 50}),
		}},
	)
	launch := 0
	fail := func(set frames.Set) {
		launch++
		lease := farm.LeaseID(launch)
		apply(farm.LeaseOpened{Lease: lease, Node: 1, Run: 1, Session: 1, Frames: set, At: now})
		for f := range set.All() {
			now = now.Add(time.Second)
			apply(
				triage.Failed(
					s,
					triage.Failure{Lease: lease, Launch: f, Frame: f, Cause: triage.CauseNodeLost},
					now,
				)...)
		}
		if l := s.Lease(lease); l.Open() {
			apply(farm.LeaseEnded{Lease: lease, Node: 1, Run: 1, At: now})
		}
	}
	run := s.Runs[1]
	fail(frames.Of(frames.Span{First: 1, Last: 2}))
	fail(frames.Of(frames.Span{First: 1, Last: 2})) // the same again are no more
	if run.State != farm.RunRendering {
		t.Fatalf("after two frames it is %s: %s", run.State, run.Reason)
	}
	fail(frames.One(3))
	if run.State != farm.RunHeld ||
		!strings.Contains(run.Reason, "3 of its frames have failed, and it was to be held after 3") {
		t.Fatalf("after three frames it is %s: %s", run.State, run.Reason)
	}
	now = now.Add(time.Minute)
	apply(farm.RunMoved{Run: 1, State: farm.RunRendering, Reason: "released", At: now})
	fail(frames.Of(frames.Span{First: 10, Last: 11}))
	if run.State != farm.RunRendering {
		t.Errorf("two frames after its release it is %s: %s", run.State, run.Reason)
	}
	fail(frames.One(12))
	if run.State != farm.RunHeld {
		t.Errorf("three frames after its release it is %s", run.State)
	}
}

// TestWhatMostlyComesOutWellGoesOn has three frames in ten fail, nobody's fault: the run goes on.
func TestWhatMostlyComesOutWellGoesOn(t *testing.T) {
	s, tries, told := eaten(t, 100, 4, 9)
	if s.Runs[1].State != farm.RunRendering {
		t.Errorf("after %d tries: %s", tries, reasons(told))
	}
}
