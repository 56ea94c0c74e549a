package client

import (
	"errors"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"vexillum/internal/wire"
)

// TestAPinnedClientKnowsItsService calls a service with a certificate that nobody has signed,
// by its pin, and another one that took its place.
func TestAPinnedClientKnowsItsService(t *testing.T) {
	answers := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write([]byte(`{"service": "vexillum"}`))
	})
	service := httptest.NewTLSServer(answers)
	defer service.Close()
	pin := PinOf(service.Certificate())
	call := func(address, pin string, strict bool) error {
		c, err := New(address, "")
		if err != nil {
			t.Fatal(err)
		}
		if c, err = c.Pinned(pin, strict); err != nil {
			return err
		}
		return c.Do(t.Context(), http.MethodGet, "/healthz", nil, &wire.Health{})
	}
	if err := call(service.URL, pin, true); err != nil {
		t.Errorf("the service that was pinned: %v", err)
	}
	if err := call(service.URL, pin, false); err != nil {
		t.Errorf("the service that was pinned, later: %v", err)
	}
	other := strings.Repeat("A", len(pin))
	if err := call(service.URL, other, true); !errors.Is(err, ErrOtherService) {
		t.Errorf("another service: %v", err)
	}
	if err := call(service.URL, other, false); err == nil {
		t.Error("another service that nobody trusts is taken later")
	}
	if err := call(strings.Replace(service.URL, "https", "http", 1), pin, true); err == nil ||
		!strings.Contains(err.Error(), "write https://") {
		t.Errorf("without TLS: %v", err)
	}
}

// TestNothingIsFollowedAndNothingIsEndless lets a service send a caller elsewhere, with its
// token, and answer without an end.
func TestNothingIsFollowedAndNothingIsEndless(t *testing.T) {
	var told atomic.Int32
	elsewhere := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { told.Add(1) }))
	defer elsewhere.Close()
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/healthz" {
			http.Redirect(w, r, elsewhere.URL, http.StatusTemporaryRedirect)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		chunk := []byte(strings.Repeat("a", 1<<16))
		_, _ = w.Write([]byte{'"'})
		for range mostJSON/len(chunk) + 100 {
			if _, err := w.Write(chunk); err != nil {
				return
			}
		}
	}))
	defer service.Close()
	c, err := New(service.URL, "secret")
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Do(t.Context(), http.MethodPost, "/healthz", wire.Enrol{Key: "k"}, nil); err == nil ||
		!strings.Contains(err.Error(), "not followed") || told.Load() != 0 {
		t.Errorf("%v, and the other was called %d times", err, told.Load())
	}
	var out any
	if err := c.Do(t.Context(), http.MethodGet, "/", nil, &out); !errors.Is(err, ErrNotVexillum) {
		t.Errorf("an answer without an end: %v", err)
	}
}
