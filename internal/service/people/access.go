package people

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
)

// Access is who may come in, as a value that never changes. Requests look at
// it without passing through the loop.
type Access struct {
	people   map[string]farm.Person
	tokens   map[string]farm.Token
	projects []*farm.Project // copies of those that are closed or have members, by name
}

// Access returns who may come in now.
func (d *Desk) Access() *Access { return d.access.Load() }

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

// Sight returns which projects somebody sees.
func (a *Access) Sight(who farm.Person) farm.Sight {
	return farm.NewSight(who, slices.Values(a.projects))
}

// Leads returns of which projects somebody is a lead.
func (a *Access) Leads(who farm.Person) []string {
	out := []string{}
	for _, p := range a.projects {
		if p.Members[who.Name] == farm.Lead {
			out = append(out, p.Name)
		}
	}
	return out
}

// publish lets requests see who may come in by now.
func (d *Desk) publish(s *farm.State) {
	a := Access{people: map[string]farm.Person{}, tokens: map[string]farm.Token{}}
	for name, p := range s.People {
		a.people[name] = *p
	}
	for hash, t := range s.Tokens {
		a.tokens[hash] = *t
	}
	for _, name := range slices.Sorted(maps.Keys(s.Projects)) {
		if p := *s.Projects[name]; p.Closed || len(p.Members) > 0 {
			a.projects = append(a.projects, &p)
		}
	}
	d.access.Store(&a)
}

// SetPerson makes a person or changes role and password; what is empty stays.
// match, if not empty, must be the mark of what is there. A new password ends all
// sessions and tokens of the person but the one kept.
func (d *Desk) SetPerson(
	ctx context.Context, name string, role farm.Role, passwordHash, match, actor string,
) (farm.Person, error) {
	var out farm.Person
	err := d.do(ctx, func(t *transaction) error {
		if err := farm.CheckPersonName(name); err != nil {
			return refusal.New(refusal.Invalid, "name", "%v", err)
		}
		old, from := t.State.People[name], ""
		if old != nil {
			from = string(old.Role)
			if err := refusal.UnlessCurrent(name, match, old.Etag(), true); err != nil {
				return err
			}
			role = cmp.Or(role, old.Role)
			if old.Role == farm.Admin && role != farm.Admin && admins(t.State) == 1 {
				return refusal.New(refusal.Conflict, "role", "%s is the only admin; make another one first", name)
			}
		}
		role = cmp.Or(role, farm.Artist)
		if !role.Valid() {
			return refusal.New(
				refusal.Invalid, "role", "a person is a viewer, an artist, a wrangler or an admin, not %q", role,
			)
		}
		if old == nil && passwordHash == "" {
			return refusal.New(refusal.Invalid, "password", "a new person needs a password")
		}
		hash := passwordHash
		if hash == "" {
			hash = old.PasswordHash
		}
		if old == nil || old.Role != role || old.PasswordHash != hash {
			t.Append(
				farm.PersonSet{Name: name, Role: role, PasswordHash: hash, At: t.Now},
				farm.Audited{
					Actor: actor, Action: "set person", Subject: name, From: from, To: string(role),
					At: t.Now,
				},
			)
		}
		if old != nil && passwordHash != "" {
			t.endTokens(name, "", actor, "a new password")
		}
		out = *t.State.People[name]
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
func (d *Desk) People() []farm.Person {
	a := d.Access()
	out := make([]farm.Person, 0, len(a.people))
	for _, name := range slices.Sorted(maps.Keys(a.people)) {
		out = append(out, a.people[name])
	}
	return out
}

// Person returns who is called so, or false.
func (d *Desk) Person(name string) (farm.Person, bool) {
	p, known := d.Access().people[name]
	return p, known
}

// IssueKey lets an enrolment key be used for a while.
func (d *Desk) IssueKey(ctx context.Context, k farm.Key, life time.Duration) (farm.Key, error) {
	var out farm.Key
	err := d.do(ctx, func(t *transaction) error {
		if k.UsesLeft < 1 || k.UsesLeft > 10_000 {
			return refusal.New(refusal.Invalid, "uses", "an enrolment key has 1 to 10000 uses, not %d", k.UsesLeft)
		}
		if len(k.Label) > 100 {
			return refusal.New(refusal.Invalid, "label", "the label has more than 100 characters")
		}
		for _, p := range k.Pools {
			if t.State.Pools[p] == nil {
				return refusal.New(
					refusal.Invalid, "pools", "there is no pool %q; make it with: vexillum pool set %s", p, p,
				)
			}
		}
		for _, name := range k.Returns {
			if n := t.State.NodeNamed(name); n == nil || t.State.NodeHasToken(n.ID, t.Now) {
				return refusal.New(
					refusal.Invalid, "returns", "there is no node %q that was shut out; vexillum nodes shows them",
					name,
				)
			}
		}
		t.Append(
			farm.KeyIssued{
				Hash: k.Hash, Label: k.Label, CreatedBy: k.CreatedBy, Uses: k.UsesLeft,
				Pools: append([]string{}, k.Pools...), Returns: append([]string{}, k.Returns...),
				At: t.Now, ExpiresAt: t.Now.Add(life),
			},
			farm.Audited{
				Actor: k.CreatedBy, Action: "make enrolment key", Subject: k.Label, To: life.String(),
				At: t.Now,
			},
		)
		out = *t.State.Keys[k.Hash]
		return nil
	})
	return out, err
}

// RevokeKey shuts an enrolment key out, named by the beginning of its hash.
// Nodes that it let in stay.
func (d *Desk) RevokeKey(ctx context.Context, id string, by farm.Person) error {
	return d.do(ctx, func(t *transaction) error {
		for hash, k := range t.State.Keys {
			if len(id) < 12 || !strings.HasPrefix(hash, id) {
				continue
			}
			if k.RevokedAt.IsZero() {
				t.Append(
					farm.KeyRevoked{Hash: hash, At: t.Now},
					farm.Audited{Actor: by.Name, Action: "revoke enrolment key", Subject: k.Label, From: id, At: t.Now},
				)
			}
			return nil
		}
		return refusal.New(refusal.NotFound, "key", "there is no enrolment key %q; vexillum key list shows them", id)
	})
}

// Keys returns the enrolment keys, newest first.
func (d *Desk) Keys(ctx context.Context) ([]farm.Key, error) {
	var out []farm.Key
	err := d.do(ctx, func(t *transaction) error {
		for _, k := range t.State.Keys {
			out = append(out, *k)
		}
		slices.SortFunc(out, func(a, b farm.Key) int { return b.CreatedAt.Compare(a.CreatedAt) })
		return nil
	})
	return out, err
}
