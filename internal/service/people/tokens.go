package people

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
)

// Tokens speak for people. They have names and ends, and end early when they are
// revoked, when their person gets a new password, or leaves.

// mostTokens bounds the tokens of one person; the oldest sessions give way.
const mostTokens = 100

// IssueToken lets a token of a person in until it expires. tested is the hash of
// the password that the person has just proved to know: one that was changed
// meanwhile lets nobody in.
func (d *Desk) IssueToken(
	ctx context.Context, hash string, kind farm.TokenKind, person, label, tested string, expires time.Time,
) error {
	return d.do(ctx, func(t *transaction) error {
		p := t.State.People[person]
		if p == nil || p.PasswordHash != tested {
			return refusal.New(refusal.Forbidden, "password", "name or password is wrong")
		}
		if mine := t.tokensOf(person); len(mine) >= mostTokens {
			i := slices.IndexFunc(mine, func(k *farm.Token) bool { return k.Kind == farm.SessionToken })
			if i < 0 {
				return refusal.New(
					refusal.Conflict, "label",
					"%s has %d tokens already; revoke some first, as vexillum token list shows them", person, len(mine),
				)
			}
			t.Append(farm.TokenRevoked{Hash: mine[i].Hash, At: t.Now})
		}
		t.Append(farm.TokenIssued{Hash: hash, Of: kind, Person: person, Label: label, ExpiresAt: &expires, At: t.Now},
			farm.Audited{Actor: person, Action: "sign in", Subject: string(kind) + " token", To: label, At: t.Now})
		return nil
	})
}

// tokensOf returns the tokens of a person, the oldest first.
func (t *transaction) tokensOf(person string) (out []*farm.Token) {
	for token := range maps.Values(t.State.Tokens) {
		if token.Person == person && token.Kind != farm.NodeToken {
			out = append(out, token)
		}
	}
	slices.SortFunc(out, func(a, b *farm.Token) int { return a.CreatedAt.Compare(b.CreatedAt) })
	return out
}

// endTokens revokes all tokens of a person but one.
func (t *transaction) endTokens(person, but, actor, why string) {
	ended := 0
	for _, token := range t.tokensOf(person) {
		if token.Hash != but {
			t.Append(farm.TokenRevoked{Hash: token.Hash, At: t.Now})
			ended++
		}
	}
	if ended > 0 {
		t.Append(farm.Audited{
			Actor: actor, Action: "revoke tokens", Subject: person, From: english.Plural(ended, "token", ""),
			To: why, At: t.Now,
		})
	}
}

// Tokens returns the tokens of a person, or of all people for "", the newest
// first.
func (d *Desk) Tokens(ctx context.Context, person string) (out []farm.Token, err error) {
	err = d.do(ctx, func(t *transaction) error {
		for _, token := range t.State.Tokens {
			if token.Kind != farm.NodeToken && token.Valid(t.Now) && (person == "" || token.Person == person) {
				out = append(out, *token)
			}
		}
		slices.SortFunc(out, func(a, b farm.Token) int { return b.CreatedAt.Compare(a.CreatedAt) })
		return nil
	})
	return out, err
}

// leastTokenID is how much of a token's hash names it at least.
const leastTokenID = 12

// EndToken revokes a token of a person by its id, the beginning of its hash.
// Admins may revoke everybody's.
func (d *Desk) EndToken(ctx context.Context, id string, by farm.Person) error {
	return d.do(ctx, func(t *transaction) error {
		for hash, token := range t.State.Tokens {
			if token.Kind == farm.NodeToken || len(id) < leastTokenID || !strings.HasPrefix(hash, id) ||
				token.Person != by.Name && by.Role != farm.Admin {
				continue
			}
			t.revoke(token, by.Name, "revoke token")
			return nil
		}
		return refusal.New(
			refusal.NotFound, "token", "there is no token %q of yours; vexillum token list shows them", id,
		)
	})
}

func (t *transaction) revoke(token *farm.Token, actor, action string) {
	t.Append(
		farm.TokenRevoked{Hash: token.Hash, At: t.Now},
		farm.Audited{
			Actor: actor, Action: action, Subject: string(token.Kind) + " token",
			From: fmt.Sprintf("%s of %s", token.Label, token.Person), At: t.Now,
		},
	)
}

// RevokeToken shuts a token out. One that is not known is revoked already.
func (d *Desk) RevokeToken(ctx context.Context, hash, actor string) error {
	return d.do(ctx, func(t *transaction) error {
		if token := t.State.Tokens[hash]; token != nil {
			t.revoke(token, actor, "sign out")
		}
		return nil
	})
}

// ChangePassword gives a person a new password. All tokens end but the one with
// which it was asked for. tested is the hash of the old password, which the
// person has proved to know.
func (d *Desk) ChangePassword(ctx context.Context, person, tested, passwordHash, keep string) error {
	return d.do(ctx, func(t *transaction) error {
		p := t.State.People[person]
		if p == nil || p.PasswordHash != tested {
			return refusal.New(refusal.Invalid, "old", "the old password is wrong")
		}
		t.Append(farm.PersonSet{Name: person, Role: p.Role, PasswordHash: passwordHash, At: t.Now},
			farm.Audited{Actor: person, Action: "change password", Subject: person, At: t.Now})
		t.endTokens(person, keep, person, "a new password")
		return nil
	})
}

// RemovePerson takes a person off the farm. Sessions, tokens and streams end at
// once; runs stay. Who is not there is gone already.
func (d *Desk) RemovePerson(ctx context.Context, name string, by farm.Person) error {
	return d.do(ctx, func(t *transaction) error {
		p := t.State.People[name]
		if p == nil {
			return nil
		}
		if p.Role == farm.Admin && admins(t.State) == 1 {
			return refusal.New(refusal.Conflict, "person", "%s is the only admin; make another one first", name)
		}
		t.Append(
			farm.PersonRemoved{Name: name, At: t.Now},
			farm.Audited{Actor: by.Name, Action: "remove person", Subject: name, From: string(p.Role), At: t.Now},
		)
		return nil
	})
}

// SignInFailed puts on record that somebody could not sign in.
func (d *Desk) SignInFailed(ctx context.Context, name, address, why string, times int) error {
	return d.do(ctx, func(t *transaction) error {
		t.Append(farm.Audited{
			Actor: name, Action: "fail to sign in", Subject: address, From: often(times), To: why, At: t.Now,
		})
		return nil
	})
}

func often(n int) string {
	if n == 1 {
		return ""
	}
	return fmt.Sprintf("%d times", n)
}
