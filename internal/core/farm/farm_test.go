package farm

import (
	"strings"
	"testing"
	"time"

	"vexillum/internal/core/frames"
)

var now = time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)

func started(t *testing.T) *State {
	t.Helper()
	s := NewState()
	set := frames.Of(frames.Span{First: 1, Last: 4})
	for _, r := range []Record{
		KeyIssued{Hash: "k", Uses: 2, At: now, ExpiresAt: now.Add(time.Hour)},
		NodeEnrolled{Node: 1, Name: "kiln-01", KeyHash: "k", At: now},
		NodeStarted{Node: 1, Session: 1, At: now},
		RunSubmitted{Run: 1, State: RunQueued, Order: 1, Key: "mine", At: now, Spec: Spec{Job: "a", Kind: Final, Number: 1, Frames: set, Tries: 3}},
		LeaseOpened{Lease: 1, Node: 1, Run: 1, Session: 1, Ask: 1, Frames: frames.Of(frames.Span{First: 1, Last: 2}), At: now},
	} {
		if err := s.Apply(r); err != nil {
			t.Fatal(err)
		}
	}
	return s
}

// TestContradictionsAreRefused applies Records that do not fit and looks that
// nothing has changed.
func TestContradictionsAreRefused(t *testing.T) {
	two := frames.One(2)
	for _, c := range []struct {
		record Record
		says   string
	}{
		{NodeEnrolled{Node: 2, Name: "kiln-01", KeyHash: "k"}, "taken"},
		{NodeEnrolled{Node: 2, Name: "kiln-02", KeyHash: "other"}, "no key"},
		{NodeStarted{Node: 1, Session: 2}, "still has lease 1"},
		{NodeStarted{Node: 9, Session: 2}, "no node 9"},
		{NodeReach{Node: 9}, "no node 9"},
		{NodeDuty{Node: 9}, "no node 9"},
		{RunSubmitted{Run: 1}, "exists"},
		{RunSubmitted{Run: 2, Spec: Spec{Job: "A", Kind: Final, Number: 1}}, "given before"},
		{RunMoved{Run: 1, State: RunDone}, "lease 1 is open"},
		{RunMoved{Run: 9}, "no run 9"},
		{LeaseOpened{Lease: 2, Node: 1, Run: 1, Frames: two}, "not to do"},
		{LeaseOpened{Lease: 2, Node: 9, Run: 1, Frames: frames.One(3)}, "no node 9"},
		{LeaseOpened{Lease: 2, Node: 1, Run: 1}, "not to do"},
		{LeaseExtended{Lease: 1, Run: 1, Frames: two}, "not to do"},
		{LeaseExtended{Lease: 7, Run: 1, Frames: two}, "no open lease 7"},
		{LeaseTrimmed{Lease: 1, Run: 1, Frames: frames.One(3)}, "not left"},
		{LeaseEnded{Lease: 7}, "no open lease 7"},
		{FrameAccepted{Run: 1, Frame: 77}, "not wanted"},
		{FrameDone{Run: 1, Frame: 1}, "not being delivered"},
		{DeliveryLost{Run: 1, Frame: 1}, "not being delivered"},
		{FrameFailed{Run: 1, Lease: 1, Frame: 3}, "not left"},
		{FrameParked{Run: 1, Frame: 1}, "not to do"},
		{FramesRetried{Run: 1, Frames: two}, "not parked"},
	} {
		s := started(t)
		before := s.Seq
		err := s.Apply(c.record)
		if err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: error %v, want %q", c.record.Kind(), err, c.says)
		}
		if s.Seq != before || s.Check() != nil {
			t.Errorf("%s: a refused Record changed the farm", c.record.Kind())
		}
	}
}

func TestALateReportCountsOnce(t *testing.T) {
	s := started(t)
	apply := func(r Record) {
		t.Helper()
		if err := s.Apply(r); err != nil {
			t.Fatal(err)
		}
		if err := s.Check(); err != nil {
			t.Fatal(err)
		}
	}
	apply(LeaseEnded{Lease: 1, Run: 1, Node: 1, At: now})
	apply(
		LeaseOpened{Lease: 2, Node: 1, Run: 1, Session: 1, Frames: frames.Of(frames.Span{First: 1, Last: 2}), At: now},
	)
	run := s.Runs[1]
	if !run.Wants(1) {
		t.Fatal("frame 1 is not wanted")
	}
	// The first lease held frame 1 once; its picture comes after all.
	apply(FrameAccepted{Run: 1, Frame: 1, Lease: 1, Node: 1, Hash: "h", At: now})
	if run.Wants(1) || s.Lease(2).Left.Has(1) {
		t.Error("the frame is still wanted from the second lease")
	}
	apply(FrameDone{Run: 1, Frame: 1, Lease: 1, Node: 1, Hash: "h", At: now})
	if run.Done.String() != "1" {
		t.Errorf("done: %v", run.Done)
	}
}

