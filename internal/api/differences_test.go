package api

import (
	"fmt"
	"reflect"
	"strings"
	"testing"

	"vexillum/internal/wire"
)

// TestRunsAreCompared compares the second run of a job with the first, and asks for what
// cannot be compared.
func TestRunsAreCompared(t *testing.T) {
	w := newWorld(t)
	first, _, _ := w.atWork()
	var receipt wire.Receipt
	w.must("POST", "/api/v1/runs", wire.Submit{
		Job: "job", Project: "salt-clock", Scene: "a.practice", Frames: "1-9", Width: 640, Height: 360,
		Priority: "high",
	}, &receipt)
	path := fmt.Sprintf("/api/v1/runs/%d/differences", receipt.Run)
	var found, named wire.RunDifferences
	w.must("GET", path, nil, &found)
	want := []wire.RunDifference{
		{What: "frames", Was: "1-3", Is: "1-9"}, {What: "size", Was: "1920×1080", Is: "640×360"},
		{What: "priority", Was: "normal", Is: "high"},
	}
	got := found.Differences
	for i := len(got) - 1; i >= 0; i-- { // the shot follows the frames
		if got[i].What == "shot" {
			got = append(got[:i], got[i+1:]...)
		}
	}
	if found.FromName != "job/final-1" || !reflect.DeepEqual(got, want) {
		t.Errorf("it differs from %s by %+v", found.FromName, got)
	}
	w.must("GET", fmt.Sprintf("%s?from=%d", path, receipt.Run), nil, &named)
	if named.Differences == nil || len(named.Differences) > 0 {
		t.Errorf("a run differs from itself by %+v", named.Differences)
	}
	for _, c := range []struct{ path, says string }{
		{fmt.Sprintf("/api/v1/runs/%d/differences", first.ID), "job/final-1 is the first run of its job"},
		{path + "?from=777", "there is no run 777"},
		{"/api/v1/runs/777/differences", "there is no run 777"},
	} {
		status, body := w.call(w.tokens[viewer], "GET", c.path, nil)
		if status != 404 || !strings.Contains(string(body), c.says) {
			t.Errorf("%s: %d %s", c.path, status, body)
		}
	}
}
