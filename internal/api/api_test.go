package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/getkin/kin-openapi/openapi3"

	"vexillum/internal/core/farm"
	"vexillum/internal/recipe"
	"vexillum/internal/secret"
	"vexillum/internal/service"
	"vexillum/internal/store"
	"vexillum/internal/testkit/pgtest"
	"vexillum/internal/wire"
)

func TestMain(m *testing.M) { os.Exit(pgtest.Run(m)) }

// world is a service with a person of every role and a node.
type world struct {
	t      *testing.T
	server *httptest.Server
	brief  bool // calls end after a moment, with status 0
	svc    *service.Service
	dir    string
	tokens map[who]string
	took   atomic.Int64 // the longest decision, in nanoseconds
	long   atomic.Value // what that was
}

const testPassword = "curlew-and-plover"

func newWorld(t *testing.T) *world {
	t.Helper()
	st, err := store.Open(t.Context(), pgtest.URL(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = st.Close() })
	book, err := recipe.Builtin()
	if err != nil {
		t.Fatal(err)
	}
	hash, err := secret.HashPassword(testPassword)
	if err != nil {
		t.Fatal(err)
	}
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	w := &world{t: t, dir: t.TempDir(), tokens: map[who]string{}}
	svc := service.New(
		service.Options{
			Took: func(what fmt.Stringer, took time.Duration) {
				if int64(took) > w.took.Load() {
					w.took.Store(int64(took))
					w.long.Store(what.String())
				}
			},
			Store: st, Recipes: book, Log: log, Contents: filepath.Join(t.TempDir(), "contents"),
			FirstAdmin: func() (string, string, error) { return "admin", hash, nil },
		},
	)
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		if err := svc.Run(ctx); err != nil {
			t.Error(err)
		}
	}()
	console := fstest.MapFS{
		"index.html": {Data: []byte("<title>Vexillum</title>")}, "assets/app.js": {Data: []byte("1")},
	}
	s, err := New(Options{Service: svc, Console: console, Log: log, Version: "test"})
	if err != nil {
		t.Fatal(err)
	}
	w.server, w.svc = httptest.NewServer(s), svc
	t.Cleanup(func() {
		w.server.CloseClientConnections()
		stop()
		<-ended
		w.server.Close()
	})
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(10 * time.Millisecond) {
		if _, err := svc.Floor(); err == nil {
			break
		}
		if time.Now().After(deadline) {
			t.Fatal("the service does not get ready")
		}
	}
	w.tokens[admin] = w.signIn("admin")
	for _, name := range []string{"scenes", "frames"} {
		if err := os.Mkdir(filepath.Join(w.dir, name), 0o755); err != nil {
			t.Fatal(err)
		}
		w.must(
			"PATCH", "/api/v1/places/"+name,
			wire.PlaceChange{Paths: map[string]string{"linux": filepath.Join(w.dir, name)}}, nil,
		)
	}
	w.must("PATCH", "/api/v1/projects/salt-clock", wire.ProjectChange{Scenes: "scenes", Frames: "frames"}, nil)
	for _, role := range []who{viewer, artist, wrangler} {
		w.must(
			"PATCH", "/api/v1/people/"+string(role), wire.PersonChange{Role: string(role), Password: testPassword}, nil,
		)
		w.tokens[role] = w.signIn(string(role))
	}
	var key wire.Key
	w.must("POST", "/api/v1/keys", wire.NewKey{Uses: new(5)}, &key)
	var enrolled wire.Enrolled
	w.must("POST", "/node/v1/enrol", wire.Enrol{Key: key.Key, Name: "kiln-01", Kind: "rack"}, &enrolled)
	w.tokens[aNode] = enrolled.Token
	return w
}

func (w *world) signIn(name string) string {
	w.t.Helper()
	var me wire.Me
	status, body := w.call(
		"", "POST", "/api/v1/session", wire.SignIn{Name: name, Password: testPassword, Label: "test"},
	)
	if status != 200 || json.Unmarshal(body, &me) != nil || me.Token == "" {
		w.t.Fatalf("signing in %s: %d %s", name, status, body)
	}
	return me.Token
}

