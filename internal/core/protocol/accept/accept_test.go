package accept

import (
	"slices"
	"strings"
	"testing"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/triage"
)

var now = time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)

// table is a farm with two nodes; each may be given leases of one run of
// frames 1 to 9.
type table struct {
	t *testing.T
	*farm.State
}

func newTable(t *testing.T) *table {
	t.Helper()
	f := &table{t, farm.NewState()}
	f.apply(
		farm.KeyIssued{Hash: "k", Uses: 2, At: now, ExpiresAt: now.Add(time.Hour)},
		farm.NodeEnrolled{Node: 1, Name: "kiln-01", KeyHash: "k", At: now},
		farm.NodeEnrolled{Node: 2, Name: "kiln-02", KeyHash: "k", At: now},
		farm.NodeStarted{Node: 1, Session: 1, At: now},
		farm.NodeStarted{Node: 2, Session: 1, At: now},
		farm.RunSubmitted{
			Run: 1, State: farm.RunRendering, At: now,
			Spec: farm.Spec{Job: "a", Kind: farm.Final, Number: 1, Tries: 2, Frames: set("1-9")},
		},
	)
	return f
}

func set(text string) frames.Set {
	out, err := frames.Parse(text)
	if err != nil {
		panic(err)
	}
	return out
}

func (f *table) apply(records ...farm.Record) {
	f.t.Helper()
	for _, r := range records {
		if err := f.Apply(r); err != nil {
			f.t.Fatal(err)
		}
	}
	if err := f.Check(); err != nil {
		f.t.Fatal(err)
	}
}

func (f *table) lease(id farm.LeaseID, node farm.NodeID, text string) {
	f.t.Helper()
	f.apply(
		farm.LeaseOpened{
			Lease: id, Node: node, Run: 1, Session: 1, Frames: set(text),
			Share: farm.Share{Cores: frames.One(int(id))}, At: now,
		},
	)
}

// take reports, applies what follows, and reports the same again, which must
// change nothing and be answered in the same way.
func (f *table) take(node farm.NodeID, r Report) Verdict {
	f.t.Helper()
	records, verdict := Take(f.State, node, r, now)
	f.apply(records...)
	again, same := Take(f.State, node, r, now)
	if len(again) > 0 || same.Deliver != verdict.Deliver || same.Discard != verdict.Discard {
		f.t.Errorf("told twice, %+v gave %+v and then %+v with %d records", r, verdict, same, len(again))
	}
	return verdict
}

func TestTheFirstGoodPictureCounts(t *testing.T) {
	f := newTable(t)
	f.lease(1, 1, "1-4")
	f.apply(farm.LeaseTrimmed{Lease: 1, Node: 1, Run: 1, Frames: set("3-4"), At: now})
	f.lease(2, 2, "3-4")
	// The trim crossed a report: the node had begun frame 3 after all.
	if v := f.take(1, Report{Outcome: Good, Lease: 1, Launch: 1, Frame: 3, Hash: "early"}); !v.Deliver {
		t.Errorf("the first picture of frame 3: %+v", v)
	}
	if v := f.take(2, Report{Outcome: Good, Lease: 2, Launch: 1, Frame: 3, Hash: "late"}); !v.Discard {
		t.Errorf("the second picture of frame 3: %+v", v)
	}
	if v := f.take(1, Report{Outcome: Delivered, Lease: 1, Frame: 3, Hash: "other"}); f.Runs[1].Done.Has(3) {
		t.Errorf("a hash that was never accepted was published: %+v", v)
	}
	f.take(2, Report{Outcome: Delivered, Lease: 2, Frame: 3, Hash: "early"})
	if f.Runs[1].Done.Has(3) {
		t.Error("a node published what another was to deliver")
	}
	f.take(1, Report{Outcome: Delivered, Lease: 1, Frame: 3, Hash: "early"})
	if !f.Runs[1].Done.Has(3) {
		t.Error("the delivered frame is not done")
	}
	if v := f.take(2, Report{Outcome: Good, Lease: 2, Launch: 1, Frame: 3, Hash: "late"}); !v.Discard ||
		!strings.Contains(v.Why, "done") {
		t.Errorf("a picture of a done frame: %+v", v)
	}
	for _, forged := range []Report{{Outcome: Good, Lease: 9, Frame: 1, Hash: "x"}, {Outcome: Good, Lease: 2, Frame: 1, Hash: "x"}, {Outcome: Good, Lease: 1, Frame: 77, Hash: "x"}, {Lease: 1, Frame: 1}} {
		if v := f.take(1, forged); !v.Discard {
			t.Errorf("%+v: %+v", forged, v)
		}
	}
}

