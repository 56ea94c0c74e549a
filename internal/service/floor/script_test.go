package floor

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"runtime"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/protocol/accept"
	"vexillum/internal/core/simulate"
	"vexillum/internal/recipe"
	"vexillum/internal/service/fleet"
	"vexillum/internal/service/views"
	"vexillum/internal/service/writer"
)

// scriptedFarm has unlike nodes, one that fails frames and one that vanishes and
// comes back, and work of which some comes later and first.
func scriptedFarm(mode farm.Mode, start time.Time) simulate.Farm {
	job := func(name string, count int, cost float64) simulate.Job {
		spec := farm.Spec{
			Job: name, Project: "salt-clock", Owner: "nadia", Kind: farm.Final, Recipe: "practice",
			Mode: mode, Tries: 3, Frames: frames.Of(frames.Span{First: 1, Last: count}), Width: 64, Height: 36,
			Scene: "salt.practice",
		}
		costs := make([]float64, count)
		for i := range costs {
			costs[i] = cost * (1 + float64(i)/float64(count))
		}
		return simulate.Job{Spec: spec, Startup: 2.137, Again: 0.713, Costs: costs, Noise: 0.1, Submitted: 0.053}
	}
	later := job("gannet_open", 12, 3.1)
	later.Submitted, later.Spec.Level = 21.377, farm.Urgent
	return simulate.Farm{
		Seed: 7, Start: start,
		Places:   []farm.Place{{Name: "loft"}},
		Licences: []farm.Licence{{Name: "tidal", Count: 3}},
		Projects: []farm.Project{{Name: "salt-clock", Weight: 1, Scenes: "loft", Frames: "loft"}},
		Nodes: []simulate.Node{
			{
				Name: "kiln-01", Speed: 1, Known: 1, Joins: 0.113, Cores: 8, Devices: []string{"0", "1"},
				Memory: 12 << 30,
			},
			{
				Name: "kiln-02", Speed: 2.3, Known: 2, Joins: 0.217, Leaves: 33.391, Returns: 131.713,
				Cores: 8, Devices: []string{"0", "1"}, Memory: 12 << 30,
			},
			{
				Name: "kiln-03", Speed: 0.02, Known: 1, Joins: 0.331, Cores: 8, Devices: []string{"0", "1"},
				Memory: 12 << 30,
			},
			{
				Name: "loom-01", Speed: 1.9, Known: 1.9, Joins: 0.419, Fails: 0.2, FailsIn: 1.3, Cores: 8,
				Devices: []string{"0", "1"}, Memory: 12 << 30,
			},
		},
		Jobs: []simulate.Job{job("salt_010", 160, 5.3), later},
	}
}

// TestServiceAndPaperDecideTheSame feeds what happens on a farm on paper to a
// service, at the same times, and compares what both put on record, to the byte.
func TestServiceAndPaperDecideTheSame(t *testing.T) {
	const gib = 1 << 30
	var all strings.Builder
	for _, c := range []struct {
		name  string
		mode  farm.Mode
		takes farm.Amounts
		per   farm.Counting // of 3 licences; "" for none
	}{
		{"range", farm.ModeRange, farm.Amounts{}, ""}, {"feed", farm.ModeFeed, farm.Amounts{}, ""},
		{"single", farm.ModeSingle, farm.Amounts{}, farm.PerNode},
		{"side by side", farm.ModeFeed, farm.Amounts{Cores: 3}, farm.PerNode},
		{"a device each", farm.ModeRange, farm.Amounts{Cores: 1, Devices: 1}, farm.PerDevice},
		{"all devices", farm.ModeFeed, farm.Amounts{}, farm.PerDevice},
		{"memory", farm.ModeSingle, farm.Amounts{Cores: 1, MemoryBytes: 4 * gib}, farm.PerProcess},
	} {
		t.Run(c.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				f := scriptedFarm(c.mode, time.Now())
				for i := range f.Jobs {
					f.Jobs[i].Spec.Takes, f.Jobs[i].Memory = c.takes, 5*gib
					if c.per != "" {
						f.Jobs[i].Spec.Licence = &farm.LicenceNeed{Name: "tidal", Per: c.per}
					}
				}
				var script [][]simulate.Event
				var paper []string
				_, err := simulate.Play(
					f,
					simulate.Options{Script: func(events []simulate.Event, records []farm.Record) {
						if len(events) > 0 {
							script = append(script, events)
						}
						paper = append(paper, written(t, records)...)
					}},
				)
				if err != nil {
					t.Fatal(err)
				}
				service := serve(t, f, script, owned(t, f))
				for i := range max(len(paper), len(service)) {
					a, b := "nothing", "nothing"
					if i < len(paper) {
						a = paper[i]
					}
					if i < len(service) {
						b = service[i]
					}
					if a != b {
						t.Fatalf("record %d of %d is on paper\n%s\nand in the service\n%s", i, len(paper), a, b)
					}
				}
				all.WriteString(strings.Join(paper, "\n"))
			})
		})
	}
	for _, what := range []string{
		"nothing was heard", "failed", "takes", "races", "gives", "lease extended", "has been silent", "comes first",
	} {
		if !strings.Contains(all.String(), what) {
			t.Errorf("no farm had anything of this: %s", what)
		}
	}
}