// call sends in (a string as it is, anything else as JSON) and returns the
// answer.
func (w *world) call(token, method, path string, in any) (int, []byte) {
	w.t.Helper()
	var body io.Reader
	if text, ok := in.(string); ok {
		body = strings.NewReader(text)
	} else if in != nil {
		data, err := json.Marshal(in)
		if err != nil {
			w.t.Fatal(err)
		}
		body = bytes.NewReader(data)
	}
	req, err := http.NewRequest(method, w.server.URL+path, body)
	if err != nil {
		w.t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/json")
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	patience := 20 * time.Second
	if w.brief {
		patience = 100 * time.Millisecond
	}
	ctx, cancel := context.WithTimeout(w.t.Context(), patience)
	defer cancel()
	resp, err := http.DefaultClient.Do(req.WithContext(ctx))
	if w.brief && errors.Is(err, context.DeadlineExceeded) {
		return 0, nil
	}
	if err != nil {
		w.t.Fatal(err)
	}
	defer resp.Body.Close()
	if strings.HasPrefix(resp.Header.Get("Content-Type"), "text/event-stream") { // it never ends
		first := make([]byte, 64)
		n, _ := resp.Body.Read(first)
		return resp.StatusCode, first[:n]
	}
	data, err := io.ReadAll(resp.Body)
	if w.brief && errors.Is(err, context.DeadlineExceeded) {
		return 0, nil
	}
	if err != nil {
		w.t.Fatal(err)
	}
	if resp.StatusCode >= 400 {
		var p wire.Problem
		if resp.Header.Get("Content-Type") != "application/problem+json" || json.Unmarshal(data, &p) != nil ||
			p.Status != resp.StatusCode ||
			p.Detail == "" {
			w.t.Errorf("%s %s: %d is no problem document: %s", method, path, resp.StatusCode, data)
		}
	}
	return resp.StatusCode, data
}

// must calls as admin and wants it to succeed.
func (w *world) must(method, path string, in, out any) {
	w.t.Helper()
	status, data := w.call(w.tokens[admin], method, path, in)
	if status >= 300 {
		w.t.Fatalf("%s %s: %d %s", method, path, status, data)
	}
	if out != nil {
		if err := json.Unmarshal(data, out); err != nil {
			w.t.Fatal(err)
		}
	}
}

var parameter = regexp.MustCompile(`:(\w+)`)

// TestEveryRouteWithEveryRole walks the table of routes as everybody.
func TestEveryRouteWithEveryRole(t *testing.T) {
	w := newWorld(t)
	for _, r := range routes {
		path := parameter.ReplaceAllString(r.path, "1")
		for _, asker := range []who{"", viewer, artist, wrangler, admin, aNode} {
			token := w.tokens[asker]
			if r.path == "/api/v1/session" && r.method == "DELETE" && asker != "" && asker != aNode {
				token = w.signIn(string(asker)) // it is gone afterwards
			}
			status, body := w.call(token, r.method, path, "{}")
			allowed := r.who == anybody || r.who == asker ||
				r.who != aNode && asker != aNode && asker != "" && farm.Role(asker).Allows(farm.Role(r.who))
			switch {
			case asker == "" && r.who != anybody && status != http.StatusUnauthorized:
				t.Errorf("%s %s without a token: %d, want 401", r.method, r.path, status)
			case asker != "" && !allowed && status != http.StatusForbidden:
				t.Errorf("%s %s as %s: %d, want 403", r.method, r.path, asker, status)
			case allowed && r.who != anybody && (status == http.StatusUnauthorized || status == http.StatusForbidden):
				t.Errorf("%s %s as %s: %d %s", r.method, r.path, asker, status, body)
			case status >= 500:
				t.Errorf("%s %s as %s: %d %s", r.method, r.path, asker, status, body)
			}
		}
		if r.who != anybody {
			if status, _ := w.call("vxp_forged", r.method, path, "{}"); status != http.StatusUnauthorized {
				t.Errorf("%s %s with a forged token: %d", r.method, r.path, status)
			}
		}
	}
}

// TestRoutesAndDocumentAgree holds the table of routes and the OpenAPI
// document together, both ways.
func TestRoutesAndDocumentAgree(t *testing.T) {
	doc, err := openapi3.NewLoader().LoadFromData(openAPI)
	if err != nil {
		t.Fatal(err)
	}
	if doc.OpenAPI != "3.1.0" {
		t.Errorf("the document is of OpenAPI %s", doc.OpenAPI)
	}
	described := map[string]*openapi3.Operation{}
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			described[method+" "+path] = op
		}
	}
	for _, r := range routes {
		key := r.method + " " + parameter.ReplaceAllString(r.path, "{$1}")
		op := described[key]
		if op == nil {
			t.Errorf("%s is not described", key)
			continue
		}
		delete(described, key)
		if op.Extensions["x-who"] != string(r.who) {
			t.Errorf("%s is for %s, described as for %v", key, r.who, op.Extensions["x-who"])
		}
		if op.Summary == "" || op.OperationID == "" {
			t.Errorf("%s has no summary or no operationId", key)
		}
		for _, m := range parameter.FindAllStringSubmatch(r.path, -1) {
			if op.Parameters.GetByInAndName("path", m[1]) == nil {
				t.Errorf("%s: the parameter %s is not described", key, m[1])
			}
		}
	}
	for key := range described {
		t.Errorf("%s is described, but there is no such route", key)
	}
}

