package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"vexillum/internal/core/farm"
	"vexillum/internal/secret"
	"vexillum/internal/service/floor"
	"vexillum/internal/wire"
)

const (
	cookieName  = "vexillum_session"
	sessionLife = 14 * 24 * time.Hour
	tokenLife   = 90 * 24 * time.Hour
	mostLife    = 2 * 365 * 24 * time.Hour

	keyPerson = "person"
	keyToken  = "token"
	keyNode   = "node"
	keySight  = "sight"
)

// allow lets in only those who may call a route.
func (s *Server) allow(least who) gin.HandlerFunc {
	return func(c *gin.Context) {
		if least == anybody {
			if c.Request.Method == http.MethodPost {
				leave, ok := s.gate.enter(s.addressOf(c.Request))
				if !ok {
					retryAfter(c.Writer, time.Second)
					c.Header("Connection", "close")
					problem(
						c, http.StatusTooManyRequests, "",
						"too many requests without a sign-in are under way; try again in a moment",
					)
					return
				}
				defer leave()
				c.Next()
			}
			return
		}
		f, ok := s.floor(c)
		if !ok {
			return
		}
		given := presented(c.Request)
		token, ok := f.People.Access().Token(secret.Hash(given), time.Now())
		if given == "" || !ok {
			c.Header("WWW-Authenticate", `Bearer realm="vexillum"`)
			problem(c, http.StatusUnauthorized, "", "sign in first: the token is missing, unknown or expired")
			return
		}
		c.Set(keyToken, token)
		if least == aNode {
			if token.Kind != farm.NodeToken {
				problem(c, http.StatusForbidden, "", "only node processes may call this")
				return
			}
			c.Set(keyNode, token.Node)
			return
		}
		person, ok := f.People.Access().Person(token.Person)
		if !ok || token.Kind == farm.NodeToken {
			problem(c, http.StatusForbidden, "", "a node's token is not a person's")
			return
		}
		if !person.Role.Allows(farm.Role(least)) {
			problem(
				c, http.StatusForbidden, "",
				"only "+withArticle(string(least))+" may do this, and "+person.Name+" is "+withArticle(
					string(person.Role),
				)+"; ask an admin",
			)
			return
		}
		s.svc.TokenUsed(token.Hash)
		c.Set(keyPerson, person)
		c.Set(keySight, f.People.Access().Sight(person))
		if !s.hidesNothing(c, f) {
			c.Abort()
		}
	}
}

// stillMay returns whether who began a stream may still hear it: the token
// counts, and the person is there and sees what they saw.
func (s *Server) stillMay(c *gin.Context) func() bool {
	token := c.MustGet(keyToken).(farm.Token)
	return func() bool {
		f, err := s.svc.Floor()
		if err != nil {
			return false
		}
		_, counts := f.People.Access().Token(token.Hash, time.Now())
		_, there := f.People.Access().Person(token.Person)
		return counts && there && !s.seesOther(c, f)
	}
}

// presented returns the token that a request carries, or "".
func presented(r *http.Request) string {
	if bearer, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return bearer
	}
	if cookie, err := r.Cookie(cookieName); err == nil {
		return cookie.Value
	}
	return ""
}

func person(c *gin.Context) farm.Person { return c.MustGet(keyPerson).(farm.Person) }
func nodeID(c *gin.Context) farm.NodeID { return c.MustGet(keyNode).(farm.NodeID) }

// signIn lets a person in: with a cookie, or with a token that has a name and an
// end.
func (s *Server) signIn(c *gin.Context, f *floor.Floor, in wire.SignIn) {
	life := sessionLife
	if in.Label != "" {
		life = tokenLife
	}
	if in.Seconds != 0 {
		life = time.Duration(in.Seconds) * time.Second
	}
	switch {
	case len(in.Label) > maxLabel || hasControls(in.Label):
		problem(
			c, http.StatusUnprocessableEntity, "label",
			fmt.Sprintf("a label has at most %d characters, none of them a control character", maxLabel),
		)
		return
	case in.Seconds < 0 || in.Seconds > int(mostLife.Seconds()):
		problem(
			c, http.StatusUnprocessableEntity, "seconds",
			fmt.Sprintf("a token is good for a second to %d days", int(mostLife.Hours()/24)),
		)
		return
	}
	address := s.addressOf(c.Request)
	if !s.gate.may(address, attempted(in.Name)) {
		retryAfter(c.Writer, pairEvery)
		problem(c, http.StatusTooManyRequests, "", "too many attempts to sign in have failed; wait a few seconds")
		return
	}
	p, err := s.proven(c, f, in.Name, in.Password)
	if err != nil {
		s.refuseSignIn(c, f, in.Name, address, err)
		return
	}
	kind, prefix, label := farm.SessionToken, "vxs", "browser"
	if in.Label != "" { // for a command line or a pipeline
		kind, prefix, label = farm.AccessToken, "vxp", in.Label
	}
	token := secret.New(prefix)
	if err := f.People.IssueToken(
		c, secret.Hash(token), kind, p.Name, label, p.PasswordHash, time.Now().Add(life),
	); err != nil {
		s.fail(c, err)
		return
	}
	s.gate.passed(address, in.Name)
	out := meView(p, f)
	if in.Label != "" {
		out.Token = token
	} else {
		s.setCookie(c, token, int(life.Seconds()))
	}
	c.JSON(http.StatusOK, out)
}