// written returns Records as they would be kept, but for those that a service
// alone has.
func written(t *testing.T, records []farm.Record) (out []string) {
	for _, r := range records {
		switch r.(type) {
		case farm.RunKept, farm.Audited:
			continue
		}
		body, err := json.Marshal(r)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, fmt.Sprintf("%s %s", r.Kind(), body))
	}
	return out
}

// serve lets a service meet a script, batch by batch, and returns what it put on
// record.
func serve(t *testing.T, f simulate.Farm, script [][]simulate.Event, check func(farm.Record)) []string {
	book, err := recipe.Builtin()
	if err != nil {
		t.Fatal(err)
	}
	s := stateOf(f)
	kept := &memory{}
	floor := New(Options{
		State: s, Pace: pace.New(), Committer: kept, Recipes: book, Log: slog.New(slog.DiscardHandler), Now: time.Now,
	})
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error)
	go func() { ended <- floor.Run(ctx) }()
	sessions := map[farm.NodeID]int64{}
	for _, events := range script {
		time.Sleep(time.Until(events[0].At))
		synctest.Wait()
		floor.together(ctx, events, sessions)
		synctest.Wait()
	}
	time.Sleep(time.Second)
	stop()
	if err := <-ended; err != nil {
		t.Error(err)
	}
	for _, r := range kept.records {
		check(r)
	}
	return written(t, kept.records)
}

// stateOf returns a farm on paper as a service that has just been started knows
// it.
func stateOf(f simulate.Farm) *farm.State {
	s := farm.NewState()
	for _, p := range f.Projects {
		s.Projects[p.Name] = &p
	}
	for _, p := range f.Places {
		s.Places[p.Name] = &p
	}
	for _, l := range f.Licences {
		s.Licences[l.Name] = &l
	}
	for i, n := range f.Nodes {
		s.PutNode(n.AsNode(farm.NodeID(i+1), nil))
	}
	return s
}

// owned returns what looks, Record by Record, that no two leases own the same,
// and no more licences are used than there are.
func owned(t *testing.T, f simulate.Farm) func(farm.Record) {
	s := stateOf(f)
	return func(r farm.Record) {
		if err := s.Apply(r); err != nil {
			t.Fatal(err)
		}
		if used, most := capacity.LicencesUsed(s, "tidal", 0), f.Licences[0].Count; used > most {
			t.Errorf("%d licences are used, and there are %d", used, most)
		}
		for _, n := range s.Nodes {
			leases := s.LeasesOf(n.ID)
			for i, a := range leases {
				for _, b := range leases[:i] {
					if a.Share.Collides(b.Share) {
						t.Errorf("leases %d and %d own the same: %+v and %+v", a.ID, b.ID, a.Share, b.Share)
					}
				}
			}
		}
	}
}

// together lets a service meet events in one batch: its loop waits until all are
// in its queue.
func (f *Floor) together(ctx context.Context, events []simulate.Event, sessions map[farm.NodeID]int64) {
	gate := make(chan struct{})
	go func() { _ = f.w.Do(ctx, func(*writer.Tx) error { <-gate; return nil }) }()
	synctest.Wait() // the loop is at the gate
	for i, e := range events {
		session := sessions[e.Node]
		if e.Start != nil {
			sessions[e.Node]++
		}
		go f.meet(ctx, e, session)
		for f.w.Queued() <= i {
			runtime.Gosched()
		}
	}
	close(gate)
}

// meet lets a service meet one event.
func (f *Floor) meet(ctx context.Context, e simulate.Event, session int64) {
	switch {
	case e.Submit != nil:
		_ = f.w.Do(ctx, func(t *writer.Tx) error { t.Append(*e.Submit); return nil })
	case e.Start != nil:
		_, _ = f.Fleet.Start(ctx, e.Node, *e.Start, nil, nil)
	case e.Ask != nil:
		q := e.Ask
		_, _ = f.Fleet.Ask(ctx, e.Node, fleet.Question{
			Session: session, Number: q.Number, Warm: q.Warm, Ended: q.Ended, Memory: q.Memory,
		})
	case e.Report != nil:
		_, _ = f.Fleet.Report(ctx, e.Node, session, []accept.Report{*e.Report})
	case e.Trim != nil:
		_ = f.Fleet.Trimmed(ctx, e.Node, session, e.Trim.ID, e.Trim.Lease, e.Trim.Given)
	case e.Beat != nil:
		_ = f.Fleet.Beat(ctx, e.Node, session, fleet.Beat{Leases: e.Beat, Signs: views.Signs{MemoryFree: -1}})
	case e.Gone:
		_ = f.w.Do(ctx, func(*writer.Tx) error { f.e.Forget(e.Node); return nil })
	}
}
