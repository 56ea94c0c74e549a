package store

import (
	"context"
	"testing"
	"time"

	"vexillum/internal/core/fairness"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/testkit/pgtest"
)

// TestWhatRunsToldIsReadBack ends two runs of a job and leaves one of another
// open: of the job the last run reports, from all over its range, before the open
// one does.
func TestWhatRunsToldIsReadBack(t *testing.T) {
	s, lead := claimed(t, pgtest.URL(t))
	k := &keeper{t: t, s: s, lead: lead, state: farm.NewState(), batch: 500}
	k.do(studio()...)
	facts := farm.Facts{OS: "linux", Cores: 8, Speed: 2}
	k.do(
		farm.NodeEnrolled{Node: 1, Name: "kiln-01", Of: farm.Rack, Facts: facts, KeyHash: "k", At: now},
		farm.NodeStarted{Node: 1, Session: 1, Facts: facts, At: now},
	)
	lease := farm.LeaseID(0)
	render := func(run farm.RunID, job string, number, count, done int, ends bool, at time.Time) {
		t.Helper()
		set := frames.Of(frames.Span{First: 1, Last: count})
		k.do(
			farm.RunSubmitted{
				Run: run, State: farm.RunQueued, Order: int64(run), At: at,
				Spec: farm.Spec{
					Job: job, Project: "salt-clock", Kind: farm.Final, Number: number, Recipe: "practice",
					Mode: farm.ModeRange, Frames: set, Tries: 2,
				},
			},
		)
		lease++
		k.do(
			farm.LeaseOpened{
				Lease: lease, Node: 1, Run: run, Session: 1, Ask: int64(lease), Frames: set,
				Share: farm.Share{Cores: frames.Of(frames.Span{First: 0, Last: 1})}, At: at,
			},
		)
		for f := 1; f <= done; f++ {
			k.do(
				farm.FrameAccepted{
					Run: run, Frame: f, Lease: lease, Node: 1, Hash: "-",
					RenderSeconds: float64(number), MemoryBytes: 1 << 20, At: at,
				},
				farm.FrameDone{Run: run, Frame: f, Lease: lease, Node: 1, Hash: "-", At: at},
			)
		}
		k.do(farm.LeaseEnded{Lease: lease, Node: 1, Run: run, At: at})
		if ends {
			k.do(
				farm.RunMoved{Run: run, State: farm.RunDone, At: at},
				farm.RunKept{Run: run, Done: k.state.Runs[run].Done.Multirange(), Seq: k.state.Seq, At: at},
			)
		}
	}
	render(4, "salt_010", 1, 40, 40, true, now.Add(-time.Hour))
	render(1, "salt_010", 2, 30, 30, true, now)
	render(2, "salt_010", 3, 1000, 1000, true, now.Add(time.Hour))
	render(3, "salt_020", 1, 50, 10, false, now)
	k.flush()
	loaded, err := s.Load(context.Background(), k.lead.Seq)
	if err != nil {
		t.Fatal(err)
	}
	counts := map[farm.RunID]int{}
	last := 0
	for i, o := range loaded.Observations {
		counts[o.Run]++
		if o.Run == 2 {
			last = max(last, o.Frame)
		}
		if o.Run == 3 && i < observationsPerJob {
			t.Fatal("an open run tells before one that has ended")
		}
		if o.Share.Cores.Len() != 2 || o.MemoryBytes != 1<<20 {
			t.Fatalf("observation %+v", o)
		}
	}
	if counts[4] != 0 || counts[1] != 30 || counts[2] != observationsPerJob || counts[3] != 10 || last < 990 {
		t.Errorf("frames by run %v, the last of the second is %d", counts, last)
	}

	want := []fairness.Received{
		{Project: "gannet", Amount: 12.5, At: now}, {Project: "gannet", Person: "nadia", Amount: 12.5, At: now},
	}
	for range 2 { // again changes nothing
		if err := s.KeepReceived(context.Background(), want); err != nil {
			t.Fatal(err)
		}
	}
	got, err := s.Received(context.Background())
	if err != nil || len(got) != 2 {
		t.Fatalf("%+v, %v", got, err)
	}
	for i := range want {
		if got[i].Project != want[i].Project || got[i].Person != want[i].Person || got[i].Amount != want[i].Amount ||
			!got[i].At.Equal(want[i].At) {
			t.Errorf("%+v, want %+v", got[i], want[i])
		}
	}
}