// TestAnswersFitTheDocument compares real answers with their schemas, strictly:
// no field that is not described, none missing that is promised.
func TestAnswersFitTheDocument(t *testing.T) {
	w := newWorld(t)
	doc, err := openapi3.NewLoader().LoadFromData(openAPI)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(w.dir, "scenes", "a.practice"), []byte("practice: 1"), 0o644); err != nil {
		t.Fatal(err)
	}
	w.must(
		"POST", "/api/v1/runs", wire.Submit{Job: "a", Project: "salt-clock", Scene: "a.practice", Frames: "1-9"}, nil,
	)
	w.must(
		"POST", "/api/v1/runs",
		wire.Submit{Job: "a", Project: "salt-clock", Scene: "a.practice", Frames: "1-9", Held: true}, nil,
	)
	for path, schema := range map[string]string{
		"/api/v1/farm": "Farm", "/api/v1/runs/1": "Run", "/api/v1/nodes/1": "Node", "/api/v1/me": "Me", "/healthz": "Health",
	} {
		var answer map[string]any
		w.must("GET", path, nil, &answer)
		fits(t, doc, path, schema, answer)
	}
	for path, schema := range map[string]string{
		"/api/v1/runs": "Run", "/api/v1/runs/1/history": "HistoryLine", "/api/v1/nodes": "Node", "/api/v1/recipes": "Recipe", "/api/v1/projects": "Project",
		"/api/v1/places": "Place", "/api/v1/keys": "Key", "/api/v1/people": "Person", "/api/v1/audit": "AuditLine",
	} {
		var answer []map[string]any
		w.must("GET", path, nil, &answer)
		if len(answer) == 0 {
			t.Errorf("%s is empty", path)
		}
		for _, item := range answer {
			fits(t, doc, path, schema, item)
		}
	}
}

func fits(t *testing.T, doc *openapi3.T, path, name string, answer map[string]any) {
	t.Helper()
	schema := doc.Components.Schemas[name].Value
	for field := range answer {
		if schema.Properties[field] == nil {
			t.Errorf("%s: %s.%s is not described", path, name, field)
		}
	}
	for _, field := range schema.Required {
		value, ok := answer[field]
		if !ok {
			t.Errorf("%s: %s.%s is missing", path, name, field)
		}
		if value == nil && !nullable(schema.Properties[field].Value) {
			t.Errorf("%s: %s.%s is null, which is not described", path, name, field)
		}
	}
}

