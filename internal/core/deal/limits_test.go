package deal_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/testkit/smallfarm"
)

// TestHowLicencesAreCounted has three nodes with two graphics devices each and a
// run that needs a licence, counted in each way, and lets all ask.
func TestHowLicencesAreCounted(t *testing.T) {
	for _, c := range []struct {
		per   farm.Counting
		takes farm.Amounts
		count int
		used  int // after the first node has asked
		nodes int // that get work
	}{
		{farm.PerProcess, farm.Amounts{}, 2, 1, 2},
		{farm.PerNode, farm.Amounts{}, 2, 1, 2},
		{farm.PerDevice, farm.Amounts{}, 2, 2, 1}, // a lease that has its node for itself owns all devices
		{farm.PerDevice, farm.Amounts{}, 3, 2, 1},
		{farm.PerDevice, farm.Amounts{}, 4, 2, 2},
		{farm.PerDevice, farm.Amounts{Cores: 1, Devices: 1}, 3, 1, 3},
		{farm.PerProcess, farm.Amounts{}, 0, 0, 0},
	} {
		t.Run(fmt.Sprintf("%d per %s, %d devices", c.count, c.per, c.takes.Devices), func(t *testing.T) {
			b := smallfarm.New(t)
			for id := farm.NodeID(1); id <= 3; id++ {
				n := &farm.Node{
					ID: id, Name: fmt.Sprintf("loom-%02d", id), Reach: farm.Online, Duty: farm.OnDuty,
					Health: farm.Fine, Session: 1,
					Facts: farm.Facts{
						Speed: 1, Cores: 8, Renderers: []farm.Renderer{{Recipe: "practice"}},
						Devices: []farm.Device{{ID: "a"}, {ID: "b"}},
					},
				}
				b.State.PutNode(n)
			}
			b.Apply(farm.LicenceSet{Name: "tidal", Count: c.count, At: b.Now})
			run := b.Submit("a", "practice", farm.ModeRange, "1-90", farm.RunQueued)
			b.State.Runs[run].Spec.Licence = &farm.LicenceNeed{Name: "tidal", Per: c.per}
			b.State.Runs[run].Spec.Takes = c.takes
			b.State.Runs[run].Spec.Chunk = 5
			working := 0
			for id := farm.NodeID(1); id <= 3; id++ {
				d := b.Ask(id, 0)
				if len(d.Records) > 0 {
					working++
				} else if !strings.Contains(d.Why, "needs a licence tidal") {
					t.Errorf("node %d gets nothing: %s", id, d.Why)
				}
				if used := capacity.LicencesUsed(b.State, "tidal", 0); id == 1 && used != c.used {
					t.Errorf("the first lease takes up %d, want %d", used, c.used)
				}
			}
			if working != c.nodes {
				t.Errorf("%d nodes work, want %d", working, c.nodes)
			}
			if used := capacity.LicencesUsed(b.State, "tidal", 0); used > c.count {
				t.Errorf("%d licences are used, there are %d", used, c.count)
			}
		})
	}
}

// TestATakeOverTellsItsOwnGain lets two nodes come to a run that one has for
// itself: each of them brings its end forward by what it takes alone.
func TestATakeOverTellsItsOwnGain(t *testing.T) {
	b := smallfarm.New(t, 1, 1, 1)
	id := b.Submit("a", "practice", farm.ModeRange, "1-90", farm.RunQueued)
	for n := farm.NodeID(2); n <= 3; n++ {
		b.Apply(farm.NodeDuty{Node: n, Duty: farm.Held, At: b.Now})
	}
	b.Lease(b.Ask(1, 0))
	for n := farm.NodeID(2); n <= 3; n++ {
		b.Apply(farm.NodeDuty{Node: n, Duty: farm.OnDuty, At: b.Now})
	}
	b.Observe(1, farm.FrameAccepted{Run: id, Frame: 1, Lease: 1, Node: 1, RenderSeconds: 10, StartupSeconds: 2})
	cut, ok, _ := b.Dealer.TakeOver(2, b.Now)
	if !ok || cut.Frames.Len() < 25 || cut.Frames.Len() > 32 {
		t.Fatalf("%v of a third of 90 frames: %s", cut.Frames, cut.Reason)
	}
	if want := 10 * time.Second * time.Duration(cut.Frames.Len()); cut.Ahead < want*9/10 || cut.Ahead > want*11/10 {
		t.Errorf("%d frames of 10 s bring the end forward by %v", cut.Frames.Len(), cut.Ahead)
	}
}

// TestUnbegunLaunchesAreNotTakenOverForEver takes the only frame over from a
// launch again and again, as long as nobody knows how long launches take.
func TestUnbegunLaunchesAreNotTakenOverForEver(t *testing.T) {
	b := smallfarm.New(t, 1, 1.3)
	run := b.Submit("a", "practice", farm.ModeFeed, "1-9", farm.RunRendering)
	for f := 2; f <= 9; f++ { // seen, but no launch
		b.Observe(1, farm.FrameAccepted{Run: run, Frame: f, RenderSeconds: 10})
	}
	b.Apply(farm.LeaseOpened{Lease: 1, Node: 1, Run: run, Session: 1, Frames: b.State.Runs[run].ToDo, At: b.Now})
	for f := 2; f <= 9; f++ {
		b.Finish(b.State.Lease(1), f)
	}
	b.Seen[1] = deal.Sight{Seconds: 30} // the launch lasts
	if cut, ok, _ := b.Dealer.TakeOver(2, b.Now); ok {
		t.Errorf("%v is taken over from a launch that has lasted 30 s already, as if another began at once", cut.Frames)
	}
	b.Now = b.Now.Add(time.Minute)
	b.Seen[1] = deal.Sight{Seconds: 0.1}
	if _, ok, _ := b.Dealer.TakeOver(2, b.Now); !ok {
		t.Error("a faster node takes nothing over from a launch that has just begun")
	}
}
