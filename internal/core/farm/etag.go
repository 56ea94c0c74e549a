package farm

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
)

// etag marks what a thing is like just now: another content has another mark.
// Who changes it may name the mark of what was seen.
func etag(v any) string {
	data, err := json.Marshal(v)
	if err != nil {
		panic(err) // texts, numbers and maps of them always encode
	}
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:8])
}

// Etag marks what the place is like.
func (p Place) Etag() string { return etag(p) }

// Etag marks what the project is like.
func (p Project) Etag() string { return etag(p) }

// Etag marks what the person is like.
func (p Person) Etag() string { return etag(p) }

// Etag marks what the rate is like.
func (r Rate) Etag() string { return etag(r) }

// Etag marks what the rule is like.
func (r PreflightRule) Etag() string { return etag(r) }

// Etag marks what the channel is like.
func (c Channel) Etag() string { return etag(c) }

// Etag marks what is said.
func (e LaunchSettings) Etag() string {
	if len(e.Variables) == 0 {
		e.Variables = nil
	}
	return etag(e)
}