func TestTrimAndSettle(t *testing.T) {
	s := started(t)
	run := s.Runs[1]
	steps := []Record{
		LeaseTrimmed{Lease: 1, Node: 1, Run: 1, Frames: frames.One(2), At: now},
		FrameAccepted{Run: 1, Frame: 1, Lease: 1, Node: 1, Hash: "h", At: now},
		FrameDone{Run: 1, Frame: 1, Lease: 1, Node: 1, Hash: "h", At: now},
		LeaseExtended{Lease: 1, Node: 1, Run: 1, Ask: 2, Frames: frames.Of(frames.Span{First: 2, Last: 4}), At: now},
	}
	for f := 2; f <= 4; f++ {
		steps = append(
			steps, FrameAccepted{Run: 1, Frame: f, Lease: 1, Node: 1, At: now},
			FrameDone{Run: 1, Frame: f, Lease: 1, Node: 1, At: now},
		)
	}
	for _, r := range steps {
		if _, settled := run.Settled(); settled {
			t.Fatal("settled too early")
		}
		if err := s.Apply(r); err != nil {
			t.Fatal(err)
		}
		if err := s.Check(); err != nil {
			t.Fatal(err)
		}
	}
	if state, settled := run.Settled(); !settled || state != RunDone {
		t.Errorf("settled %v as %q", settled, state)
	}
}

func TestSubmitKeysAndNumbers(t *testing.T) {
	s := started(t)
	if with(s, "mine") != s.Runs[1] || with(s, "") != nil || with(s, "other") != nil {
		t.Error("runs are not found by their submit key")
	}
	if s.NextNumber("", "A", Final) != 2 || s.NextNumber("", "a", Proof) != 1 || s.NextNumber("", "b", Final) != 1 ||
		s.NextNumber("other", "a", Final) != 1 {
		t.Error("runs are not counted by project, job and kind")
	}
}

func TestNames(t *testing.T) {
	for name, good := range map[string]bool{"kiln-01": true, "a": true, "Kiln": false, "-a": false, "a-": false, "a b": false, "": false, "a/b": false, strings.Repeat("a", 64): false} {
		if (CheckNodeName(name) == nil) != good {
			t.Errorf("node name %q: %v", name, CheckNodeName(name))
		}
	}
	for name, good := range map[string]bool{"salt_010": true, "a.b": true, ".a": false, "..": false, "a/b": false, "": false, "a b": false} {
		if (CheckJobName(name) == nil) != good {
			t.Errorf("job name %q: %v", name, CheckJobName(name))
		}
	}
	for name, good := range map[string]bool{"nadia": true, "n.b": true, "Nadia": false, "": false, "a b": false} {
		if (CheckPersonName(name) == nil) != good {
			t.Errorf("person %q: %v", name, CheckPersonName(name))
		}
	}
	if CheckShortName("project", "salt-clock") != nil || CheckShortName("project", "Salt Clock") == nil {
		t.Error("project names are not checked")
	}
}

func TestRoles(t *testing.T) {
	order := []Role{Viewer, Artist, Wrangler, Admin}
	for i, have := range order {
		for j, need := range order {
			if have.Allows(need) != (i >= j) {
				t.Errorf("%s allows what needs %s: %v", have, need, have.Allows(need))
			}
		}
	}
	if Role("").Allows(Viewer) || Role("root").Allows(Viewer) || Role("root").Valid() {
		t.Error("an unknown role may do something")
	}
}

func TestTokenExpiry(t *testing.T) {
	forever := Token{}
	short := Token{ExpiresAt: now}
	if !forever.Valid(now) || short.Valid(now) || !short.Valid(now.Add(-time.Second)) {
		t.Error("tokens do not expire when they should")
	}
}

func with(s *State, key string) *Run {
	run, _ := s.SubmittedWith(key)
	return run
}
