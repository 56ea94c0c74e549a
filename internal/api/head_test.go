package api

import (
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"
)

// asked sends a request with a header, and returns the answer and its body.
func (w *world) asked(token, method, path, header, value string) (*http.Response, string) {
	w.t.Helper()
	req, err := http.NewRequestWithContext(w.t.Context(), method, w.server.URL+path, nil)
	if err != nil {
		w.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+token)
	if header != "" {
		req.Header.Set(header, value)
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		w.t.Fatal(err)
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	if err != nil {
		w.t.Fatal(err)
	}
	return resp, string(body)
}

// TestHeadIsAnsweredAsGetWithoutABody asks every route that can be read, for its head alone.
func TestHeadIsAnsweredAsGetWithoutABody(t *testing.T) {
	w := newWorld(t)
	asked := 0
	for _, r := range routes {
		if r.method != http.MethodGet || endless(r.path) || strings.HasPrefix(r.path, "/node/") {
			continue
		}
		path := parameter.ReplaceAllString(r.path, "1")
		asker := w.tokens[admin]
		get, _ := w.asked(asker, http.MethodGet, path, "", "")
		head, body := w.asked(asker, http.MethodHead, path, "", "")
		if head.StatusCode != get.StatusCode || body != "" ||
			head.Header.Get("Content-Type") != get.Header.Get("Content-Type") {
			t.Errorf("%s: HEAD %d %q, GET %d", path, head.StatusCode, body, get.StatusCode)
		}
		asked++
	}
	if asked < 40 {
		t.Errorf("%d routes were asked", asked)
	}
	if resp, _ := w.asked("nobody", http.MethodHead, "/api/v1/runs", "", ""); resp.StatusCode != http.StatusUnauthorized {
		t.Errorf("a stranger reads the head of the runs: %d", resp.StatusCode)
	}
	resp, _ := w.asked(w.tokens[admin], http.MethodHead, "/api/v1/events", "", "")
	if resp.StatusCode != http.StatusMethodNotAllowed {
		t.Errorf("HEAD of an endless stream: %d", resp.StatusCode)
	}
}

// TestWhatProgramsAskIsNeverAPage asks addresses that are no page and answer nothing.
func TestWhatProgramsAskIsNeverAPage(t *testing.T) {
	w := newWorld(t)
	for _, path := range []string{
		"/api", "/api/", "/api/v2/runs", "/api/v1/run", "/node/v9", "/metrics", "/metrics/farm", "/livez", "/healthz/x",
	} {
		resp, body := w.asked(w.tokens[viewer], http.MethodGet, path, "", "")
		if resp.StatusCode != http.StatusNotFound || resp.Header.Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s: %d %.60s", path, resp.StatusCode, body)
		}
	}
	resp, _ := w.asked("", http.MethodGet, "/queue", "", "")
	if kind := resp.Header.Get("Content-Type"); !strings.HasPrefix(kind, "text/html") {
		t.Errorf("a page is %s", kind)
	}
}

// sentOnce looks that a picture is sent once, and again only to those who do not have it or may not see it.
func (w *world) sentOnce(path string) {
	w.t.Helper()
	first, body := w.asked(w.tokens[viewer], http.MethodGet, path, "", "")
	tag := first.Header.Get("ETag")
	if first.StatusCode != http.StatusOK || tag == "" || body == "" {
		w.t.Fatalf("%s: %d, ETag %q", path, first.StatusCode, tag)
	}
	for _, c := range []struct {
		token, tags string
		want        int
	}{
		{w.tokens[viewer], tag, http.StatusNotModified},
		{w.tokens[viewer], `"other", W/` + tag, http.StatusNotModified},
		{w.tokens[viewer], `"other"`, http.StatusOK},
		{"nobody", tag, http.StatusUnauthorized},
	} {
		if resp, again := w.asked(c.token, http.MethodGet, path, "If-None-Match", c.tags); resp.StatusCode != c.want ||
			(c.want == http.StatusNotModified && again != "") {
			w.t.Errorf("%s with %s: %d, want %d", path, c.tags, resp.StatusCode, c.want)
		}
	}
}

// TestAKeyIsNeverSilentlyAnother asks for keys that can never let anybody in.
func TestAKeyIsNeverSilentlyAnother(t *testing.T) {
	w := newWorld(t)
	for body, want := range map[string]int{
		`{"uses": 0}`: 422, `{"uses": -1}`: 422, `{"seconds": 0}`: 422, `{"seconds": -5}`: 422, `{}`: 201, `{"uses": 2}`: 201,
	} {
		if status, answer := w.call(w.tokens[admin], "POST", "/api/v1/keys", body); status != want {
			t.Errorf("%s: %d %s, want %d", body, status, answer, want)
		}
	}
}

// TestAWrongKindIsNamedAsAPersonWould sends values of other kinds than fields take.
func TestAWrongKindIsNamedAsAPersonWould(t *testing.T) {
	w := newWorld(t)
	for body, says := range map[string]string{
		`{"uses": 1.5}`:          "uses must be a whole number, not 1.5",
		`{"uses": "many"}`:       "uses must be a whole number, not text",
		`{"label": 3}`:           "label must be text, not ",
		`{"pools": "graphics"}`:  "pools must be a list, not text",
		`{"label": {"a": true}}`: "label must be text, not an object",
		`[1]`:                    "the body must be an object, not a list",
	} {
		status, answer := w.call(w.tokens[admin], "POST", "/api/v1/keys", body)
		if status != 400 && status != 422 || !strings.Contains(string(answer), says) ||
			strings.Contains(string(answer), "wire.") {
			t.Errorf("%s: %d %s, want %q", body, status, answer, says)
		}
	}
}

// TestSchemasAreFoundByTheirAddress reads the schemas of files, which need no sign-in.
func TestSchemasAreFoundByTheirAddress(t *testing.T) {
	w := newWorld(t)
	for name := range schemas {
		address := "/api/v1/schemas/" + name
		var schema struct {
			ID     string `json:"$id"`
			Schema string `json:"$schema"`
		}
		resp, body := w.asked("", http.MethodGet, address, "", "")
		if err := json.Unmarshal([]byte(body), &schema); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		kind := resp.Header.Get("Content-Type")
		if schema.ID != w.server.URL+address || schema.Schema == "" || kind != "application/schema+json" {
			t.Errorf("%s: %+v as %s", name, schema, kind)
		}
		if again, _ := w.asked("", http.MethodGet, address+".schema.json", "", ""); again.StatusCode != http.StatusOK {
			t.Errorf("by the name of its file: %d", again.StatusCode)
		}
	}
	resp, body := w.asked("", http.MethodGet, "/api/v1/schemas/nothing", "", "")
	if resp.StatusCode != http.StatusNotFound || !strings.Contains(body, "there are drill") {
		t.Errorf("an unknown schema: %d %s", resp.StatusCode, body)
	}
}
