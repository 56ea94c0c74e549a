package triage

import (
	"strings"
	"testing"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

var now = time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)

func farmWithLease(t *testing.T) *farm.State {
	t.Helper()
	s := farm.NewState()
	set := frames.Of(frames.Span{First: 1, Last: 5})
	for _, r := range []farm.Record{
		farm.KeyIssued{Hash: "k", Uses: 1, At: now, ExpiresAt: now.Add(time.Hour)},
		farm.NodeEnrolled{Node: 1, Name: "kiln-01", KeyHash: "k", At: now},
		farm.NodeStarted{Node: 1, Session: 1, At: now},
		farm.RunSubmitted{Run: 1, State: farm.RunQueued, At: now, Spec: farm.Spec{Job: "a", Kind: farm.Final, Number: 1, Frames: set, Tries: 2}},
		farm.LeaseOpened{Lease: 1, Node: 1, Run: 1, Session: 1, Frames: set, Share: farm.Share{Cores: frames.One(1)}, At: now},
	} {
		apply(t, s, r)
	}
	return s
}

func apply(t *testing.T, s *farm.State, records ...farm.Record) {
	t.Helper()
	for _, r := range records {
		if err := s.Apply(r); err != nil {
			t.Fatal(err)
		}
		if err := s.Check(); err != nil {
			t.Fatal(err)
		}
	}
}

func TestTriesAreCountedAndEnd(t *testing.T) {
	s := farmWithLease(t)
	first := Failed(s, Failure{Lease: 1, Launch: 1, Frame: 2, Cause: CauseCrash, Message: "signal 11"}, now)
	if len(first) != 1 || !strings.Contains(first[0].About().Reason, "1 of 2 tries left") {
		t.Fatalf("first failure gave %+v", first)
	}
	apply(t, s, first...)
	if again := Failed(s, Failure{Lease: 1, Launch: 1, Frame: 2, Cause: CauseCrash}, now); again != nil {
		t.Errorf("the same failure told twice gave %+v", again)
	}
	apply(
		t, s,
		farm.LeaseOpened{
			Lease: 2, Node: 1, Run: 1, Session: 1, Frames: frames.One(2),
			Share: farm.Share{Cores: frames.One(2)}, At: now,
		},
	)
	second := Failed(s, Failure{Lease: 2, Launch: 1, Frame: 2, Cause: CauseWrongOutput}, now)
	apply(t, s, second...)
	if !s.Runs[1].Parked.Has(2) {
		t.Errorf("after two of two tries the frame is not parked: %+v", second)
	}
	apply(t, s, farm.FramesRetried{Run: 1, Frames: frames.One(2), At: now})
	if s.Runs[1].Trouble[2].Tried() != 0 {
		t.Error("a frame that is tried again by hand has not all its tries")
	}
}

func TestMachineFaultsDoNotCountButEnd(t *testing.T) {
	s := farmWithLease(t)
	for i := 1; ; i++ {
		if i > mostAttempts {
			t.Fatalf("the frame is tried for ever")
		}
		lease := farm.LeaseID(i)
		records := Failed(s, Failure{Lease: lease, Launch: 1, Frame: 3, Cause: CauseDiskFull}, now)
		apply(t, s, records...)
		if s.Runs[1].Parked.Has(3) {
			if i < mostAttempts {
				t.Errorf("parked after %d attempts that do not count", i)
			}
			return
		}
		if s.Runs[1].Trouble[3].Tried() != 0 {
			t.Fatal("a full disk used up a try")
		}
		apply(
			t, s,
			farm.LeaseOpened{
				Lease: lease + 1, Node: 1, Run: 1, Session: 1, Frames: frames.One(3),
				Share: farm.Share{Cores: frames.One(int(lease) + 1)}, At: now,
			},
		)
	}
}

func TestOneForeignFileParksAtOnce(t *testing.T) {
	s := farmWithLease(t)
	apply(t, s, Failed(s, Failure{Lease: 1, Launch: 1, Frame: 1, Cause: CauseOutput}, now)...)
	if !s.Runs[1].Parked.Has(1) {
		t.Error("a frame whose place is taken is not parked for a person")
	}
}

func TestFreeAfter(t *testing.T) {
	for spent, want := range map[time.Duration]time.Duration{
		0:                time.Minute,
		5 * time.Minute:  time.Minute,
		20 * time.Minute: 2 * time.Minute,
		20 * time.Hour:   30 * time.Minute,
	} {
		if got := FreeAfter(spent); got != want {
			t.Errorf("after %v: %v, want %v", spent, got, want)
		}
	}
}

func TestHush(t *testing.T) {
	at := func(seconds ...int) (fell []time.Time) {
		for _, s := range seconds {
			fell = append(fell, now.Add(time.Duration(s)*time.Second))
		}
		return fell
	}
	for _, c := range []struct {
		name    string
		fell    []time.Time
		members int
		after   time.Duration
		nodes   int
	}{
		{"nobody", nil, 10, 0, 0},
		{"two of three", at(0, 1), 3, time.Minute, 0},
		{"three of fourteen", at(20, 0, 10), 14, time.Minute, 3},
		{"three of fifteen, a fifth and no more", at(0, 10, 20), 15, time.Minute, 0},
		{"three within a minute", at(0, 29, 59), 4, time.Minute, 0},
		{"a late fourth belongs to the next window", at(0, 10, 20, 45), 8, time.Minute, 3},
		{"all of five", at(0, 0, 0, 5, 5), 5, 9 * time.Minute, 5},
		{"ten minutes later", at(0, 0, 0, 5, 5), 5, 11 * time.Minute, 0},
	} {
		until, nodes := MassOutage(c.fell, c.members, now.Add(c.after))
		if nodes != c.nodes || until.IsZero() != (nodes == 0) {
			t.Errorf("%s: %d nodes until %v, want %d", c.name, nodes, until, c.nodes)
		}
	}
}

// TestASceneThatHasChangedHoldsTheRun: once, with what is of the old state; and the try
// does not count.
func TestASceneThatHasChangedHoldsTheRun(t *testing.T) {
	s := farmWithLease(t)
	f := Failure{Lease: 1, Launch: 1, Frame: 3, Cause: CauseChanged, Message: "the scene a has changed", Scene: "b"}
	apply(t, s,
		farm.FrameAccepted{Run: 1, Frame: 1, Lease: 1, Node: 1, Launch: 1, Hash: "h", At: now},
		farm.FrameDone{Run: 1, Frame: 1, Lease: 1, Node: 1, Hash: "h", At: now})
	records := Failed(s, f, now)
	if len(records) != 2 {
		t.Fatalf("%+v", records)
	}
	moved, ok := records[1].(farm.RunMoved)
	if !ok || moved.Held != farm.HeldChanged || moved.Scene != "b" ||
		!strings.Contains(moved.Reason, "frame 1 is of the old state") {
		t.Errorf("%+v", records[1])
	}
	apply(t, s, records...)
	run := s.Runs[1]
	if run.State != farm.RunHeld || run.FoundScene != "b" || run.Trouble[3].Tried() != 0 {
		t.Errorf("%+v", run)
	}
	f.Launch, f.Frame = 2, 4
	if again := Failed(s, f, now); len(again) > 1 {
		t.Errorf("held twice: %+v", again)
	}
	apply(t, s, farm.RunMoved{Run: 1, State: farm.RunRendering, Scene: run.FoundScene, At: now})
	if run.Scene() != "b" || run.FoundScene != "" {
		t.Errorf("it goes on with %q", run.Scene())
	}
}
