package api

import (
	"context"
	"encoding/json"
	"io"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/tmaxmax/go-sse"

	"vexillum/internal/wire"
)

// TestEventsInTheDocument compares what the document says of events with what the
// service sorts fields by, and with real ones.
func TestEventsInTheDocument(t *testing.T) {
	doc, err := openapi3.NewLoader().LoadFromData(openAPI)
	if err != nil {
		t.Fatal(err)
	}
	properties := func(schema string) openapi3.Schemas { return doc.Components.Schemas[schema].Value.Properties }
	names := func(schema string) []string { return slices.Sorted(maps.Keys(properties(schema))) }
	for _, c := range []struct {
		whole    string
		progress func(string) bool
	}{{"Run", wire.RunProgress}, {"Node", wire.NodeProgress}} {
		if got, want := names(c.whole+"Patch"), names(c.whole); !slices.Equal(got, want) {
			t.Errorf("%sPatch has the fields %q, and %s %q", c.whole, got, c.whole, want)
		}
		want := slices.DeleteFunc(names(c.whole), func(f string) bool { return f != "id" && !c.progress(f) })
		if got := names(c.whole + "Progress"); !slices.Equal(got, want) {
			t.Errorf("%sProgress has the fields %q, want %q", c.whole, got, want)
		}
	}
	for _, part := range []string{"FarmFacts", "FrameSets", "Forecast"} {
		if got, want := names(part+"Patch"), names(part); !slices.Equal(got, want) {
			t.Errorf("%sPatch has the fields %q, and %s %q", part, got, part, want)
		}
	}

	w := newWorld(t)
	if err := os.WriteFile(filepath.Join(w.dir, "scenes", "a.practice"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	stream := w.listens("/api/v1/events")
	w.must(
		"POST", "/api/v1/runs", wire.Submit{Job: "a", Project: "salt-clock", Scene: "a.practice", Frames: "1"}, nil,
	)
	w.must("POST", "/api/v1/runs/1/hold", nil, nil)
	heard := map[string]bool{}
	for e, err := range sse.Read(stream, &sse.ReadConfig{MaxEventSize: 1 << 20}) {
		if err != nil {
			t.Fatalf("%v after %v", err, heard)
		}
		schema := properties("Events")[e.Type]
		if schema == nil {
			t.Fatalf("the event %s is not in the document", e.Type)
		}
		var data any
		if err := json.Unmarshal([]byte(e.Data), &data); err != nil {
			t.Fatal(err)
		}
		if err := schema.Value.VisitJSON(data); err != nil {
			t.Errorf("%s: %v\n%s", e.Type, err, e.Data)
		}
		heard[e.Type] = true
		if heard[wire.EventRunChanged] || heard[wire.EventRunAdded] && jobIsHeld(e) {
			return
		}
	}
	t.Errorf("the stream ended after %v", heard)
}

// jobIsHeld reports whether a run is told as held already when it is added.
func jobIsHeld(e sse.Event) bool {
	var data struct {
		Runs []wire.Run `json:"runs"`
	}
	return json.Unmarshal([]byte(e.Data), &data) == nil && len(data.Runs) > 0 && data.Runs[0].State == "held"
}

// TestEventsOfTheFarmAlone follows the farm as a whole while a run comes and goes: nothing of the run is sent.
func TestEventsOfTheFarmAlone(t *testing.T) {
	w := newWorld(t)
	if err := os.WriteFile(filepath.Join(w.dir, "scenes", "a.practice"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	stream := w.listens("/api/v1/events?of=farm")
	w.must("POST", "/api/v1/runs", wire.Submit{Job: "a", Project: "salt-clock", Scene: "a.practice", Frames: "1"}, nil)
	w.must("POST", "/api/v1/runs/1/cancel", nil, nil)
	facts, alive := 0, 0
	for e, err := range sse.Read(stream, &sse.ReadConfig{MaxEventSize: 1 << 20}) {
		if err != nil {
			t.Fatal(err)
		}
		switch e.Type {
		case wire.EventFacts:
			facts++
		case wire.EventHere:
			alive++
		case wire.EventAlerts:
		default:
			t.Errorf("it is told of %s", e.Type)
		}
		if e.LastEventID != "" {
			t.Errorf("%s has the id %s", e.Type, e.LastEventID)
		}
		if facts > 0 && alive > 2 { // signs of life come every few seconds
			return
		}
	}
	t.Errorf("the stream ended after %d and %d", facts, alive)
}

// listens opens a stream as a viewer, for 20 seconds at most.
func (w *world) listens(path string) io.Reader {
	w.t.Helper()
	ctx, cancel := context.WithTimeout(w.t.Context(), 20*time.Second)
	w.t.Cleanup(cancel)
	req, err := http.NewRequestWithContext(ctx, "GET", w.server.URL+path, nil)
	if err != nil {
		w.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+w.tokens[viewer])
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		w.t.Fatal(err)
	}
	w.t.Cleanup(func() { _ = resp.Body.Close() })
	return resp.Body
}