// attempted returns a name as it is kept of those who try to sign in: what was
// typed and is no name may be a password, and of any length.
func attempted(name string) string {
	if farm.CheckPersonName(name) != nil {
		return "(no name)"
	}
	return name
}

var errWrongPassword = errors.New("name or password is wrong")

// proven returns a person whose password was given. The error is
// errWrongPassword, errBusy, or what went wrong.
func (s *Server) proven(ctx context.Context, f *floor.Floor, name, password string) (farm.Person, error) {
	if farm.CheckPersonName(name) != nil || len(password) > secret.MostPassword {
		return farm.Person{}, errWrongPassword
	}
	p, _ := f.People.Access().Person(name)
	fits := false
	err := s.gate.hash(ctx, func() (err error) {
		fits, err = secret.CheckPassword(p.PasswordHash, password)
		return err
	})
	if err == nil && !fits {
		err = errWrongPassword
	}
	return p, err
}

// refuseSignIn answers somebody who could not sign in, and puts it on record.
func (s *Server) refuseSignIn(c *gin.Context, f *floor.Floor, name, address string, err error) {
	switch {
	case errors.Is(err, errBusy):
		retryAfter(c.Writer, time.Second)
		problem(c, http.StatusTooManyRequests, "", errBusy.Error())
		return
	case !errors.Is(err, errWrongPassword):
		s.fail(c, err)
		return
	}
	name = attempted(name)
	if n := s.gate.turnedAway(address, name, time.Now()); n > 0 {
		s.log.Warn("a sign-in failed", "name", name, "address", address, "times", n)
		if err := f.People.SignInFailed(c, name, address, errWrongPassword.Error(), n); err != nil {
			s.log.Warn("a failed sign-in is not on record", "name", name, "error", err)
		}
	}
	problem(c, http.StatusUnauthorized, "password", errWrongPassword.Error())
}

// changePassword gives the person who asks a new password.
func (s *Server) changePassword(c *gin.Context, f *floor.Floor, in wire.NewPassword) {
	name, address := person(c).Name, s.addressOf(c.Request)
	if !s.gate.may(address, name) {
		retryAfter(c.Writer, pairEvery)
		problem(c, http.StatusTooManyRequests, "", "too many attempts have failed; wait a few seconds")
		return
	}
	p, err := s.proven(c, f, name, in.Old)
	if errors.Is(err, errWrongPassword) {
		s.gate.turnedAway(address, name, time.Now())
		problem(c, http.StatusUnprocessableEntity, "old", "the old password is wrong")
		return
	}
	if err != nil {
		s.refuseSignIn(c, f, name, address, err)
		return
	}
	hash, ok := s.hashed(c, "new", in.New)
	if !ok {
		return
	}
	if err := f.People.ChangePassword(
		c, name, p.PasswordHash, hash, c.MustGet(keyToken).(farm.Token).Hash,
	); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// hashed returns the hash of a new password, or answers why it has none.
func (s *Server) hashed(c *gin.Context, field, password string) (hash string, ok bool) {
	err := s.gate.hash(c, func() (err error) {
		hash, err = secret.HashPassword(password)
		return err
	})
	switch {
	case errors.Is(err, errBusy):
		retryAfter(c.Writer, time.Second)
		problem(c, http.StatusTooManyRequests, "", errBusy.Error())
	case err != nil:
		problem(c, http.StatusUnprocessableEntity, field, err.Error())
	}
	return hash, err == nil
}

func (s *Server) setCookie(c *gin.Context, value string, maxAge int) {
	http.SetCookie(c.Writer, &http.Cookie{
		Name: cookieName, Value: value, Path: "/", MaxAge: maxAge, HttpOnly: true, Secure: s.secure,
		SameSite: http.SameSiteStrictMode,
	})
}

func (s *Server) signOut(c *gin.Context, f *floor.Floor) {
	token := c.MustGet(keyToken).(farm.Token)
	if err := f.People.RevokeToken(c, token.Hash, token.Person); err != nil {
		s.fail(c, err)
		return
	}
	s.setCookie(c, "", -1)
	c.Status(http.StatusNoContent)
}

func (s *Server) me(c *gin.Context, f *floor.Floor) { c.JSON(http.StatusOK, meView(person(c), f)) }

func meView(p farm.Person, f *floor.Floor) wire.Me {
	return wire.Me{Name: p.Name, Role: string(p.Role), Leads: f.People.Access().Leads(p)}
}

// withArticle puts a or an before a word.
func withArticle(word string) string {
	if word != "" && strings.ContainsRune("aeiou", rune(word[0])) {
		return "an " + word
	}
	return "a " + word
}
