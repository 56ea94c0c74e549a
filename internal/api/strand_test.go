package api

import (
	"encoding/json"
	"strings"
	"testing"

	"vexillum/internal/wire"
)

// TestNothingIsTakenFromOpenRunsUnasked changes where an open run reads and writes: it is said
// which runs that is, and nothing changes until somebody says that it shall all the same.
func TestNothingIsTakenFromOpenRunsUnasked(t *testing.T) {
	w := newWorld(t)
	w.scene("a.practice", "")
	name := w.submitted(wire.Submit{Scene: "a.practice", Frames: "1-3"}).Name
	var places []wire.Place
	w.must("GET", "/api/v1/places", nil, &places)
	before, _ := json.Marshal(places)
	var project wire.Project
	frames := places[0]
	for _, p := range places {
		if strings.Contains(p.Paths["linux"], "frames") {
			frames = p
		}
	}
	w.must("PATCH", "/api/v1/places/other", wire.PlaceChange{Paths: map[string]string{"linux": w.dir}, DryRun: true}, nil)
	w.must("PATCH", "/api/v1/places/other", wire.PlaceChange{Paths: map[string]string{"linux": w.dir}}, nil)
	for _, c := range []struct {
		path string
		in   any
	}{
		{"/api/v1/places/" + frames.Name, wire.PlaceChange{Paths: map[string]string{"linux": "/nonexist"}}},
		{"/api/v1/places/" + frames.Name, wire.PlaceChange{Paths: map[string]string{"linux": "/nonexist"}, DryRun: true}},
		{"/api/v1/places/" + frames.Name, wire.PlaceChange{Paths: map[string]string{"linux": "", "darwin": "/Volumes/a"}}},
		{"/api/v1/projects/salt-clock", wire.ProjectChange{Frames: "other"}},
		{"/api/v1/projects/salt-clock", wire.ProjectChange{Scenes: "other"}},
	} {
		status, body := w.call(w.tokens[admin], "PATCH", c.path, c.in)
		var p wire.Problem
		if err := json.Unmarshal(body, &p); err != nil || status != 409 || p.Field != "strand" ||
			!strings.Contains(p.Detail, name) {
			t.Errorf("%s %+v: %d %s", c.path, c.in, status, body)
		}
	}
	// What open runs do not use may be changed.
	w.must("PATCH", "/api/v1/places/"+frames.Name, wire.PlaceChange{Paths: map[string]string{"windows": `F:\`}}, nil)
	w.must("PATCH", "/api/v1/places/"+frames.Name, wire.PlaceChange{Paths: map[string]string{"windows": ""}}, nil)
	w.must("PATCH", "/api/v1/places/other", wire.PlaceChange{Paths: map[string]string{"linux": "/nonexist"}}, nil)
	title := "Salt"
	w.must("PATCH", "/api/v1/projects/salt-clock", wire.ProjectChange{Title: &title}, &project)
	w.must("GET", "/api/v1/places", nil, &places)
	places = places[:0]
	w.must("GET", "/api/v1/places", nil, &places)
	for _, p := range places {
		if p.Name == frames.Name && p.Paths["linux"] != frames.Paths["linux"] {
			t.Errorf("the place is %+v; they were %s", p, before)
		}
	}
	dry := wire.ProjectChange{Frames: "other", Strand: true, DryRun: true}
	w.must("PATCH", "/api/v1/projects/salt-clock", dry, &project)
	w.must("PATCH", "/api/v1/projects/salt-clock", wire.ProjectChange{}, &project)
	if project.Frames == "other" {
		t.Error("a dry run has changed the project")
	}
	w.must("PATCH", "/api/v1/projects/salt-clock", wire.ProjectChange{Frames: "other", Strand: true}, &project)
	if project.Frames != "other" {
		t.Errorf("although somebody has said so, frames go to %s", project.Frames)
	}
}
