package api

import (
	"fmt"
	"strings"
	"testing"

	"vexillum/internal/wire"
)

// TestANodeLooksAtAScene submits runs of a place that the service does not see: a node
// says what there is, or that there is nothing.
func TestANodeLooksAtAScene(t *testing.T) {
	w := newWorld(t)
	w.must("PATCH", "/api/v1/places/scenes", wire.PlaceChange{
		Paths: map[string]string{"linux": "/nowhere/scenes", "darwin": "/Volumes/scenes"},
	}, nil)
	submit := wire.Submit{
		Job: "job", Project: "salt-clock", Scene: "a.practice", Frames: "1-3", With: []string{"luts/*.cube"},
	}
	status, body := w.call(w.tokens[artist], "POST", "/api/v1/runs", submit)
	if status != 422 || !strings.Contains(string(body), "no node that the project may use is online") {
		t.Errorf("without any node: %d %s", status, body)
	}
	var started wire.Started
	w.as(
		aNode, "POST", "/node/v1/start",
		wire.Start{Facts: wire.Facts{OS: "darwin", Speed: 1, Renderers: []wire.Renderer{{Recipe: "practice"}}}},
		&started,
	)
	answer := func(told wire.ErrandTold) {
		var out wire.Ordered
		w.as(
			aNode, "POST", "/node/v1/orders", wire.Orders{Session: started.Session, Leases: []int64{}, Seconds: 20},
			&out,
		)
		if len(out.Errands) != 1 || out.Errands[0].Look == nil {
			t.Errorf("the node is to do %+v", out)
			return
		}
		look := *out.Errands[0].Look
		if look.SceneRoot != "/Volumes/scenes" || look.Scene != "a.practice" || len(look.With) != 1 ||
			look.Recipe == "" {
			t.Errorf("the node is to look at %+v", look)
		}
		told.Session, told.ID, told.Done = started.Session, out.Errands[0].ID, true
		var noted wire.ErrandNoted
		w.as(aNode, "POST", "/node/v1/errands", told, &noted)
		if !noted.Wanted {
			t.Error("nobody waits for the answer")
		}
	}
	sha := strings.Repeat("ab", 32)
	for _, c := range []struct {
		told   wire.ErrandTold
		status int
		says   string
	}{
		{wire.ErrandTold{Error: "there is no scene a.practice on kiln-01"}, 422, "kiln-01 says: there is no scene"},
		{wire.ErrandTold{Looked: &wire.Looked{Scene: sha, Range: "nine"}}, 409, "kiln-01 says of the scene"},
		{
			wire.ErrandTold{Looked: &wire.Looked{Scene: sha, Pin: sha, Range: "1-90", Missing: []string{"b.inc"}}}, 201,
			"kiln-01 has looked at the scene, as the service does not see it.",
		},
	} {
		done := make(chan struct{})
		go func() {
			answer(c.told)
			close(done)
		}()
		status, body = w.call(w.tokens[artist], "POST", "/api/v1/runs", submit)
		<-done
		if status != c.status || !strings.Contains(string(body), c.says) {
			t.Errorf("%+v: %d %s, want %d and %q", c.told, status, body, c.status, c.says)
		}
	}
	if !strings.Contains(string(body), `"shot":"1-90"`) ||
		!strings.Contains(string(body), "Not in the scene place is b.inc.") {
		t.Errorf("the receipt is %s", body)
	}
}

