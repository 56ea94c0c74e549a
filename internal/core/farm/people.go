package farm

import (
	"fmt"
	"regexp"
	"time"
)

// Role is what a person may do. Each role may do all that the lower ones may.
type Role string

// The roles, lowest first.
const (
	Viewer   Role = "viewer"
	Artist   Role = "artist"
	Wrangler Role = "wrangler"
	Admin    Role = "admin"
)

var roleRank = map[Role]int{Viewer: 1, Artist: 2, Wrangler: 3, Admin: 4}

// Valid reports whether r is one of the four roles.
func (r Role) Valid() bool { return roleRank[r] > 0 }

// Allows reports whether a person with role r may do what needs role least.
func (r Role) Allows(least Role) bool { return r.Valid() && roleRank[r] >= roleRank[least] }

// Person is somebody who may sign in.
type Person struct {
	Name         string
	Role         Role
	PasswordHash string // argon2id in PHC form
	CreatedAt    time.Time
}

var personName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,39}$`)

// CheckPersonName returns an error for a name that nobody may sign in with.
func CheckPersonName(name string) error {
	if !personName.MatchString(name) {
		return fmt.Errorf(
			"%q is not a valid sign-in name: use up to 40 small letters, digits, dots, hyphens and underscores", name,
		)
	}
	return nil
}

// TokenKind says what a token was issued for.
type TokenKind string

// The kinds of token.
const (
	SessionToken TokenKind = "session" // a browser that signed in
	AccessToken  TokenKind = "access"  // a person's command line or pipeline
	NodeToken    TokenKind = "node"    // a node process
)

// Token is a secret that speaks for a person or a node. Only its hash is kept.
type Token struct {
	Hash      string // SHA-256 of the secret, in hexadecimal
	Kind      TokenKind
	Person    string
	Node      NodeID
	Label     string
	CreatedAt time.Time
	ExpiresAt time.Time // zero: never
}

// Valid reports whether the token still counts at the given time.
func (t *Token) Valid(now time.Time) bool {
	return t.ExpiresAt.IsZero() || now.Before(t.ExpiresAt)
}

// Key is an enrolment key: a short-lived secret that lets machines become
// nodes. Only its hash is kept.
type Key struct {
	Hash      string
	Label     string
	CreatedBy string
	CreatedAt time.Time
	ExpiresAt time.Time
	UsesLeft  int
	Pools     []string // that its nodes join
	Returns   []string // nodes that were shut out and may come back with it
	RevokedAt time.Time
}

// Place is a named storage root with its path on each operating system.
type Place struct {
	Name  string            `json:"name"`
	Paths map[string]string `json:"paths"` // by operating system as in Go; absolute
	Loads int               `json:"loads"` // launches that may load from it at the same moment; 0: any number
}

// Project is a production.
type Project struct {
	Name   string  // short, as typed
	Title  string  // for people
	Weight float64 // its weight against other projects: its share of the farm, above 0
	Scenes string  // the place where scenes are read
	Frames string  // the place where frames go
	Names  string  // pattern of the names of delivered files; empty: DefaultNames
	// Bundles: its scenes are sent with all that they need, unless somebody says otherwise.
	Bundles bool
	Budget  float64 // machine hours of which people are told once they are used; 0: none
	// Members are those who belong to it, by the name they sign in with.
	Members map[string]ProjectRole
	// Closed: only its members see it and submit to it, and wranglers.
	Closed bool
}

var shortName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

// CheckShortName returns an error for a name that no project and no place may
// have; what says which of them it is.
func CheckShortName(what, name string) error {
	if !shortName.MatchString(name) {
		return fmt.Errorf("%q is not a valid name for a %s: use up to 40 small letters, digits and hyphens", name, what)
	}
	return nil
}

// OwnProject is the farm's own project, whose runs test nodes. Only [OwnActor]
// may set it up.
const (
	OwnProject = "self-test"
	OwnActor   = "self-test"
)

// Because joins who did something with the reason that was given, if one was.
func Because(by, reason string) string {
	if reason == "" {
		return by
	}
	return by + ": " + reason
}

// NodeHasToken reports whether a machine holds a valid token of a node.
func (s *State) NodeHasToken(id NodeID, now time.Time) bool {
	for _, token := range s.Tokens {
		if token.Node == id && token.Valid(now) {
			return true
		}
	}
	return false
}