func nullable(s *openapi3.Schema) bool {
	for _, one := range s.OneOf {
		if nullable(one.Value) {
			return true
		}
	}
	return s.Type.Includes("null")
}

func TestBadBodies(t *testing.T) {
	w := newWorld(t)
	for _, c := range []struct {
		name, body string
		status     int
		says       string
	}{
		{"not JSON", "frames=1-5", 400, "not JSON"},
		{"empty", "", 400, "empty"},
		{"cut off", `{"job": "a"`, 400, "ends too early"},
		{"two values", `{} {}`, 400, "after its JSON value"},
		{"an unknown field", `{"jobb": "a"}`, 400, "jobb"},
		{"a number where a text belongs", `{"job": 7}`, 400, "job"},
		{"too large", `{"job": "` + strings.Repeat("a", maxBody) + `"}`, 413, "more than"},
		{"no scene", `{"job": "a", "scene": "a.practice", "project": "salt-clock"}`, 422, "there is no scene"},
		{"a range of a million commas", `{"job": "a", "scene": "a.practice", "frames": "` + strings.Repeat(",", 900_000) + `"}`, 422, "longer than"},
		{"an unknown priority", `{"job": "a", "project": "salt-clock", "scene": "a.practice", "frames": "1", "priority": "asap"}`, 422, "is not a priority"},
		{"urgent by an artist", `{"job": "a", "project": "salt-clock", "scene": "a.practice", "frames": "1", "priority": "urgent"}`, 403, "only a wrangler"},
		{"no ceiling", `{"job": "a", "project": "salt-clock", "scene": "a.practice", "frames": "1", "ceiling": "120%"}`, 422, "is not a ceiling"},
		{"NUL in a name", `{"job": "a\u0000", "scene": "a.practice", "frames": "1"}`, 400, "NUL"},
		{"NUL in a scene", `{"job": "a", "project": "salt-clock", "scene": "a\u0000.practice", "frames": "1"}`, 400, "NUL"},
	} {
		status, body := w.call(w.tokens[artist], "POST", "/api/v1/runs", c.body)
		if status != c.status || !strings.Contains(string(body), c.says) || len(body) > 1000 {
			t.Errorf("%s: %d %.300s; want %d and %q", c.name, status, body, c.status, c.says)
		}
	}
	req, _ := http.NewRequest("POST", w.server.URL+"/api/v1/runs", strings.NewReader("{}"))
	req.Header.Set("Authorization", "Bearer "+w.tokens[artist])
	req.Header.Set("Content-Type", "text/plain")
	if resp, err := http.DefaultClient.Do(req); err != nil || resp.StatusCode != http.StatusUnsupportedMediaType {
		t.Errorf("text/plain: %v %v", resp.StatusCode, err)
	}
}

func TestUnknownAddressesAndMethods(t *testing.T) {
	w := newWorld(t)
	for _, c := range []struct {
		method, path string
		status       int
	}{
		{"GET", "/api/v1/nothing", 404}, {"GET", "/node/v1/nothing", 404}, {"GET", "/assets/gone.js", 404}, {"GET", "/api/v1/runs/77", 404},
		{"GET", "/api/v1/runs/x", 404}, {"GET", "/api/v1/runs/99999999999999999999", 404}, {"PATCH", "/api/v1/runs", 405}, {"POST", "/somewhere", 405},
		{"GET", "/api/v1/runs/1/history?limit=0", 404}, {"GET", "/api/v1/audit?limit=-1", 422}, {"GET", "/api/v1/audit?limit=many", 422},
		{"GET", "/", 200}, {"GET", "/runs/7", 200}, {"GET", "/assets/app.js", 200}, {"GET", "/../../etc/passwd", 200},
	} {
		status, body := w.call(w.tokens[admin], c.method, c.path, nil)
		if status != c.status {
			t.Errorf("%s %s: %d %s, want %d", c.method, c.path, status, body, c.status)
		}
		if status == 200 && strings.Contains(string(body), "root:") {
			t.Errorf("%s gave a file of the machine", c.path)
		}
	}
}