// TestANodeThatDoesNotSeeThePlaceGetsNothing lets a node say that it cannot read the
// scene place: it is dealt nothing, says why, and gets work when it can.
func TestANodeThatDoesNotSeeThePlaceGetsNothing(t *testing.T) {
	w := newWorld(t)
	run, _, session := w.atWork()
	w.must("POST", fmt.Sprintf("/api/v1/runs/%d/cancel", run.ID), nil, nil)
	var places wire.NodePlaces
	w.as(aNode, "GET", "/node/v1/places", nil, &places)
	if len(places.Places) == 0 || places.Mark == "" {
		t.Fatalf("the node is to look at %+v", places)
	}
	var changed wire.Ordered
	w.as(
		aNode, "POST", "/node/v1/orders", wire.Orders{Session: session, Leases: []int64{}, Places: "of another"},
		&changed,
	)
	if changed.Places != places.Mark {
		t.Errorf("it hears of places %q, want %q", changed.Places, places.Mark)
	}
	seen := func(reads bool, why string) {
		t.Helper()
		w.as(aNode, "POST", "/node/v1/places", wire.PlacesSeen{Session: session, Places: []wire.PlaceSeen{
			{Name: "scenes", Reads: reads, Why: why, ReadRate: 3 << 20},
		}}, nil)
	}
	seen(false, "there is no folder /mnt/scenes")
	missing := []string{"none.cube"} // so that it cannot be sent instead
	var receipt wire.Receipt
	submit := wire.Submit{Job: "b", Project: "salt-clock", Scene: "a.practice", Frames: "1-3", With: missing}
	w.must("POST", "/api/v1/runs", submit, &receipt)
	if receipt.Nodes != 0 {
		t.Errorf("%d nodes could take what none can read", receipt.Nodes)
	}
	var answer wire.Answer
	w.as(aNode, "POST", "/node/v1/ask", wire.Ask{Session: session, Number: 2}, &answer)
	if len(answer.Leases) != 0 ||
		!strings.Contains(answer.Why, "kiln-01 cannot read the scene of b/final-1: there is no folder /mnt/scenes") {
		t.Errorf("the node gets %+v: %s", answer.Leases, answer.Why)
	}
	seen(true, "")
	w.as(aNode, "POST", "/node/v1/ask", wire.Ask{Session: session, Number: 3}, &answer)
	if len(answer.Leases) != 1 {
		t.Errorf("the node gets nothing: %s", answer.Why)
	}
	var nodes []wire.Node
	w.must("GET", "/api/v1/nodes", nil, &nodes)
	if len(nodes) == 0 || len(nodes[0].Places) != 1 || nodes[0].Places[0].ReadRate != 3<<20 {
		t.Errorf("the node is shown as %+v", nodes)
	}
}

// TestASceneThatFewSeeIsSent lets a node say that it cannot read the scene place: what is
// submitted then goes to it as a bundle, and what lacks something does not.
func TestASceneThatFewSeeIsSent(t *testing.T) {
	w := newWorld(t)
	run, _, session := w.atWork()
	w.must("POST", fmt.Sprintf("/api/v1/runs/%d/cancel", run.ID), nil, nil)
	w.as(aNode, "POST", "/node/v1/places", wire.PlacesSeen{Session: session, Places: []wire.PlaceSeen{
		{Name: "scenes", Why: "there is no folder /mnt/scenes"},
	}}, nil)
	submit := wire.Submit{Job: "b", Project: "salt-clock", Scene: "a.practice", Frames: "1-3"}
	for _, c := range []struct {
		change func(*wire.Submit)
		says   string
		bundle bool
	}{
		{func(s *wire.Submit) { s.DryRun = true }, "cannot read the scene place, so the scene would go", false},
		{func(s *wire.Submit) { s.With = []string{"none.cube"} }, "no bundle could be made of the scene: 1", false},
		{func(*wire.Submit) {}, "cannot read the scene place, so the scene goes to the nodes as a bundle of", true},
	} {
		in := submit
		c.change(&in)
		var receipt wire.Receipt
		w.must("POST", "/api/v1/runs", in, &receipt)
		said := strings.Join(receipt.Remarks, " ")
		if !strings.Contains(said, c.says) {
			t.Errorf("the receipt says %q, want %q", said, c.says)
		}
		if receipt.Run == 0 {
			continue
		}
		w.must("GET", fmt.Sprintf("/api/v1/runs/%d", receipt.Run), nil, &run)
		if (run.Bundle != "") != c.bundle {
			t.Errorf("the run has the bundle %q: %s", run.Bundle, said)
		}
		if c.bundle {
			var answer wire.Answer
			w.as(aNode, "POST", "/node/v1/ask", wire.Ask{Session: session, Number: 2}, &answer)
			if len(answer.Leases) != 1 || answer.Leases[0].Bundle != run.Bundle || answer.Leases[0].Pin != "" {
				t.Errorf("the node gets %+v: %s", answer.Leases, answer.Why)
			}
		}
	}
}
