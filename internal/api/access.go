package api

import (
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/time/rate"

	"vexillum/internal/core/farm"
	"vexillum/internal/secret"
	"vexillum/internal/service/floor"
	"vexillum/internal/wire"
)

const (
	cookieName  = "vexillum_session"
	sessionLife = 14 * 24 * time.Hour

	keyPerson = "person"
	keyToken  = "token"
	keyNode   = "node"
)

// allow lets in only those who may call a route.
func (s *Server) allow(least who) gin.HandlerFunc {
	return func(c *gin.Context) {
		if least == anybody {
			return
		}
		f, ok := s.floor(c)
		if !ok {
			return
		}
		given := presented(c.Request)
		token, ok := f.Access().Token(secret.Hash(given), time.Now())
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
		person, ok := f.Access().Person(token.Person)
		if !ok || token.Kind == farm.NodeToken {
			problem(c, http.StatusForbidden, "", "a node's token does not speak for a person")
			return
		}
		if !person.Role.Allows(farm.Role(least)) {
			problem(c, http.StatusForbidden, "", "this needs the role "+string(least)+"; "+person.Name+" is "+string(person.Role)+"; ask an admin")
			return
		}
		c.Set(keyPerson, person)
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

// limiter slows down those who try to sign in too often.
type limiter struct {
	mu   sync.Mutex
	from map[string]*rate.Limiter
}

func newLimiter() *limiter { return &limiter{from: map[string]*rate.Limiter{}} }

// Sign-ins allowed from one address: some at once, then one every few seconds.
const (
	signInBurst = 8
	signInEvery = 5 * time.Second
)

func (l *limiter) allow(address string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.from) > 10_000 { // forget everybody rather than grow without end
		clear(l.from)
	}
	if l.from[address] == nil {
		l.from[address] = rate.NewLimiter(rate.Every(signInEvery), signInBurst)
	}
	return l.from[address].Allow()
}

func (s *Server) signIn(c *gin.Context, f *floor.Floor, in wire.SignIn) {
	if !s.limits.allow(c.ClientIP() + " " + in.Name) {
		c.Header("Retry-After", "5")
		problem(c, http.StatusTooManyRequests, "", "too many attempts to sign in; wait a few seconds")
		return
	}
	if len(in.Label) > maxLabel {
		problem(c, http.StatusUnprocessableEntity, "label", fmt.Sprintf("the label has more than %d characters", maxLabel))
		return
	}
	p, _ := f.Access().Person(in.Name)
	fits, err := secret.CheckPassword(p.PasswordHash, in.Password)
	if err != nil {
		s.fail(c, err)
		return
	}
	if !fits {
		problem(c, http.StatusUnauthorized, "password", "name or password is wrong")
		return
	}
	if in.Label != "" { // for a command line: a token that stays
		token := secret.New("vxp")
		if err := f.IssueToken(c, secret.Hash(token), farm.AccessToken, p.Name, in.Label, time.Time{}); err != nil {
			s.fail(c, err)
			return
		}
		c.JSON(http.StatusOK, wire.Me{Name: p.Name, Role: string(p.Role), Token: token})
		return
	}
	token := secret.New("vxs")
	if err := f.IssueToken(c, secret.Hash(token), farm.SessionToken, p.Name, "browser", time.Now().Add(sessionLife)); err != nil {
		s.fail(c, err)
		return
	}
	s.setCookie(c, token, int(sessionLife.Seconds()))
	c.JSON(http.StatusOK, wire.Me{Name: p.Name, Role: string(p.Role)})
}

func (s *Server) setCookie(c *gin.Context, value string, maxAge int) {
	http.SetCookie(c.Writer, &http.Cookie{
		Name: cookieName, Value: value, Path: "/", MaxAge: maxAge, HttpOnly: true, Secure: s.secure, SameSite: http.SameSiteStrictMode,
	})
}

func (s *Server) signOut(c *gin.Context, f *floor.Floor) {
	token := c.MustGet(keyToken).(farm.Token)
	if err := f.RevokeToken(c, token.Hash, token.Person); err != nil {
		s.fail(c, err)
		return
	}
	s.setCookie(c, "", -1)
	c.Status(http.StatusNoContent)
}

func (s *Server) me(c *gin.Context) {
	p := person(c)
	c.JSON(http.StatusOK, wire.Me{Name: p.Name, Role: string(p.Role)})
}
