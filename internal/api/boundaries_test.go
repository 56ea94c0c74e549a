package api

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"vexillum/internal/bundle"
	"vexillum/internal/wire"
)

// TestLookingChangesNothing reads every route as every role, side by side, while the farm
// works, and wants the farm to be afterwards what its records say: nothing outside the loop may
// change what the loop holds.
func TestLookingChangesNothing(t *testing.T) {
	w := newWorld(t)
	run := w.closedProject()
	w.must("POST", "/api/v1/node-changes", wire.NodeChange{
		Selection: wire.Selection{Where: "name==kiln-01"}, AddPools: []string{"loft"},
	}, nil)
	w.must("PUT", "/api/v1/pools/loft", wire.NewPool{Projects: []string{"gannet", "salt-clock"}}, nil)
	fill := strings.NewReplacer(
		":run", fmt.Sprint(run.ID), ":frame", "1", ":node", "1", ":project", "gannet", ":preset", "plumage",
		":recipe", "povray", ":place", "scenes", ":pool", "loft", ":licence", "none", ":person", "nadia",
	)
	picture := func() map[string]string {
		out := map[string]string{}
		for _, path := range []string{
			"/api/v1/pools", "/api/v1/projects", "/api/v1/presets", "/api/v1/launch-settings", "/api/v1/places",
			"/api/v1/recipes", "/api/v1/licences", "/api/v1/people", "/api/v1/keys", "/api/v1/stays", "/api/v1/nodes/1/versions",
			"/api/v1/runs/" + fmt.Sprint(run.ID) + "/results", "/api/v1/nodes.csv",
		} {
			_, body := w.call(w.tokens[admin], "GET", path, nil)
			out[path] = string(body)
		}
		return out
	}
	before := picture()
	w.brief = true // streams do not end
	var asking sync.WaitGroup
	for _, asker := range []who{viewer, artist, wrangler, admin, "tobin", "nadia", "ines"} {
		asking.Go(func() {
			for range 2 {
				for _, r := range routes {
					if r.method == "GET" && r.who != aNode {
						w.call(w.tokens[asker], "GET", fill.Replace(r.path), nil)
					}
				}
			}
		})
	}
	asking.Wait()
	w.brief = false
	for path, after := range picture() {
		if after != before[path] {
			t.Errorf("%s was\n%s\nand is\n%s", path, before[path], after)
		}
	}
}

// TestAClosedProjectLeavesNoTraceInReasons lets a run of a closed project come before another,
// and a pool refuse others because of it, and reads all the reasons given.
func TestAClosedProjectLeavesNoTraceInReasons(t *testing.T) {
	w := newWorld(t)
	w.closedProject()
	var receipt wire.Receipt
	w.as("tobin", "POST", "/api/v1/runs", wire.Submit{
		Job: "tern_010", Project: "salt-clock", Scene: "a.practice", Frames: "1-9",
	}, &receipt)
	w.must("POST", "/api/v1/node-changes", wire.NodeChange{
		Selection: wire.Selection{Where: "name==kiln-01"}, AddPools: []string{"loft"},
	}, nil)
	own := fmt.Sprintf("/api/v1/runs/%d", receipt.Run)
	for _, path := range []string{
		own, own + "/why", own + "/history", own + "/results", own + "/log", own + "/differences", "/api/v1/nodes",
		"/api/v1/nodes/1", "/api/v1/nodes/1/history", "/api/v1/nodes/1/timeline", "/api/v1/nodes/1/trouble", "/api/v1/farm",
		"/api/v1/hands", "/api/v1/hands/history", "/api/v1/trouble", "/api/v1/night", "/api/v1/queue", "/api/v1/pools",
		"/api/v1/presets",
	} {
		_, body := w.call(w.tokens["tobin"], "GET", path, nil)
		for _, trace := range []string{"heron", "gannet", "plumage"} {
			if strings.Contains(string(body), trace) {
				t.Errorf("%s reveals %s: %s", path, trace, body)
			}
		}
	}
	for _, trace := range []string{"heron", "gannet", "plumage"} {
		if strings.Contains(w.told(w.tokens["tobin"]), trace) {
			t.Errorf("the stream reveals %s", trace)
		}
	}
	// What is hidden is answered as what is not there.
	for _, method := range []string{"PUT", "DELETE"} {
		for _, body := range []string{`{"text": "tries: 3\n"}`, `{"text": "nothing: 3\n"}`, "{}"} {
			hidden, said := w.call(w.tokens["tobin"], method, "/api/v1/presets/plumage?project=gannet", body)
			none, alike := w.call(w.tokens["tobin"], method, "/api/v1/presets/plumage?project=gannot", body)
			if hidden != none || strings.ReplaceAll(string(said), "gannet", "gannot") != string(alike) {
				t.Errorf("%s %s: %d %s, and of none %d %s", method, body, hidden, said, none, alike)
			}
		}
	}
}