// TestASpentLeaseStillBringsItsFrames: a node that was given up comes back.
func TestASpentLeaseStillBringsItsFrames(t *testing.T) {
	f := newTable(t)
	f.lease(1, 1, "1-3")
	f.apply(Release(f.State, 1, nil, "silent", now)...)
	f.lease(2, 2, "1-3")
	if v := f.take(1, Report{Outcome: Good, Lease: 1, Launch: 1, Frame: 1, Hash: "late"}); !v.Deliver {
		t.Errorf("a late frame that nobody else has finished: %+v", v)
	}
	f.take(1, Report{Outcome: Failed, Lease: 1, Launch: 1, Frame: 2, Cause: triage.CauseCrash})
	if f.Runs[1].Trouble[2] != nil {
		t.Error("a failure on a lease that is over counts against a frame that another node renders")
	}
	f.apply(
		farm.LeaseEnded{Lease: 2, Node: 2, Run: 1, At: now}, farm.RunMoved{Run: 1, State: farm.RunCancelled, At: now},
	)
	for _, o := range []Outcome{Good, Delivered, Failed, Ended} {
		if v := f.take(1, Report{Outcome: o, Lease: 1, Frame: 1, Hash: "late"}); !v.Discard {
			t.Errorf("outcome %d of a run that has ended: %+v", o, v)
		}
	}
}

func TestWhatCannotBeDelivered(t *testing.T) {
	f := newTable(t)
	for i := range mostDeliveries {
		f.lease(farm.LeaseID(i+1), 1, "1")
		hash := strings.Repeat("x", i+1)
		if v := f.take(1, Report{Outcome: Good, Lease: farm.LeaseID(i + 1), Frame: 1, Hash: hash}); !v.Deliver ||
			len(v.Adopt) != i {
			t.Fatalf("picture %d: %+v", i+1, v)
		}
		f.take(
			1,
			Report{
				Outcome: Failed, Lease: farm.LeaseID(i + 1), Frame: 1, Hash: hash, Cause: triage.CauseDelivery,
				Message: "the place is gone",
			},
		)
		f.apply(farm.LeaseEnded{Lease: farm.LeaseID(i + 1), Node: 1, Run: 1, At: now})
	}
	if !f.Runs[1].Parked.Has(1) {
		t.Errorf("after %d lost deliveries frame 1 is not parked", mostDeliveries)
	}
	f.lease(20, 1, "2")
	f.take(1, Report{Outcome: Good, Lease: 20, Frame: 2, Hash: "mine"})
	f.take(
		1,
		Report{
			Outcome: Failed, Lease: 20, Frame: 2, Hash: "mine", Cause: triage.CauseOutput,
			Message: "another file stands there",
		},
	)
	if !f.Runs[1].Parked.Has(2) {
		t.Error("a frame whose place is taken by another file is not parked")
	}
}