func TestSignInIsLimitedAndSignOutEnds(t *testing.T) {
	w := newWorld(t)
	refused := 0
	for range pairBurst + 5 {
		status, _ := w.call("", "POST", "/api/v1/session", wire.SignIn{Name: "nobody", Password: "wrong-password"})
		if status == http.StatusTooManyRequests {
			refused++
		} else if status != http.StatusUnauthorized {
			t.Errorf("a wrong password: %d", status)
		}
	}
	if refused == 0 {
		t.Error("nobody was slowed down")
	}
	token := w.signIn("viewer")
	if status, _ := w.call(token, "DELETE", "/api/v1/session", nil); status != http.StatusNoContent {
		t.Errorf("signing out: %d", status)
	}
	if status, _ := w.call(token, "GET", "/api/v1/me", nil); status != http.StatusUnauthorized {
		t.Errorf("a token that was signed out: %d", status)
	}
}

func TestSessionCookie(t *testing.T) {
	w := newWorld(t)
	data, _ := json.Marshal(wire.SignIn{Name: "artist", Password: testPassword})
	resp, err := http.Post(w.server.URL+"/api/v1/session", "application/json", bytes.NewReader(data))
	if err != nil || resp.StatusCode != 200 {
		t.Fatal(resp, err)
	}
	cookie := resp.Cookies()[0]
	if !cookie.HttpOnly || cookie.SameSite != http.SameSiteStrictMode || cookie.Secure {
		t.Errorf("cookie %+v", cookie)
	}
	csp := resp.Header.Get("Content-Security-Policy")
	if !strings.Contains(csp, "default-src 'self'") || strings.Contains(csp, "unsafe-") {
		t.Errorf("policy %q", csp)
	}
	get := func(method, path, site string) int {
		req, _ := http.NewRequest(method, w.server.URL+path, nil)
		req.AddCookie(cookie)
		if site != "" {
			req.Header.Set("Sec-Fetch-Site", site)
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		return resp.StatusCode
	}
	if status := get("GET", "/api/v1/me", ""); status != 200 {
		t.Errorf("with the cookie: %d", status)
	}
	if status := get("POST", "/api/v1/runs/1/hold", "cross-site"); status != http.StatusForbidden {
		t.Errorf("a change from another site: %d", status)
	}
}

func TestArtistsSteerTheirOwnRunsOnly(t *testing.T) {
	w := newWorld(t)
	if err := os.WriteFile(filepath.Join(w.dir, "scenes", "a.practice"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	submit := func(token, job string) {
		status, body := w.call(
			token, "POST", "/api/v1/runs",
			wire.Submit{Job: job, Project: "salt-clock", Scene: "a.practice", Frames: "1"},
		)
		if status != http.StatusCreated {
			t.Fatal(status, string(body))
		}
	}
	submit(w.tokens[artist], "mine")
	submit(w.tokens[admin], "theirs")
	for path, want := range map[string]int{"/api/v1/runs/1/hold": 200, "/api/v1/runs/2/hold": 403} {
		if status, body := w.call(w.tokens[artist], "POST", path, nil); status != want {
			t.Errorf("%s as artist: %d %s, want %d", path, status, body, want)
		}
	}
	if status, _ := w.call(w.tokens[wrangler], "POST", "/api/v1/runs/2/cancel", nil); status != 200 {
		t.Errorf("a wrangler may not cancel: %d", status)
	}
	var lines []wire.AuditLine
	w.must("GET", "/api/v1/audit?limit=3", nil, &lines)
	if lines[0].Actor != "wrangler" || lines[0].Action != "cancel run" || lines[0].Before != "queued" ||
		lines[0].After != "cancelled" {
		t.Errorf("audit: %+v", lines[0])
	}
}

func TestSubmitIsRepeatable(t *testing.T) {
	w := newWorld(t)
	if err := os.WriteFile(filepath.Join(w.dir, "scenes", "a.practice"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	var first wire.Receipt
	for i, want := range []int{http.StatusCreated, http.StatusOK} {
		data, _ := json.Marshal(wire.Submit{Job: "a", Project: "salt-clock", Scene: "a.practice", Frames: "1-5"})
		req, _ := http.NewRequest("POST", w.server.URL+"/api/v1/runs", bytes.NewReader(data))
		req.Header.Set("Authorization", "Bearer "+w.tokens[artist])
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Idempotency-Key", "k1")
		resp, err := http.DefaultClient.Do(req)
		if err != nil || resp.StatusCode != want {
			t.Fatalf("submit %d: %v %v", i, resp.StatusCode, err)
		}
		var r wire.Receipt
		if err := json.NewDecoder(resp.Body).Decode(&r); err != nil {
			t.Fatal(err)
		}
		if i == 0 {
			first = r
		} else if r.Run != first.Run || r.Name != first.Name {
			t.Errorf("the second submit made %s", r.Name)
		}
	}
	if status, body := w.call(
		w.tokens[wrangler], "POST", "/api/v1/runs",
		wire.Submit{
			Job: "b", Project: "salt-clock", Scene: "a.practice", Frames: "1", Priority: "urgent",
			Ceiling: "50%",
		},
	); status != http.StatusCreated {
		t.Errorf("urgent by a wrangler: %d %s", status, body)
	}
	var run wire.Run
	if w.must("GET", "/api/v1/runs/2", nil, &run); run.Priority != "urgent" || run.Ceiling != "50%" {
		t.Errorf("it is %s with the ceiling %q", run.Priority, run.Ceiling)
	}
	if !strings.HasSuffix(first.Output, "/frames/a/final-1") || first.FrameCount != 5 {
		t.Errorf("receipt %+v", first)
	}
}

// TestStreamGoesOnWhereItBroke reads changes, hangs up, and comes back with
// the last id.
func TestStreamGoesOnWhereItBroke(t *testing.T) {
	w := newWorld(t)
	if err := os.WriteFile(filepath.Join(w.dir, "scenes", "a.practice"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	submit := func(job string) {
		w.must(
			"POST", "/api/v1/runs", wire.Submit{Job: job, Project: "salt-clock", Scene: "a.practice", Frames: "1"}, nil,
		)
	}
	submit("first")
	last := ""
	read := func(until string) (jobs []string) {
		ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
		defer cancel()
		req, _ := http.NewRequestWithContext(ctx, "GET", w.server.URL+"/api/v1/events", nil)
		req.Header.Set("Authorization", "Bearer "+w.tokens[viewer])
		req.Header.Set("Last-Event-ID", last)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		var text strings.Builder
		buf := make([]byte, 4096)
		for {
			n, err := resp.Body.Read(buf)
			text.Write(buf[:n])
			for _, block := range strings.Split(text.String(), "\n\n") {
				if id := regexp.MustCompile(`(?m)^id:(\d+)$`).FindStringSubmatch(block); id != nil {
					last = id[1]
				}
			}
			jobs = nil
			for _, m := range regexp.MustCompile(`"job":"(\w+)"`).FindAllStringSubmatch(text.String(), -1) {
				jobs = append(jobs, m[1])
			}
			if strings.Contains(fmt.Sprint(jobs), until) {
				return jobs
			}
			if err != nil {
				t.Fatalf("the stream ended with %v after %s", err, text.String())
			}
		}
	}
	read("first")
	submit("second")
	if jobs := read("second"); strings.Contains(fmt.Sprint(jobs), "first") {
		t.Errorf("after a break, what had been told before came again: %v", jobs)
	}
}
