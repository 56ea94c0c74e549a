package floor

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"vexillum/internal/core/farm"
)

// Access is who may come in, as a value that never changes. Requests look at
// it without passing through the loop.
type Access struct {
	people map[string]farm.Person
	tokens map[string]farm.Token
}

// Access returns who may come in now.
func (f *Floor) Access() *Access { return f.access.Load() }

// Token returns the token with this hash if it counts at the given time.
func (a *Access) Token(hash string, now time.Time) (farm.Token, bool) {
	t, ok := a.tokens[hash]
	return t, ok && t.Valid(now)
}

// Person returns a person by name.
func (a *Access) Person(name string) (farm.Person, bool) {
	p, ok := a.people[name]
	return p, ok
}

func (f *Floor) publishAccess() {
	a := Access{people: map[string]farm.Person{}, tokens: map[string]farm.Token{}}
	for name, p := range f.s.People {
		a.people[name] = *p
	}
	for hash, t := range f.s.Tokens {
		a.tokens[hash] = *t
	}
	f.access.Store(&a)
}

func (f *Floor) publishAccessIf(records []farm.Record) {
	if slices.ContainsFunc(records, func(r farm.Record) bool {
		switch r.(type) {
		case farm.PersonSet, farm.TokenIssued, farm.TokenRevoked, farm.NodeRetired:
			return true
		}
		return false
	}) {
		f.publishAccess()
	}
}

// SetPerson makes a person or changes role and, where a hash is given,
// password.
func (f *Floor) SetPerson(ctx context.Context, name string, role farm.Role, passwordHash, actor string) (farm.Person, error) {
	var out farm.Person
	err := f.do(ctx, func(t *turn) error {
		if err := farm.CheckPersonName(name); err != nil {
			return refuse(Invalid, "name", "%v", err)
		}
		if !role.Valid() {
			return refuse(Invalid, "role", "a person is viewer, artist, wrangler or admin, not %q", role)
		}
		from := ""
		if old := t.s.People[name]; old != nil {
			from = string(old.Role)
			if passwordHash == "" {
				passwordHash = old.PasswordHash
			}
			if old.Role == farm.Admin && role != farm.Admin && admins(t.s) == 1 {
				return refuse(Conflict, "role", "%s is the only admin; make another one first", name)
			}
		} else if passwordHash == "" {
			return refuse(Invalid, "password", "a new person needs a password")
		}
		t.append(farm.PersonSet{Name: name, Role: role, PasswordHash: passwordHash, At: t.now},
			farm.Audited{Actor: actor, Action: "set person", Subject: name, From: from, To: string(role), At: t.now})
		out = *t.s.People[name]
		return nil
	})
	return out, err
}

func admins(s *farm.State) int {
	n := 0
	for _, p := range s.People {
		if p.Role == farm.Admin {
			n++
		}
	}
	return n
}

// People returns everybody who may sign in, by name.
func (f *Floor) People() []farm.Person {
	a := f.Access()
	out := make([]farm.Person, 0, len(a.people))
	for _, name := range slices.Sorted(maps.Keys(a.people)) {
		out = append(out, a.people[name])
	}
	return out
}

// IssueToken lets a token of a person in. A zero expiry means never.
func (f *Floor) IssueToken(ctx context.Context, hash string, kind farm.TokenKind, person, label string, expires time.Time) error {
	return f.do(ctx, func(t *turn) error {
		if t.s.People[person] == nil {
			return refuse(NotFound, "name", "there is nobody called %q", person)
		}
		r := farm.TokenIssued{Hash: hash, Of: kind, Person: person, Label: label, At: t.now}
		if !expires.IsZero() {
			r.ExpiresAt = &expires
		}
		t.append(r, farm.Audited{Actor: person, Action: "sign in", Subject: string(kind) + " token", To: label, At: t.now})
		return nil
	})
}

// RevokeToken shuts a token out. One that is not known is revoked already.
func (f *Floor) RevokeToken(ctx context.Context, hash, actor string) error {
	return f.do(ctx, func(t *turn) error {
		if token := t.s.Tokens[hash]; token != nil {
			t.append(farm.TokenRevoked{Hash: hash, At: t.now},
				farm.Audited{Actor: actor, Action: "sign out", Subject: string(token.Kind) + " token", From: token.Label, At: t.now})
		}
		return nil
	})
}

// IssueKey lets an enrolment key be used for a while.
func (f *Floor) IssueKey(ctx context.Context, k farm.Key, life time.Duration) (farm.Key, error) {
	var out farm.Key
	err := f.do(ctx, func(t *turn) error {
		if k.UsesLeft < 1 || k.UsesLeft > 10_000 {
			return refuse(Invalid, "uses", "an enrolment key has 1 to 10000 uses, not %d", k.UsesLeft)
		}
		if len(k.Label) > 100 {
			return refuse(Invalid, "label", "the label has more than 100 characters")
		}
		for _, p := range k.Pools {
			if t.s.Pools[p] == nil {
				return refuse(Invalid, "pools", "there is no pool %q; make it with: vexillum pool set %s", p, p)
			}
		}
		t.append(farm.KeyIssued{Hash: k.Hash, Label: k.Label, CreatedBy: k.CreatedBy, Uses: k.UsesLeft, Pools: orEmpty(k.Pools), At: t.now, ExpiresAt: t.now.Add(life)},
			farm.Audited{Actor: k.CreatedBy, Action: "make enrolment key", Subject: k.Label, To: life.String(), At: t.now})
		out = *t.s.Keys[k.Hash]
		return nil
	})
	return out, err
}

// RevokeKey shuts an enrolment key out, named by the beginning of its hash.
// Nodes that it let in stay.
func (f *Floor) RevokeKey(ctx context.Context, id string, by farm.Person) error {
	return f.do(ctx, func(t *turn) error {
		for hash, k := range t.s.Keys {
			if len(id) < 12 || !strings.HasPrefix(hash, id) {
				continue
			}
			if k.RevokedAt.IsZero() {
				t.append(farm.KeyRevoked{Hash: hash, At: t.now}, farm.Audited{Actor: by.Name, Action: "revoke enrolment key", Subject: k.Label, From: id, At: t.now})
			}
			return nil
		}
		return refuse(NotFound, "key", "there is no enrolment key %q; vexillum key list shows them", id)
	})
}

// Keys returns the enrolment keys, newest first.
func (f *Floor) Keys(ctx context.Context) ([]farm.Key, error) {
	var out []farm.Key
	err := f.do(ctx, func(t *turn) error {
		for _, k := range t.s.Keys {
			out = append(out, *k)
		}
		slices.SortFunc(out, func(a, b farm.Key) int { return b.CreatedAt.Compare(a.CreatedAt) })
		return nil
	})
	return out, err
}
