package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"vexillum/internal/wire"
)

// nasty are values that some program will send one day.
var nasty = []any{
	nil, true, "", "x", " ", "a\x00b", "\x00", "ü\u202e", strings.Repeat("long ", 20_000), "../../etc/passwd",
	"'; DROP TABLE run; --", "{{.}}", "1-", "\r\n", 0, -1, 1, 1 << 31, 1<<31 - 1, -1 << 31, 1 << 40, 1 << 62, -1 << 62,
	1<<63 - 1, 0.5, 5e-324, 1e9, 1e300, 1e308, -1e308, "0-100000000/2", "1-1000000000", "2147483648",
	"1734-01-01T00:00:00Z", []any{}, []any{nil}, []any{"a\x00"}, map[string]any{}, map[string]any{"a\x00": "b\x00"},
	map[string]any{"linux": "/a\x00"},
}

// TestMangledBodiesNeverBreakTheService puts every nasty value into every
// field of every body. Each must be answered with less than 500, and the farm
// must never have to be loaded again because of it.
func TestMangledBodiesNeverBreakTheService(t *testing.T) {
	w := newWorld(t)
	if err := os.WriteFile(filepath.Join(w.dir, "scenes", "a.practice"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	var key wire.Key
	w.must("POST", "/api/v1/keys", wire.NewKey{Uses: new(10_000)}, &key)
	facts := wire.Facts{OS: "linux", Speed: 1, Renderers: []wire.Renderer{{Recipe: "practice"}}}
	begin := func() (lease, session int64) {
		var started wire.Started
		var answer wire.Answer
		w.as(aNode, "POST", "/node/v1/start", wire.Start{Facts: facts}, &started)
		w.must(
			"POST", "/api/v1/runs", wire.Submit{Job: "job", Project: "salt-clock", Scene: "a.practice", Frames: "1-50"},
			nil,
		)
		w.as(aNode, "POST", "/node/v1/ask", wire.Ask{Session: started.Session, Number: 1}, &answer)
		if len(answer.Leases) == 0 {
			t.Fatal(answer.Why)
		}
		return answer.Leases[0].ID, started.Session
	}
	floor, err := w.svc.Floor()
	if err != nil {
		t.Fatal(err)
	}
	lease, now := begin()
	for _, c := range requests(key.Key, lease, now, facts) {
		w.brief = strings.HasSuffix(c.path, "/ask") ||
			strings.HasSuffix(c.path, "/orders") // these wait for something to happen
		for _, mangled := range mangle(t, c.body) {
			status, answer := w.call(w.tokens[c.who], c.method, c.path, mangled)
			if status >= 500 {
				t.Errorf("%s %s with %.200s: %d %.300s", c.method, c.path, mangled, status, answer)
			}
		}
		w.brief = false
		if again, err := w.svc.Floor(); err != nil || again != floor {
			t.Fatalf("%s %s: the farm had to be loaded anew: %v", c.method, c.path, err)
		}
	}
	w.mangledPaths()
	if status, _ := w.call("", "GET", "/readyz", nil); status != http.StatusOK {
		t.Errorf("the service is not ready: %d", status)
	}
}

// mangledPaths asks for what has numbers that no run, node, frame or token has.
func (w *world) mangledPaths() {
	w.t.Helper()
	for _, r := range routes {
		if !strings.Contains(r.path, ":") || r.method != "GET" || strings.Contains(r.path, "/live") {
			continue
		}
		for _, number := range []string{
			"-1", "0", "2147483648", "-2147483649", "9223372036854775807", "9223372036854775808", "1e3", "%00", "%20",
		} {
			path := regexp.MustCompile(`:[a-z]+`).ReplaceAllString(r.path, number)
			who := r.who
			if who == viewer || who == wrangler || who == artist {
				who = admin
			}
			for _, query := range []string{
				"", "?frame=2147483648&lease=9223372036854775807&limit=1e9",
				"?before=1734-01-01T00:00:00Z&search=%00&cursor=-1",
			} {
				if status, answer := w.call(w.tokens[who], "GET", path+query, nil); status >= 500 {
					w.t.Errorf("GET %s: %d %.200s", path+query, status, answer)
				}
			}
		}
	}
}

// request is one call of the service.
type request struct {
	who          who
	method, path string
	body         any
}

// requests are good calls, one of each kind. A node has the lease in the session
// now.
func requests(key string, lease, now int64, facts wire.Facts) []request {
	frame := 3
	whole := facts
	whole.Cores, whole.Memory, whole.Disk, whole.DiskRate, whole.NetworkRate = 4, 1<<33, 1<<40, 1<<27, 1<<27
	whole.Devices = []wire.Device{{ID: "gpu0", Model: "m", Memory: 1 << 33}}
	return []request{
		{"", "POST", "/api/v1/session", wire.SignIn{Name: "nobody", Password: "x", Label: "y"}},
		{
			admin, "POST", "/api/v1/runs",
			wire.Submit{
				Job: "job", Project: "salt-clock", Kind: "final", Recipe: "practice", Scene: "a.practice",
				Frames: "1-3", Width: 8, Height: 8, Output: "o", Values: map[string]string{}, Tries: 2, Chunk: 1,
				Held: true,
			},
		},
		{
			admin, "PATCH", "/api/v1/projects/p",
			wire.ProjectChange{Title: new(string), Weight: new(float64), Scenes: "scenes", Frames: "frames"},
		},
		{admin, "PATCH", "/api/v1/places/q", wire.PlaceChange{Paths: map[string]string{"linux": "/q"}}},
		{admin, "PATCH", "/api/v1/people/somebody", wire.PersonChange{Role: "viewer", Password: testPassword}},
		{admin, "POST", "/api/v1/keys", wire.NewKey{Label: "l", Seconds: new(60), Uses: new(1)}},
		{"", "POST", "/node/v1/enrol", wire.Enrol{Key: key, Name: "kiln-07", Kind: "rack", Facts: facts}},
		{
			aNode, "POST", "/node/v1/beat",
			wire.Beat{
				Session: now, MemoryFree: new(int64), DiskFree: new(int64), DiskTotal: 1, SwapUsed: 1,
				Sample: &wire.Sample{Processor: 1, Groups: []float64{1}, Memory: 1},
				Leases: []wire.Progress{{Lease: lease, Frame: &frame, Phase: "rendering", Verifying: []int{1}}},
			},
		},
		{aNode, "POST", "/node/v1/orders", wire.Orders{Session: now, Leases: []int64{lease}}},
		{
			aNode, "POST", "/node/v1/report",
			wire.Report{
				Session: now,
				Items: []wire.ReportItem{{
					Outcome: wire.OutcomeGood, Lease: lease, Launch: 1, Frame: 3, Hash: strings.Repeat("a", 64),
					Bytes: 1, StartupSeconds: 1, RenderSeconds: 1, CheckSeconds: 1, MemoryBytes: 1,
				}},
			},
		},
		{
			aNode, "POST", "/node/v1/report",
			wire.Report{
				Session: now,
				Items: []wire.ReportItem{{
					Outcome: wire.OutcomeFailed, Lease: lease, Launch: 1, Frame: 4, Cause: "crash", Message: "m",
				}},
			},
		},
		{
			aNode, "POST", "/node/v1/report",
			wire.Report{
				Session: now, Items: []wire.ReportItem{{Outcome: wire.OutcomeEnded, Lease: lease, Message: "m"}},
			},
		},
		{
			aNode, "POST", "/node/v1/ask",
			wire.Ask{
				Session: now, Number: 7, Warm: lease, Ended: []wire.Ended{{Lease: lease + 1, Message: "m"}},
				Memory: &wire.Memory{Free: 1, Used: []wire.LeaseUsed{{Lease: lease, Bytes: 1}}},
			},
		},
		{aNode, "POST", "/node/v1/trimmed", wire.Trimmed{Session: now, ID: 1, Lease: lease, Frames: "1-3"}},
		{
			aNode, "POST", "/node/v1/said",
			wire.Said{Pieces: []wire.SaidPiece{{
				Lease: lease, Run: 1, Seq: 1, Lines: []wire.SaidLine{{At: 1, Stream: 1, Text: "t"}},
			}}},
		},
		{
			admin, "PATCH", "/api/v1/runs/1",
			wire.RunChange{
				Priority: new(string), Ceiling: new(string), Due: new(string), Put: new(string), Before: new(int64),
				DryRun: true,
			},
		},
		{admin, "POST", "/api/v1/runs/1/redo", wire.Redo{Frames: "1-3"}},
		{admin, "POST", "/api/v1/runs/1/frame-acts", wire.FramesAct{Do: "skip", Frames: "1-3", Note: "cut"}},
		{
			admin, "PATCH", "/api/v1/launch-settings",
			wire.LaunchSettingsChange{
				Project: "salt-clock", Recipe: "practice", Account: new(string), Mask: new(string),
				Variables: map[string]*string{"A": new(string)},
			},
		},
		{admin, "PUT", "/api/v1/licences/beads", wire.NewLicence{Count: new(int)}},
		{
			admin, "PUT", "/api/v1/stays",
			wire.Stay{Kind: "recipe", Name: "povray", Held: true, Step: 1, EverySeconds: 1, Reason: "r", DryRun: true},
		},
		{admin, "PUT", "/api/v1/pools/shed", wire.Pool{Projects: []string{"salt-clock"}}},
		{
			admin, "POST", "/api/v1/node-acts",
			wire.NodeAct{
				Selection: wire.Selection{Nodes: []int64{1}, Where: "rack", Pool: "shed"}, Do: "hold", Reason: "r",
				DryRun: true,
			},
		},
		{
			admin, "POST", "/api/v1/node-changes",
			wire.NodeChange{
				Selection: wire.Selection{Nodes: []int64{1}}, AddTraits: []string{"red"}, Parts: []string{"traits"},
				From: 1,
				Caps: &wire.CapChange{
					Cores: new(int), MemoryBytes: new(int64), Nice: new(int), StagingBytes: new(int64),
					Leases: new(int), SpareBytes: new(int64), KeptDevices: &[]string{"gpu0"},
				},
				Hours: &wire.Hours{
					Zone: "Europe/Berlin", Week: "mon-fri 18:00-08:00",
					Exceptions: []wire.HourException{{Date: "2031-03-04", Windows: "12:00-14:00", Note: "n"}},
				},
				DryRun: true,
			},
		},
		{aNode, "POST", "/node/v1/leave", wire.Leave{Session: now, Reason: "r"}},
		{aNode, "POST", "/node/v1/start", wire.Start{Facts: whole, Holding: []wire.Held{{Lease: lease, Life: "x"}}}},
	}
}

// as calls as somebody and wants it to succeed.
func (w *world) as(asker who, method, path string, in, out any) {
	w.t.Helper()
	status, data := w.call(w.tokens[asker], method, path, in)
	if status >= 300 || out != nil && json.Unmarshal(data, out) != nil {
		w.t.Fatalf("%s %s: %d %s", method, path, status, data)
	}
}

// mangle returns the body with each field, at any depth, replaced by each
// nasty value.
func mangle(t *testing.T, body any) (out []string) {
	t.Helper()
	data, err := json.Marshal(body)
	if err != nil {
		t.Fatal(err)
	}
	encode := func(v any) string {
		text, err := json.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	var whole any
	if err := json.Unmarshal(data, &whole); err != nil {
		t.Fatal(err)
	}
	var walk func(at any, put func(any))
	walk = func(at any, put func(any)) {
		if put != nil {
			for _, n := range nasty {
				put(n)
				out = append(out, encode(whole))
			}
			put(at)
		}
		switch v := at.(type) {
		case map[string]any:
			for name := range v {
				walk(v[name], func(n any) { v[name] = n })
			}
		case []any:
			for i := range v {
				walk(v[i], func(n any) { v[i] = n })
			}
		}
	}
	walk(whole, nil)
	for _, n := range nasty {
		out = append(out, encode(n))
	}
	return append(out, fmt.Sprintf(`{"%s": 1}`, strings.Repeat("a", 1000)))
}
