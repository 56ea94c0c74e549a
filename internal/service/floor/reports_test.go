package floor

import (
	"testing"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/protocol/accept"
)

func TestReportsMayBeRepeated(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		id := w.submit("a", "practice", "1-2")
		l := w.ask(n, 0).Lease()
		good := accept.Report{Outcome: accept.Good, Lease: l.ID, Launch: 1, Frame: 1, Hash: "h1", RenderSeconds: 1}
		for range 3 {
			if v := w.report(n, good); !v.Deliver {
				t.Fatalf("%+v", v)
			}
		}
		delivered := good
		delivered.Outcome = accept.Delivered
		for range 3 {
			w.report(n, delivered)
		}
		if v := w.report(n, good); !v.Discard {
			t.Errorf("a done frame shall be delivered again: %+v", v)
		}
		failed := accept.Report{Outcome: accept.Failed, Lease: l.ID, Launch: 1, Frame: 2, Cause: "crash"}
		for range 3 {
			w.report(n, failed)
		}
		if run := w.run(id); run.Troubles[0].Tried != 1 || run.DoneCount != 1 {
			t.Errorf("told three times: %+v", run.Troubles)
		}
		ended := accept.Report{Outcome: accept.Ended, Lease: l.ID}
		for range 3 {
			w.report(n, ended)
		}
		for _, forged := range []accept.Report{{Outcome: accept.Good, Lease: 99, Frame: 2, Hash: "x"}, {Outcome: accept.Good, Lease: l.ID, Frame: 77, Hash: "x"}} {
			if v := w.report(n, forged); !v.Discard {
				t.Errorf("%+v: %+v", forged, v)
			}
		}
		other := w.join("kiln-02")
		if v := w.report(other, accept.Report{Outcome: accept.Good, Lease: l.ID, Frame: 2, Hash: "x"}); !v.Discard {
			t.Errorf("another node's lease: %+v", v)
		}
	})
}

// TestForgedReportsAreOnRecord: what no honest node says is refused in words
// and noted, once.
func TestForgedReportsAreOnRecord(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n, other := w.join("kiln-01"), w.join("kiln-02")
		w.submit("a", "practice", "1-9")
		l := w.ask(n, 0).Lease()
		for range 3 {
			for _, r := range []accept.Report{{Outcome: accept.Good, Lease: 99, Frame: 2, Hash: "x"}, {Outcome: accept.Good, Lease: l.ID, Frame: 77, Hash: "x"}} {
				if v := w.report(n, r); !v.Discard || v.Why == "" {
					t.Errorf("%+v: %+v", r, v)
				}
			}
			if v := w.report(other, accept.Report{Outcome: accept.Ended, Lease: l.ID}); !v.Discard {
				t.Errorf("the end of another node's lease: %+v", v)
			}
		}
		noted := 0
		w.memory.mu.Lock()
		for _, r := range w.memory.records {
			if a, ok := r.(farm.Audited); ok && a.Action == "refuse report" {
				noted++
			}
		}
		w.memory.mu.Unlock()
		if noted != 3 {
			t.Errorf("%d refusals are on record, want 3", noted)
		}
	})
}
