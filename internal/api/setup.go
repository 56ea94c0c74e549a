package api

import (
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"vexillum/internal/core/farm"
	"vexillum/internal/secret"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

func (s *Server) nodes(c *gin.Context, f *floor.Floor) {
	v, err := f.Views.Nodes(c, s.sight(c))
	s.answer(c, v, err)
}

func (s *Server) node(c *gin.Context, f *floor.Floor) {
	id, ok := number(c, "node")
	if !ok {
		return
	}
	v, err := f.Views.Node(c, farm.NodeID(id), s.sight(c))
	s.answer(c, v, err)
}

func (s *Server) projects(c *gin.Context, f *floor.Floor) {
	v, err := f.Views.Projects(c, s.sight(c))
	s.answer(c, v, err)
}

// match returns the mark of what the asker has seen, from If-Match; "" if it does
// not matter. With If-None-Match: * the thing must not be there yet.
func match(c *gin.Context) string {
	if strings.TrimSpace(c.GetHeader("If-None-Match")) == "*" {
		return refusal.MustBeNew
	}
	return strings.Trim(strings.TrimPrefix(strings.TrimSpace(c.GetHeader("If-Match")), "W/"), `"`)
}

// changed answers a change of what has an ETag.
func (s *Server) changed(c *gin.Context, v any, etag string, err error) {
	if err == nil {
		c.Header("ETag", `"`+etag+`"`)
	}
	s.answer(c, v, err)
}

func (s *Server) setProject(c *gin.Context, f *floor.Floor, in wire.ProjectChange) {
	v, err := f.Setup.SetProject(c, c.Param("project"), in, match(c), person(c).Name)
	s.changed(c, v, v.Etag, err)
}

func (s *Server) places(c *gin.Context) {
	v, err := s.svc.Places(c)
	s.answer(c, v, err)
}

func (s *Server) setPlace(c *gin.Context, _ *floor.Floor, in wire.PlaceChange) {
	v, err := s.svc.SetPlace(c, c.Param("place"), in, match(c), person(c))
	s.changed(c, v, v.Etag, err)
}

func (s *Server) markPlace(c *gin.Context) {
	v, err := s.svc.MarkPlace(c, c.Param("place"), person(c))
	s.changed(c, v, v.Etag, err)
}

func (s *Server) licences(c *gin.Context, f *floor.Floor) {
	v, err := f.Setup.Licences(c)
	s.answer(c, v, err)
}

func (s *Server) setLicence(c *gin.Context, f *floor.Floor, in wire.NewLicence) {
	s.answer(c, in, f.Setup.SetLicence(c, c.Param("licence"), in.Count, person(c)))
}

// drill describes the live farm as a drill file.
func (s *Server) drill(c *gin.Context, f *floor.Floor) {
	if !s.sight(c).All() {
		problem(
			c, http.StatusForbidden, "",
			"a drill is played with all jobs of the farm, and you do not see all projects; ask a wrangler",
		)
		return
	}
	file, err := f.Views.Drill(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	text, err := file.Write()
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Data(http.StatusOK, "application/yaml", text)
}

func keyView(k farm.Key) wire.Key {
	return wire.Key{
		ID: k.Hash[:12], Pools: append([]string{}, k.Pools...), Returns: append([]string{}, k.Returns...),
		Revoked: !k.RevokedAt.IsZero(), Label: k.Label, CreatedBy: k.CreatedBy, CreatedAt: k.CreatedAt,
		ExpiresAt: k.ExpiresAt, UsesLeft: k.UsesLeft,
	}
}

func (s *Server) keys(c *gin.Context, f *floor.Floor) {
	keys, err := f.People.Keys(c)
	out := []wire.Key{}
	for _, k := range keys {
		out = append(out, keyView(k))
	}
	s.answer(c, out, err)
}

const maxKeySeconds = 7 * 24 * 3600

func (s *Server) newKey(c *gin.Context, f *floor.Floor, in wire.NewKey) {
	seconds, uses := 1800, 1
	if in.Seconds != nil {
		seconds = *in.Seconds
	}
	if in.Uses != nil {
		uses = *in.Uses
	}
	if seconds < 1 || seconds > maxKeySeconds {
		problem(c, http.StatusUnprocessableEntity, "seconds", "an enrolment key is good for a second to seven days")
		return
	}
	key := secret.New("vxk")
	made, err := f.People.IssueKey(
		c,
		farm.Key{
			Hash: secret.Hash(key), Label: in.Label, CreatedBy: person(c).Name, UsesLeft: uses, Pools: in.Pools,
			Returns: in.Returns,
		},
		time.Duration(seconds)*time.Second,
	)
	if err != nil {
		s.fail(c, err)
		return
	}
	v := keyView(made)
	if v.Key = key; s.pin != "" {
		v.Key += wire.PinMark + s.pin
	}
	c.JSON(http.StatusCreated, v)
}

func personView(p farm.Person) wire.Person {
	return wire.Person{Name: p.Name, Role: string(p.Role), CreatedAt: p.CreatedAt, Etag: p.Etag()}
}

func (s *Server) people(c *gin.Context, f *floor.Floor) {
	out := []wire.Person{}
	for _, p := range f.People.People() {
		out = append(out, personView(p))
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) setPerson(c *gin.Context, f *floor.Floor, in wire.PersonChange) {
	name := c.Param("person")
	if err := farm.CheckPersonName(name); err != nil {
		problem(c, http.StatusUnprocessableEntity, "name", err.Error())
		return
	}
	_, known := f.People.Access().Person(name)
	told := ""
	if in.Password == "" && !known {
		in.Password = secret.Password()
		told = in.Password
	}
	hash := ""
	if in.Password != "" {
		var ok bool
		if hash, ok = s.hashed(c, "password", in.Password); !ok {
			return
		}
	}
	p, err := f.People.SetPerson(c, name, farm.Role(in.Role), hash, match(c), person(c).Name)
	s.changed(c, wire.PersonMade{Person: personView(p), Password: told}, p.Etag(), err)
}

func (s *Server) removePerson(c *gin.Context, f *floor.Floor) {
	s.done(c, f.People.RemovePerson(c, c.Param("person"), person(c)))
}

// tokens lists the tokens of the asker; of everybody for an admin who asks for
// that.
func (s *Server) tokens(c *gin.Context, f *floor.Floor) {
	of := person(c).Name
	if c.Query("all") == "true" {
		if person(c).Role != farm.Admin {
			problem(c, http.StatusForbidden, "all", "only an admin sees the tokens of others")
			return
		}
		of = ""
	}
	tokens, err := f.People.Tokens(c, of)
	if err != nil {
		s.fail(c, err)
		return
	}
	used, err := s.svc.TokensUsed(c)
	mine := c.MustGet(keyToken).(farm.Token).Hash
	out := []wire.Token{}
	for _, t := range tokens {
		v := wire.Token{
			ID: t.Hash[:12], Kind: string(t.Kind), Person: t.Person, Label: t.Label, CreatedAt: t.CreatedAt,
			This: t.Hash == mine,
		}
		if !t.ExpiresAt.IsZero() {
			v.ExpiresAt = &t.ExpiresAt
		}
		if at, ok := used[t.Hash]; ok {
			v.UsedAt = &at
		}
		out = append(out, v)
	}
	s.answer(c, out, err)
}

func (s *Server) endToken(c *gin.Context, f *floor.Floor) {
	if err := f.People.EndToken(c, c.Param("token"), person(c)); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func (s *Server) audit(c *gin.Context) {
	before, ok := query(c, "before", 0, 0, 1<<62)
	if !ok {
		return
	}
	limit, ok := query(c, "limit", 100, 1, 1000)
	if !ok {
		return
	}
	lines, err := s.svc.Store().Audits(c, before, int(limit))
	out := []wire.AuditLine{}
	for _, l := range lines {
		out = append(out, wire.AuditLine(l))
	}
	s.answer(c, out, err)
}

func (s *Server) rates(c *gin.Context, f *floor.Floor) {
	v, err := f.Setup.Rates(c)
	s.answer(c, v, err)
}

func (s *Server) setRate(c *gin.Context, f *floor.Floor, in wire.Rate) {
	v, err := f.Setup.SetRate(c, in, match(c), person(c))
	s.changed(c, v, v.Etag, err)
}

func (s *Server) preflightRule(c *gin.Context, f *floor.Floor) {
	v, err := f.Setup.PreflightRule(c)
	s.answer(c, v, err)
}

func (s *Server) setPreflightRule(c *gin.Context, f *floor.Floor, in wire.PreflightRule) {
	v, err := f.Setup.SetPreflightRule(c, in, match(c), person(c))
	s.changed(c, v, v.Etag, err)
}
