package permit

import (
	"crypto/ed25519"
	"errors"
	"strings"
	"testing"
	"time"
)

func TestPermitsAreLookedAt(t *testing.T) {
	_, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	_, other, _ := ed25519.GenerateKey(nil)
	now := time.Date(2031, 3, 4, 5, 6, 7, 0, time.UTC)
	text := Sign(key, Permit{To: "kiln-01", From: "loom-01", What: "b", Until: now.Add(time.Minute)})
	if to, err := Check(PublicKey(key), text, "loom-01", "b", now); err != nil || to != "kiln-01" {
		t.Fatal(to, err)
	}
	said, signature, _ := strings.Cut(text, ".")
	forged := Sign(other, Permit{To: "kiln-01", From: "loom-01", What: "b", Until: now.Add(time.Minute)})
	for name, c := range map[string]struct {
		key, text, from, what string
		at                    time.Time
		want                  error
	}{
		"late":           {PublicKey(key), text, "loom-01", "b", now.Add(2 * time.Minute), ErrExpired},
		"of another":     {PublicKey(key), text, "loom-02", "b", now, ErrOther},
		"something else": {PublicKey(key), text, "loom-01", "c", now, ErrOther},
		"forged":         {PublicKey(key), forged, "loom-01", "b", now, ErrForged},
		"cut":            {PublicKey(key), said, "loom-01", "b", now, ErrForged},
		"said otherwise": {PublicKey(key), said[:8] + "A" + said[9:] + "." + signature, "loom-01", "b", now, ErrForged},
		"empty":          {PublicKey(key), "", "loom-01", "b", now, ErrForged},
		"no key":         {"", text, "loom-01", "b", now, ErrForged},
	} {
		if _, err := Check(c.key, c.text, c.from, c.what, c.at); !errors.Is(err, c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
