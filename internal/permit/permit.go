// Package permit holds the short-lived permits with which one node gets pieces of
// bundles from another: the service signs them, and nodes look at the signature. It
// knows neither nodes nor bundles.
package permit

import (
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"
)

// Permit lets somebody have something until a time.
type Permit struct {
	To    string    `json:"to"`   // who may have it
	From  string    `json:"from"` // of whom
	What  string    `json:"what"`
	Until time.Time `json:"until"`
}

// Errors of permits.
var (
	ErrForged  = errors.New("the permit is not signed by the service")
	ErrExpired = errors.New("the permit has expired")
	ErrOther   = errors.New("the permit is for something else")
)

var encoding = base64.RawURLEncoding

// Sign writes a permit as a text: what it says and the Ed25519 signature of that (RFC
// 8032), each in base64url, with a dot between.
func Sign(key ed25519.PrivateKey, p Permit) string {
	said, err := json.Marshal(p)
	if err != nil { // it holds nothing that JSON cannot
		panic(err)
	}
	return encoding.EncodeToString(said) + "." + encoding.EncodeToString(ed25519.Sign(key, said))
}

// Check looks at a permit that somebody shows to get something: who gave it, and
// whether it is still good. key is the public key of the service, in base64url.
func Check(key, text, from, what string, now time.Time) (to string, err error) {
	public, err := encoding.DecodeString(key)
	if err != nil || len(public) != ed25519.PublicKeySize {
		return "", fmt.Errorf("%w: its key is not known here", ErrForged)
	}
	first, second, _ := strings.Cut(text, ".")
	said, err1 := encoding.DecodeString(first)
	signature, err2 := encoding.DecodeString(second)
	if err1 != nil || err2 != nil || !ed25519.Verify(public, said, signature) {
		return "", ErrForged
	}
	var p Permit
	if err := json.Unmarshal(said, &p); err != nil {
		return "", ErrForged
	}
	switch {
	case now.After(p.Until):
		return "", ErrExpired
	case p.From != from || p.What != what:
		return "", ErrOther
	}
	return p.To, nil
}

// PublicKey writes the public half of a key.
func PublicKey(key ed25519.PrivateKey) string {
	return encoding.EncodeToString(key.Public().(ed25519.PublicKey))
}