func TestAStartKeepsWhatTheNodeHolds(t *testing.T) {
	f := newTable(t)
	f.lease(1, 1, "1-3")
	f.lease(2, 1, "4-6")
	f.take(1, Report{Outcome: Good, Lease: 1, Frame: 1, Hash: "one"})
	f.take(1, Report{Outcome: Good, Lease: 2, Frame: 4, Hash: "four"})
	records, keep := Start(f.State, f.Nodes[1], f.Nodes[1].Facts, []farm.LeaseID{1, 77}, now)
	f.apply(records...)
	run := f.Runs[1]
	if !slices.Equal(keep, []farm.LeaseID{1}) || f.Nodes[1].Session != 2 || f.Lease(1).Session != 2 ||
		!f.Lease(1).Open() ||
		f.Lease(2).Open() {
		t.Errorf("kept %v, session %d, leases %+v %+v", keep, f.Nodes[1].Session, f.Lease(1), f.Lease(2))
	}
	if _, kept := run.Delivering[1]; !kept || len(run.Delivering) != 1 || run.ToDo.String() != "4-9" {
		t.Errorf("delivering %v, to do %v", run.Delivering, run.ToDo)
	}
	if got := run.Trouble[4].Accepted; !slices.Equal(got, []string{"four"}) {
		t.Errorf("the accepted hash is forgotten: %v", got)
	}
	// The frame may stand in its place nevertheless; the next delivery adopts it.
	f.lease(3, 2, "4")
	if v := f.take(2, Report{Outcome: Good, Lease: 3, Frame: 4, Hash: "again"}); !slices.Equal(
		v.Adopt, []string{"four"},
	) {
		t.Errorf("the second picture of frame 4: %+v", v)
	}
	f.take(2, Report{Outcome: Delivered, Lease: 3, Frame: 4, Hash: "four"})
	if !run.Done.Has(4) {
		t.Error("an adopted frame is not done")
	}
}

func TestTrimmedFramesGoBack(t *testing.T) {
	f := newTable(t)
	f.lease(1, 1, "1-6")
	f.take(1, Report{Outcome: Good, Lease: 1, Frame: 5, Hash: "five"})
	f.apply(Trimmed(f.State, 1, 1, set("4-9"), "trim", now)...)
	if got := f.Runs[1].ToDo.String(); got != "4,6-9" {
		t.Errorf("to do %s", got)
	}
	for name, records := range map[string][]farm.Record{
		"told twice":           Trimmed(f.State, 1, 1, set("4-9"), "trim", now),
		"of another node":      Trimmed(f.State, 2, 1, set("1"), "trim", now),
		"of a lease unknown":   Trimmed(f.State, 1, 99, set("1"), "trim", now),
		"nothing is given":     Trimmed(f.State, 1, 1, frames.Set{}, "trim", now),
		"of no frame it holds": Trimmed(f.State, 1, 1, set("7-9"), "trim", now),
	} {
		if len(records) != 0 {
			t.Errorf("%s: %+v", name, records)
		}
	}
}

func TestDeliveriesComeToAnEnd(t *testing.T) {
	f := newTable(t)
	f.lease(1, 1, "1-2")
	f.take(1, Report{Outcome: Good, Lease: 1, Frame: 1, Hash: "one"})
	f.take(1, Report{Outcome: Good, Lease: 1, Frame: 2, Hash: "two"})
	f.apply(Overdue(f.State, func(d Delivery) (known, quiet time.Duration) {
		if d.Frame == 1 {
			quiet = DeliverAfter + time.Second
		}
		return time.Hour, quiet
	}, now)...)
	if _, still := f.Runs[1].Delivering[1]; still || len(f.Runs[1].Delivering) != 1 {
		t.Errorf("delivering %v", f.Runs[1].Delivering)
	}
	f.apply(
		Overdue(f.State, func(Delivery) (known, quiet time.Duration) { return DeliverWithin + time.Second, 0 }, now)...)
	if len(f.Runs[1].Delivering) != 0 {
		t.Errorf("after %v: delivering %v", DeliverWithin, f.Runs[1].Delivering)
	}
}

func TestLostNodeGivesEverythingBack(t *testing.T) {
	f := newTable(t)
	f.lease(1, 1, "1-5")
	f.take(1, Report{Outcome: Good, Lease: 1, Frame: 1, Hash: "one"})
	f.take(1, Report{Outcome: Delivered, Lease: 1, Frame: 1, Hash: "one"})
	f.take(1, Report{Outcome: Good, Lease: 1, Frame: 2, Hash: "two"})
	f.apply(Release(f.State, 1, nil, "its process ended", now)...)
	run := f.Runs[1]
	if run.ToDo.String() != "2-9" || run.Done.String() != "1" || len(run.Delivering) != 0 || !f.Idle(1) {
		t.Errorf("to do %v, done %v, delivering %v", run.ToDo, run.Done, run.Delivering)
	}
}
