// Package refusal holds the one way in which the rooms of the service say no to
// a request. It knows nothing of what was asked for.
package refusal

import (
	"fmt"
	"strings"
)

// Kind says what sort of no it is; the HTTP status follows from it.
type Kind int

// The kinds of [Refusal].
const (
	Invalid   Kind = iota + 1 // the request makes no sense as it is
	NotFound                  // what it is about does not exist
	Conflict                  // it does not fit what is there now
	Forbidden                 // the asker may not
	Changed                   // it is not any more as the asker has seen it
	NoRoom                    // the asker, or the service, has no room for it
)

// Refusal is a no with its reason, as one sentence for a person.
type Refusal struct {
	Kind   Kind
	Field  string // the part of the request that is at fault, if one is
	Reason string
}

// Error returns the reason.
func (r *Refusal) Error() string { return r.Reason }

// New returns a Refusal whose reason is written as by [fmt.Sprintf].
func New(kind Kind, field, reason string, args ...any) error {
	return &Refusal{Kind: kind, Field: field, Reason: fmt.Sprintf(reason, args...)}
}

// MustBeNew is the match of a change that only makes something: it must not be there yet.
const MustBeNew = "*new*"

// UnlessCurrent returns a Refusal if something is not any more as its changer
// has seen it: match is the entity tag that the change was made for, empty for
// any, and now the tag of what is there.
func UnlessCurrent(what, match, now string, exists bool) error {
	if match == "" || exists && match == now || !exists && match == MustBeNew {
		return nil
	}
	if match == MustBeNew {
		return New(Changed, "If-None-Match", "there is already %s; choose another name, or change that one", what)
	}
	return New(
		Changed, "If-Match", "%s was changed by somebody else in the meantime; look at it again, then change it", what,
	)
}

// mostNote bounds what somebody says of what they do, in bytes.
const mostNote = 400

// Note returns what somebody says of what they do without the blanks around it, or a Refusal
// where that is not one line of a few hundred bytes.
func Note(text string) (string, error) {
	if text = strings.TrimSpace(text); len(text) > mostNote || strings.ContainsAny(text, "\n\r") {
		return "", New(Invalid, "note", "a note is one line of at most %d bytes", mostNote)
	}
	return text, nil
}

// NoProject says that a project is not there, or not for who asks.
func NoProject(name string) error {
	return New(Invalid, "project", "there is no project %.60q; vexillum project list shows them", name)
}
