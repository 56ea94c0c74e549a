package api

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vexillum/internal/wire"
)

// closedProject makes the project gannet, which only Nadia sees, and Ines as its lead, with
// the run heron_040 that a node works on.
func (w *world) closedProject() wire.Run {
	w.t.Helper()
	first, _, session := w.atWork()
	w.must("POST", fmt.Sprintf("/api/v1/runs/%d/cancel", first.ID), nil, nil)
	for _, name := range []string{"nadia", "ines", "tobin"} {
		w.must("PATCH", "/api/v1/people/"+name, wire.PersonChange{Role: "artist", Password: testPassword}, nil)
		w.tokens[who(name)] = w.signIn(name)
	}
	w.must("PATCH", "/api/v1/projects/gannet", wire.ProjectChange{
		Scenes: "scenes", Frames: "frames", Members: map[string]string{"nadia": "artist", "ines": "lead"},
	}, nil)
	if err := os.WriteFile(filepath.Join(w.dir, "scenes", "heron.practice"), nil, 0o644); err != nil {
		w.t.Fatal(err)
	}
	w.must("PUT", "/api/v1/presets/plumage?project=gannet", wire.PresetChange{Text: "tries: 2\n"}, nil)
	w.must("PUT", "/api/v1/pools/loft", wire.NewPool{Projects: []string{"gannet"}}, nil)
	mask := "002"
	w.must("PATCH", "/api/v1/launch-settings", wire.LaunchSettingsChange{Project: "gannet", Mask: &mask}, nil)
	var receipt wire.Receipt
	w.as("nadia", "POST", "/api/v1/runs", wire.Submit{
		Job: "heron_040", Project: "gannet", Scene: "heron.practice", Frames: "1-3", Priority: "high",
	}, &receipt)
	var answer wire.Answer
	w.as(aNode, "POST", "/node/v1/ask", wire.Ask{Session: session, Number: 2}, &answer)
	if len(answer.Leases) == 0 {
		w.t.Fatal(answer.Why)
	}
	said := wire.Said{Session: session, Pieces: []wire.SaidPiece{
		{Lease: answer.Leases[0].ID, Run: receipt.Run, Seq: 1, Lines: []wire.SaidLine{
			{At: time.Now().UnixMilli(), Stream: 1, Text: "reading heron.practice"},
		}},
		{Seq: 2, Lines: []wire.SaidLine{{At: time.Now().UnixMilli(), Text: "lease 2 of heron_040/final-1"}}},
	}}
	w.as(aNode, "POST", "/node/v1/said", said, nil)
	var run wire.Run
	w.must("GET", fmt.Sprintf("/api/v1/runs/%d", receipt.Run), nil, &run)
	return run
}

// told returns the first of what a live stream tells, as long as it tells something at once.
func (w *world) told(token string) string {
	w.t.Helper()
	ctx, cancel := context.WithTimeout(w.t.Context(), time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, "GET", w.server.URL+"/api/v1/events", nil)
	if err != nil {
		w.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		w.t.Fatal(err)
	}
	defer resp.Body.Close()
	var out strings.Builder
	for lines := bufio.NewScanner(resp.Body); lines.Scan(); {
		out.WriteString(lines.Text() + "\n")
	}
	return out.String()
}

// TestAClosedProjectIsNotSeen reads everything that there is to read as somebody who does not
// belong to a project, and looks for a trace of it; and as those who do.
func TestAClosedProjectIsNotSeen(t *testing.T) {
	w := newWorld(t)
	run := w.closedProject()
	traces := []string{"heron", "gannet", "plumage"}
	fill := strings.NewReplacer(
		":run", fmt.Sprint(run.ID), ":frame", "1", ":node", "1", ":project", "gannet", ":preset", "plumage",
	)
	for _, r := range routes {
		if r.who != viewer && r.who != artist {
			continue
		}
		path := fill.Replace(r.path)
		inside := strings.Contains(r.path, ":run") || strings.Contains(r.path, ":project")
		if r.method != "GET" && !inside {
			continue
		}
		status, body := w.call(w.tokens["tobin"], r.method, path, "{}")
		answer := string(body)
		if r.path == "/api/v1/events" {
			answer = w.told(w.tokens["tobin"])
			if !strings.Contains(answer, "run.added") || !strings.Contains(answer, "node.added") {
				t.Errorf("the stream does not begin: %s", answer)
			}
		}
		if inside && status != http.StatusNotFound {
			t.Errorf("%s %s: %d %s, want 404", r.method, path, status, body)
		}
		if !inside || !strings.Contains(r.path, ":project") {
			for _, trace := range traces {
				if strings.Contains(answer, trace) {
					t.Errorf("%s %s tells of %s: %s", r.method, path, trace, answer)
				}
			}
		}
	}
	for _, path := range []string{
		"/api/v1/farm", "/api/v1/runs", "/api/v1/queue", "/api/v1/queue?search=heron", "/api/v1/runs?name=heron_040",
		"/api/v1/projects", fmt.Sprintf("/api/v1/runs/%d", run.ID), "/api/v1/projects/gannet/scenes",
	} {
		for _, asker := range []who{"nadia", "ines", wrangler} {
			if status, body := w.call(w.tokens[asker], "GET", path, nil); !strings.Contains(string(body), "heron") &&
				!strings.Contains(string(body), "gannet") {
				t.Errorf("%s as %s: %d %s", path, asker, status, body)
			}
		}
	}
	if answer := w.told(w.tokens["nadia"]); !strings.Contains(answer, "heron_040") {
		t.Error("a member's stream does not tell of the project")
	}
}

