package api

import (
	"fmt"
	"net/http"
	"testing"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// client returns a client that is signed in as somebody.
func (w *world) client(asker who) *client.Client {
	w.t.Helper()
	c, err := client.New(w.server.URL, w.tokens[asker])
	if err != nil {
		w.t.Fatal(err)
	}
	return c
}

// mustBe returns a function that ends a test at an error.
func mustBe(t *testing.T) func(error) {
	return func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
}

// TestStaleEditsAreRefused edits the same things in two tabs: the second does not undo the first.
func TestStaleEditsAreRefused(t *testing.T) {
	w := newWorld(t)
	nadia, ok := w.client(wrangler), mustBe(t)
	put := func(etag, path string, in, out any) error {
		ctx := t.Context()
		if etag != "" {
			ctx = client.IfSeen(ctx, etag)
		}
		return nadia.Do(ctx, http.MethodPut, path, in, out)
	}
	refused := func(what string, err error) {
		t.Helper()
		if p, is := err.(*wire.Problem); !is || p.Status != http.StatusPreconditionFailed || p.Code != wire.ProblemChanged {
			t.Errorf("%s: %v", what, err)
		}
	}
	rate := wire.Rate{Kind: "farm", PerHour: 1}
	var first, second wire.Rate
	ok(put("", "/api/v1/rates", rate, &first))
	rate.Watts = 400
	ok(put(first.Etag, "/api/v1/rates", rate, &second))
	rate.Watts = 0
	refused("a stale rate", put(first.Etag, "/api/v1/rates", rate, nil))

	rule := wire.PreflightRule{Held: true}
	var asked, changed wire.PreflightRule
	ok(put("", "/api/v1/preflight-rule", rule, &asked))
	rule.Night = "18:30"
	ok(put(asked.Etag, "/api/v1/preflight-rule", rule, &changed))
	refused("a stale preflight rule", put(asked.Etag, "/api/v1/preflight-rule", rule, nil))

	channel := wire.ChannelSet{Of: "webhook", To: "https://chat.example/hooks/farm"}
	var made wire.Channel
	ok(put("", "/api/v1/channels/mine", channel, &made))
	channel.Off = true
	ok(put(made.Etag, "/api/v1/channels/mine", channel, nil))
	refused("a stale channel", put(made.Etag, "/api/v1/channels/mine", channel, nil))
}

// TestUndoRestoresEachNode holds two nodes of which another person has held one: an undo gives work
// to the other alone, and leaves a node alone that somebody has changed since.
func TestUndoRestoresEachNode(t *testing.T) {
	w := newWorld(t)
	var key wire.Key
	w.must("POST", "/api/v1/keys", wire.NewKey{Uses: new(1)}, &key)
	var enrolled wire.Enrolled
	w.must("POST", "/node/v1/enrol", wire.Enrol{Key: key.Key, Name: "kiln-02", Kind: "rack"}, &enrolled)
	var nodes []wire.Node
	w.must("GET", "/api/v1/nodes", nil, &nodes)
	one, two := nodes[0].ID, nodes[1].ID
	nadia, mara, ok := w.client(wrangler), w.client(admin), mustBe(t)
	act := func(c *client.Client, do, reason string, nodes ...int64) (out wire.NodesActed) {
		t.Helper()
		ok(c.Do(t.Context(), http.MethodPost, "/api/v1/node-acts", wire.NodeAct{
			Do: do, Reason: reason, Selection: wire.Selection{Nodes: nodes},
		}, &out))
		return out
	}
	node := func(id int64) (n wire.Node) {
		t.Helper()
		ok(nadia.Do(t.Context(), http.MethodGet, fmt.Sprintf("/api/v1/nodes/%d", id), nil, &n))
		return n
	}
	act(mara, "hold", "its fan is being replaced", two)
	before := node(two)
	for _, do := range []string{"hold", "drain", "sideline"} {
		done := act(nadia, do, "", one, two)
		if done.Undo == "" {
			t.Fatalf("%s cannot be undone: %+v", do, done)
		}
		if err := mara.Do(t.Context(), http.MethodPost, "/api/v1/node-undos", wire.NodeUndo{Undo: done.Undo}, nil); err == nil {
			t.Errorf("%s was undone by another person", do)
		}
		ok(nadia.Do(t.Context(), http.MethodPost, "/api/v1/node-undos", wire.NodeUndo{Undo: done.Undo}, nil))
		if n := node(one); n.Duty != "on duty" || n.Health != "fine" {
			t.Errorf("after the undo of %s, %s is %s and %s", do, n.Name, n.Duty, n.Health)
		}
		if n := node(two); n.Duty != before.Duty || n.Why != before.Why || n.Health != before.Health {
			t.Errorf("after the undo of %s, %s is %s: %s; before it was %s: %s", do, n.Name, n.Duty, n.Why, before.Duty,
				before.Why)
		}
	}
	done := act(nadia, "hold", "", one)
	act(mara, "release", "", one)
	act(mara, "hold", "it smells", one)
	var back wire.NodesActed
	ok(nadia.Do(t.Context(), http.MethodPost, "/api/v1/node-undos", wire.NodeUndo{Undo: done.Undo}, &back))
	if n := node(one); n.Duty != "held" || len(back.Effects) != 1 || back.Effects[0].Changes {
		t.Errorf("a node that was changed since: %s, %+v", n.Duty, back)
	}
}
