// Package smallfarm is a farm for tests of the computation: a few nodes, with the
// steps that a service would take. For tests alone.
package smallfarm

import (
	"fmt"
	"testing"
	"time"

	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
)

// Start is when a farm under test begins.
var Start = time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)

// Farm is a farm under test with the steps that a service would take.
type Farm struct {
	T      *testing.T
	State  *farm.State
	Pace   *pace.Model
	Dealer *deal.Dealer
	Seen   map[farm.LeaseID]deal.Sight // what is seen of open leases
	Now    time.Time
	asks   int64
}

// New returns a farm whose nodes kiln-01, kiln-02 … have the given speeds, and the
// practice renderer.
func New(t *testing.T, speeds ...float64) *Farm {
	f := &Farm{T: t, State: farm.NewState(), Pace: pace.New(), Seen: map[farm.LeaseID]deal.Sight{}, Now: Start}
	f.Dealer = deal.New(f.State, f.Pace, func(l *farm.Lease) deal.Sight { return f.Seen[l.ID] })
	f.Apply(farm.KeyIssued{Hash: "k", Uses: len(speeds), At: Start, ExpiresAt: Start.Add(time.Hour)})
	for i, speed := range speeds {
		id := farm.NodeID(i + 1)
		facts := farm.Facts{Speed: speed, Renderers: []farm.Renderer{{Recipe: "practice"}}}
		f.Apply(
			farm.NodeEnrolled{
				Node: id, Name: fmt.Sprintf("kiln-%02d", id), Of: farm.Rack, Facts: facts, KeyHash: "k",
				At: Start,
			},
		)
		f.Apply(farm.NodeStarted{Node: id, Session: 1, Facts: facts, At: Start})
	}
	return f
}

// Observe lets the farm learn that a node has rendered a frame.
func (f *Farm) Observe(n farm.NodeID, rec farm.FrameAccepted) {
	f.Pace.Observe(f.State.Runs[rec.Run], f.State.Nodes[n], 1, rec)
}

// Apply applies Records, after which the farm must be sound.
func (f *Farm) Apply(records ...farm.Record) {
	f.T.Helper()
	for _, r := range records {
		if err := f.State.Apply(r); err != nil {
			f.T.Fatal(err)
		}
	}
	if err := f.State.Check(); err != nil {
		f.T.Fatalf("after %T: %v", records[len(records)-1], err)
	}
}

// Submit puts a run into the queue.
func (f *Farm) Submit(job, recipe string, mode farm.Mode, text string, state farm.RunState) farm.RunID {
	f.T.Helper()
	set, err := frames.Parse(text)
	if err != nil {
		f.T.Fatal(err)
	}
	id := f.State.LastRun + 1
	f.Apply(farm.RunSubmitted{Run: id, State: state, Order: f.State.LastOrder + 1, At: f.Now, Spec: farm.Spec{
		Job: job, Kind: farm.Final, Number: f.State.NextNumber("", job, farm.Final), Recipe: recipe, Mode: mode,
		Frames: set, Tries: 3,
	}})
	return id
}

// Ask lets a node ask for work, beside a lease that is still up, and applies what is
// decided.
func (f *Farm) Ask(n farm.NodeID, warm farm.LeaseID) deal.Decision {
	f.T.Helper()
	f.asks++
	d := f.Dealer.Next(deal.Ask{Node: n, Number: f.asks, Warm: warm}, f.Now)
	if d.Why == "" {
		f.T.Fatalf("node %d got no reason", n)
	}
	if len(d.Records) > 0 {
		f.Apply(d.Records...)
	}
	return d
}

// Lease returns the lease that a decision has given.
func (f *Farm) Lease(d deal.Decision) *farm.Lease {
	f.T.Helper()
	switch r := append(d.Records, nil)[0].(type) {
	case farm.LeaseOpened:
		return f.State.Lease(r.Lease)
	case farm.LeaseExtended:
		return f.State.Lease(r.Lease)
	}
	f.T.Fatalf("no lease: %s", d.Why)
	return nil
}

// Finish lets a frame of a lease be done.
func (f *Farm) Finish(l *farm.Lease, frame int) {
	f.T.Helper()
	f.Apply(
		farm.FrameAccepted{Run: l.Run, Frame: frame, Lease: l.ID, Node: l.Node, Hash: "h", At: f.Now, RenderSeconds: 1},
		farm.FrameDone{Run: l.Run, Frame: frame, Lease: l.ID, Node: l.Node, Hash: "h", At: f.Now},
	)
}

// Set gives a node new settings.
func (f *Farm) Set(id farm.NodeID, s farm.Settings) {
	f.T.Helper()
	f.Apply(farm.NodeSet{Node: id, Version: f.State.Nodes[id].Version + 1, Settings: s, At: f.Now})
}

// SubmitFor submits a run of a project with needs.
func (f *Farm) SubmitFor(project, needs string) farm.RunID {
	f.T.Helper()
	id := f.State.LastRun + 1
	set, _ := frames.Parse("1-20")
	f.Apply(farm.RunSubmitted{Run: id, State: farm.RunQueued, Order: f.State.LastOrder + 1, At: f.Now, Spec: farm.Spec{
		Job: project, Project: project, Kind: farm.Final, Number: 1, Recipe: "practice",
		Mode: farm.ModeRange, Frames: set, Tries: 3, Needs: needs,
	}})
	return id
}