// TestOnlyMembersSubmit tries to get into a closed project by all ways in.
func TestOnlyMembersSubmit(t *testing.T) {
	w := newWorld(t)
	run := w.closedProject()
	job := "job_file: 1\nproject: gannet\njobs:\n  - {name: gull, scene: heron.practice, frames: 1-2}\n"
	inside := wire.Submit{Job: "gull", Project: "gannet", Scene: "heron.practice", Frames: "1-2"}
	after := wire.Submit{
		Job: "gull", Project: "salt-clock", Scene: "a.practice", Frames: "1", After: []wire.SubmitAfter{{Run: "heron_040"}},
	}
	for path, in := range map[string]any{
		"/api/v1/runs": inside, "/api/v1/jobs": wire.SubmitJobs{Text: job},
		"/api/v1/estimates": wire.Estimating{Submit: &inside}, "/api/v1/preflights": wire.Preflighting{Submit: &inside},
	} {
		status, body := w.call(w.tokens["tobin"], "POST", path, in)
		if status != http.StatusUnprocessableEntity ||
			!strings.Contains(string(body), `there is no project \"gannet\"`) {
			t.Errorf("%s: %d %s", path, status, body)
		}
	}
	for path, in := range map[string]any{
		"/api/v1/runs": after, "/api/v1/preflights": wire.Preflighting{Run: run.ID},
		"/api/v1/retries": wire.Retrying{Runs: []int64{run.ID}},
	} {
		status, body := w.call(w.tokens["tobin"], "POST", path, in)
		if status != http.StatusUnprocessableEntity && status != http.StatusNotFound ||
			!strings.Contains(string(body), "there is no run") {
			t.Errorf("%s: %d %s", path, status, body)
		}
	}
	for _, asker := range []who{"nadia", "ines"} {
		in := inside
		in.Job = "gull-" + string(asker)
		w.as(asker, "POST", "/api/v1/runs", in, nil)
	}
}

// TestLeadsSteer steers a run of another as an artist and as a lead of its project.
func TestLeadsSteer(t *testing.T) {
	w := newWorld(t)
	run := w.closedProject()
	w.must("PATCH", "/api/v1/projects/gannet", wire.ProjectChange{
		Members: map[string]string{"nadia": "artist", "ines": "lead", "tobin": "artist"},
	}, nil)
	hold := fmt.Sprintf("/api/v1/runs/%d/hold", run.ID)
	preset := "/api/v1/presets/plumage?project=gannet"
	for path, method := range map[string]string{hold: "POST", preset: "PUT"} {
		status, body := w.call(w.tokens["tobin"], method, path, wire.PresetChange{Text: "tries: 3\n"})
		if status != http.StatusForbidden ||
			!strings.Contains(string(body), "only a lead of the project gannet or a wrangler") {
			t.Errorf("%s %s as another artist: %d %s", method, path, status, body)
		}
		w.as("ines", method, path, wire.PresetChange{Text: "tries: 3\n"}, nil)
	}
	if status, body := w.call(
		w.tokens["ines"], "PUT", "/api/v1/presets/plumage", wire.PresetChange{Text: "tries: 3\n"},
	); status != http.StatusForbidden {
		t.Errorf("a lead keeps a preset of all projects: %d %s", status, body)
	}
	var me wire.Me
	w.as("ines", "GET", "/api/v1/me", nil, &me)
	if len(me.Leads) != 1 || me.Leads[0] != "gannet" {
		t.Errorf("%+v", me)
	}

	// Who is taken off the farm belongs to nothing any more, and nobody after them of that name.
	w.must("DELETE", "/api/v1/people/ines", nil, nil)
	w.must("PATCH", "/api/v1/people/ines", wire.PersonChange{Role: "artist", Password: testPassword}, nil)
	if status, _ := w.call(w.signIn("ines"), "GET", fmt.Sprintf("/api/v1/runs/%d", run.ID), nil); status != 404 {
		t.Errorf("another Ines sees the run: %d", status)
	}
}

// TestMembersAreChecked names members that cannot be, and opens and closes a project.
func TestMembersAreChecked(t *testing.T) {
	w := newWorld(t)
	w.closedProject()
	for want, members := range map[string]map[string]string{
		`there is nobody called \"nobody\"`: {"nobody": "artist"},
		"can be an artist or a lead":        {"nadia": "boss"},
	} {
		status, body := w.call(
			w.tokens[wrangler], "PATCH", "/api/v1/projects/gannet", wire.ProjectChange{Members: members},
		)
		if status != http.StatusUnprocessableEntity || !strings.Contains(string(body), want) {
			t.Errorf("%v: %d %s", members, status, body)
		}
	}
	no := false
	for _, c := range []struct {
		in     wire.ProjectChange
		closed bool
		count  int
	}{
		{wire.ProjectChange{Closed: &no}, false, 2},
		{wire.ProjectChange{Members: map[string]string{"tobin": "artist"}}, true, 1},
		{wire.ProjectChange{Members: map[string]string{}}, true, 0},
		{wire.ProjectChange{Members: map[string]string{"tobin": "lead"}, Closed: &no}, false, 1},
	} {
		var p wire.Project
		w.must("PATCH", "/api/v1/projects/gannet", c.in, &p)
		if p.Closed != c.closed || len(p.Members) != c.count {
			t.Errorf("%+v gives %+v", c.in, p)
		}
	}
}
