package client

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"vexillum/internal/wire"
)

func serving(t *testing.T, handle http.HandlerFunc) *Client {
	t.Helper()
	s := httptest.NewServer(handle)
	t.Cleanup(s.Close)
	c, err := New(s.URL, "secret")
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func TestAddresses(t *testing.T) {
	for text, want := range map[string]string{"farm.example:7420": "http://farm.example:7420", "https://farm.example/": "https://farm.example"} {
		if c, err := New(text, ""); err != nil || c.Address() != want {
			t.Errorf("%s: %v %v", text, c, err)
		}
	}
	for _, bad := range []string{"", "http://", "ftp://farm", "http://[::1", "://"} {
		if _, err := New(bad, ""); err == nil {
			t.Errorf("%q was taken", bad)
		}
	}
}

func TestAnswers(t *testing.T) {
	for _, c := range []struct {
		name, kind, body string
		status           int
		check            func(error) bool
	}{
		{"well", "application/json", `{"name": "nadia"}`, 200, func(err error) bool { return err == nil }},
		{"a problem", "application/problem+json", `{"status": 409, "detail": "taken", "field": "name"}`, 409, func(err error) bool {
			var p *wire.Problem
			return errors.As(err, &p) && p.Detail == "taken" && p.Field == "name"
		}},
		{"somebody else's page", "text/html", "<html>", 200, func(err error) bool { return errors.Is(err, ErrNotVexillum) }},
		{"somebody else's error", "text/html", "<html>", 500, func(err error) bool { return errors.Is(err, ErrNotVexillum) }},
		{"cut off", "application/json", `{"name": "na`, 200, func(err error) bool {
			var u *UnreachableError
			return errors.As(err, &u)
		}},
	} {
		cl := serving(t, func(w http.ResponseWriter, r *http.Request) {
			if r.Header.Get("Authorization") != "Bearer secret" {
				t.Error("the token is missing")
			}
			w.Header().Set("Content-Type", c.kind)
			w.WriteHeader(c.status)
			fmt.Fprint(w, c.body)
		})
		var me wire.Me
		if err := cl.Do(t.Context(), "GET", "/api/v1/me", nil, &me); !c.check(err) {
			t.Errorf("%s: %v", c.name, err)
		}
	}
}

func TestRepeatableRequestsCarryTheirKey(t *testing.T) {
	got := ""
	cl := serving(t, func(_ http.ResponseWriter, r *http.Request) { got = r.Header.Get("Idempotency-Key") })
	if err := cl.Do(Repeatable(t.Context(), "k1"), "POST", "/", wire.Submit{}, nil); err != nil || got != "k1" {
		t.Errorf("%q, %v", got, err)
	}
}

// TestChangesComeBackAfterACutLine serves two changes, cuts the line after
// each, and looks where the client takes it up again.
func TestChangesComeBackAfterACutLine(t *testing.T) {
	var asked []string
	cl := serving(t, func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.URL.RawQuery)
		w.Header().Set("Content-Type", "text/event-stream")
		fmt.Fprintf(
			w, "retry: 1000\n\nevent: farm.facts\nid: %d\ndata: {\"seq\": %d, \"facts\": {}}\n\n: quiet\n\n", 10*len(asked), 10*len(asked),
		)
	})
	done := errors.New("enough")
	lost := 0
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	err := cl.Events(ctx, 5, func(c *Farm, _ Event) error {
		if c.Seq >= 20 {
			return done
		}
		return nil
	}, func(error) { lost++ })
	if !errors.Is(err, done) || strings.Join(asked, " ") != "after=5 after=10" || lost != 1 {
		t.Errorf("%v, asked %v, lost %d", err, asked, lost)
	}
}

func TestChangesEndWhenTheServiceSaysNo(t *testing.T) {
	cl := serving(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusUnauthorized)
		fmt.Fprint(w, `{"status": 401, "detail": "sign in first"}`)
	})
	var p *wire.Problem
	if err := cl.Events(t.Context(), 0, nil, nil); !errors.As(err, &p) || p.Status != http.StatusUnauthorized {
		t.Errorf("%v", err)
	}
}
