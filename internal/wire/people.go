package wire

import "time"

// SignIn asks for a session.
type SignIn struct {
	Name     string `json:"name"`
	Password string `json:"password"`
	// Keep asks for a token for the command line instead of a cookie.
	Label   string `json:"label,omitempty"`
	Seconds int    `json:"seconds,omitempty"` // it is good for so long; 14 days when left out, 90 with a label
}

// NewPassword changes the password of who asks.
type NewPassword struct {
	Old string `json:"old"`
	New string `json:"new"`
}

// Token speaks for a person.
type Token struct {
	ID        string     `json:"id"`
	Kind      string     `json:"kind"` // session (a browser) or access (a command line or pipeline)
	Person    string     `json:"person"`
	Label     string     `json:"label"`
	CreatedAt time.Time  `json:"created_at"`
	ExpiresAt *time.Time `json:"expires_at"`
	UsedAt    *time.Time `json:"used_at"` // null: not since this is noted
	This      bool       `json:"this"`    // with which it was asked
}

// Me is who is asking.
type Me struct {
	Name  string   `json:"name"`
	Role  string   `json:"role"`
	Leads []string `json:"leads"`           // projects of which the person is a lead
	Token string   `json:"token,omitempty"` // shown once, when an access token was asked for
}

// Person is somebody who may sign in.
type Person struct {
	Name      string    `json:"name"`
	Role      string    `json:"role"`
	CreatedAt time.Time `json:"created_at"`
	Etag      string    `json:"etag"` // for If-Match
}

// PersonChange makes a person or changes one. What is left out stays; a new
// person without a role is an artist.
type PersonChange struct {
	Role     string `json:"role,omitempty"`
	Password string `json:"password,omitempty"` // of a new person made up and told when left out
}

// PersonMade answers PersonChange.
type PersonMade struct {
	Person
	Password string `json:"password,omitempty"` // shown once, if it was made up
}

// NewKey asks for an enrolment key.
type NewKey struct {
	Label   string   `json:"label,omitempty"`
	Seconds *int     `json:"seconds,omitempty"` // it is good for so long; 1800 when left out
	Uses    *int     `json:"uses,omitempty"`    // 1 when left out
	Pools   []string `json:"pools,omitempty"`   // that its nodes join
	Returns []string `json:"returns,omitempty"` // nodes that were shut out and may come back with it, under their names
}

// NewName gives a thing another name.
type NewName struct {
	Name string `json:"name"`
}

// Key is an enrolment key.
type Key struct {
	ID        string    `json:"id"`            // to revoke it by
	Key       string    `json:"key,omitempty"` // shown once, when it is made
	Label     string    `json:"label"`
	CreatedBy string    `json:"created_by"`
	CreatedAt time.Time `json:"created_at"`
	ExpiresAt time.Time `json:"expires_at"`
	UsesLeft  int       `json:"uses_left"`
	Pools     []string  `json:"pools"`   // that its nodes join
	Returns   []string  `json:"returns"` // nodes that were shut out and may come back with it
	Revoked   bool      `json:"revoked"`
}