// TestFoldersOfClosedProjectsAreTheirs has scenes of a closed project in a place that several
// use, and browses, looks and submits from there as an outsider.
func TestFoldersOfClosedProjectsAreTheirs(t *testing.T) {
	w := newWorld(t)
	w.closedProject()
	for _, name := range []string{"gannet/secret.practice", "terns/open.practice"} {
		path := filepath.Join(w.dir, "scenes", filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte("practice: 1\npicture: salt\ncost: 1s\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	submit := func(scene string) wire.Submit {
		return wire.Submit{Job: "x", Project: "salt-clock", Scene: scene, Frames: "1", DryRun: true}
	}
	for _, asker := range []who{"tobin", "nadia"} {
		_, top := w.call(w.tokens[asker], "GET", "/api/v1/projects/salt-clock/scenes", nil)
		_, inside := w.call(w.tokens[asker], "GET", "/api/v1/projects/salt-clock/scenes?path=gannet", nil)
		_, scene := w.call(w.tokens[asker], "GET", "/api/v1/projects/salt-clock/scene?path=gannet/secret.practice", nil)
		status, _ := w.call(w.tokens[asker], "POST", "/api/v1/runs", submit("gannet/secret.practice"))
		member := asker == "nadia"
		if strings.Contains(string(top), "gannet") != member || strings.Contains(string(inside), "secret") != member ||
			strings.Contains(string(scene), `"recipe"`) != member || (status < 300) != member {
			t.Errorf("%s: %s\n%s\n%s\n%d", asker, top, inside, scene, status)
		}
		if status, body := w.call(w.tokens[asker], "POST", "/api/v1/runs", submit("terns/open.practice")); status >= 300 {
			t.Errorf("%s submits from an open folder: %d %s", asker, status, body)
		}
	}
}

// TestNobodyActsOnTheRunsOfOthers lets nodes be asked about a wrangler's held command run, and
// a lead write a preset for the recipe that runs commands.
func TestNobodyActsOnTheRunsOfOthers(t *testing.T) {
	w := newWorld(t)
	w.closedProject()
	var receipt wire.Receipt
	w.as(wrangler, "POST", "/api/v1/runs", wire.Submit{
		Job: "tool", Project: "gannet", Recipe: "command", Scene: "heron.practice", Frames: "1", Held: true,
		Values: map[string]string{"line": "true", "result": "x"},
	}, &receipt)
	for _, frame := range []bool{false, true} {
		status, body := w.call(w.tokens["nadia"], "POST", "/api/v1/preflights", wire.Preflighting{Run: receipt.Run, Frame: frame})
		if status != http.StatusForbidden {
			t.Errorf("nodes are asked about a run of another: %d %s", status, body)
		}
	}
	w.as("ines", "PUT", "/api/v1/presets/trap?project=gannet", wire.PresetChange{Text: "values: {line: 'touch /tmp/x'}\n"}, nil)
	status, body := w.call(w.tokens[wrangler], "POST", "/api/v1/runs", wire.Submit{
		Job: "tool", Project: "gannet", Recipe: "command", Scene: "heron.practice", Frames: "1", Preset: "trap", DryRun: true,
		Values: map[string]string{"result": "x"},
	})
	if status != http.StatusForbidden || !strings.Contains(string(body), "was written by ines") {
		t.Errorf("a wrangler runs the line of a lead's preset: %d %s", status, body)
	}
}

// TestBundlesBelongToProjects sends a bundle for one project and looks for it from another.
func TestBundlesBelongToProjects(t *testing.T) {
	w := newWorld(t)
	w.closedProject()
	scene := []byte("practice: 1\npicture: salt\ncost: 1s\n")
	m := bundle.Manifest{Format: bundle.Format, Scene: "heron.practice", Files: []bundle.File{
		{Path: "heron.practice", Content: bundle.Content{Hash: bundle.HashOf(scene), Size: int64(len(scene))}},
	}}
	send := func(asker who, project string) (state wire.BundleState) {
		w.as(asker, "POST", "/api/v1/projects/"+project+"/bundles", string(m.Encode()), &state)
		return state
	}
	piece := func(project string) string {
		return fmt.Sprintf("/api/v1/projects/%s/bundles/%s/contents/%s/0", project, m.ID(), m.Files[0].Hash)
	}
	if state := send("nadia", "gannet"); state.MissingBytes != int64(len(scene)) {
		t.Fatalf("%+v", state)
	}
	w.as("nadia", "PUT", piece("gannet"), string(scene), nil)
	submit := wire.Submit{Job: "x", Project: "salt-clock", Scene: "heron.practice", Bundle: m.ID(), Frames: "1", DryRun: true}
	for what, call := range map[string]func() (int, []byte){
		"the manifest by its project": func() (int, []byte) {
			return w.call(w.tokens["tobin"], "GET", "/api/v1/projects/gannet/bundles/"+m.ID(), nil)
		},
		"the manifest by another": func() (int, []byte) {
			return w.call(w.tokens["tobin"], "GET", "/api/v1/projects/salt-clock/bundles/"+m.ID(), nil)
		},
		"a piece": func() (int, []byte) { return w.call(w.tokens["tobin"], "PUT", piece("salt-clock"), string(scene)) },
		"a run":   func() (int, []byte) { return w.call(w.tokens["tobin"], "POST", "/api/v1/runs", submit) },
		"a node":  func() (int, []byte) { return w.call(w.tokens[aNode], "GET", "/node/v1/bundles/"+m.ID(), nil) },
	} {
		if status, body := call(); status != 404 && status != 422 || !strings.Contains(string(body), "there is no") {
			t.Errorf("%s: %d %s", what, status, body)
		}
	}
	// That somebody has sent it is not to be seen: the other project has to send it, too.
	if state := send("tobin", "salt-clock"); state.MissingBytes != int64(len(scene)) {
		t.Errorf("another project lacks %d bytes of what somebody has sent", state.MissingBytes)
	}
	w.as("tobin", "PUT", piece("salt-clock"), string(scene), nil)
	w.as("tobin", "POST", "/api/v1/runs", submit, nil)
	if status, body := w.call(w.tokens[artist], "PUT", piece("salt-clock")[:len(piece("salt-clock"))-1]+"9", string(scene)); status != 404 {
		t.Errorf("a piece that does not exist: %d %s", status, body)
	}
}

// TestABodyThatFillsTheDiskIsRefused asks for many pieces of one hash, as cheap a request as
// there is.
func TestABodyThatFillsTheDiskIsRefused(t *testing.T) {
	w := newWorld(t)
	one := bundle.HashOf([]byte("a"))
	pieces := make([]string, 3000)
	for i := range pieces {
		pieces[i] = one
	}
	m := bundle.Manifest{Format: bundle.Format, Scene: "a", Files: []bundle.File{{Path: "a", Content: bundle.Content{
		Hash: one, Size: 3000 << 20, Piece: bundle.PieceSize(3000 << 20), Pieces: pieces,
	}}}}
	began := time.Now()
	status, body := w.call(w.tokens[artist], "POST", "/api/v1/projects/salt-clock/bundles", string(m.Encode()))
	if status != 422 || time.Since(began) > 10*time.Second {
		t.Errorf("%d %s after %v", status, body, time.Since(began))
	}
}
