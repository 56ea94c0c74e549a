package api

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"vexillum/internal/core/farm"
	"vexillum/internal/secret"
	"vexillum/internal/service/floor"
	"vexillum/internal/wire"
)

func (s *Server) nodes(c *gin.Context, f *floor.Floor) {
	v, err := f.Nodes(c)
	s.answer(c, v, err)
}

func (s *Server) node(c *gin.Context, f *floor.Floor) {
	id, ok := number(c, "node")
	if !ok {
		return
	}
	v, err := f.Node(c, farm.NodeID(id))
	s.answer(c, v, err)
}

func (s *Server) recipes(c *gin.Context, f *floor.Floor) {
	nodes, err := f.Nodes(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := []wire.Recipe{}
	book := s.svc.Recipes()
	for _, name := range book.Names() {
		r := book[name]
		v := wire.Recipe{Name: r.Name, Title: r.Title, Mode: string(r.Mode), Scenes: r.Scenes, Values: map[string]string{}, Nodes: countWith(nodes, name)}
		for value, d := range r.Values {
			v.Values[value] = d.Default
		}
		out = append(out, v)
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) projects(c *gin.Context, f *floor.Floor) {
	v, err := f.Projects(c)
	s.answer(c, v, err)
}

func (s *Server) setProject(c *gin.Context, f *floor.Floor, in wire.Project) {
	if in.Name != "" && in.Name != c.Param("project") {
		problem(c, http.StatusUnprocessableEntity, "name", "the name in the body is not the one in the address")
		return
	}
	in.Name = c.Param("project")
	err := f.SetProject(c, farm.Project{Name: in.Name, Title: in.Title, Weight: in.Weight, Scenes: in.Scenes, Frames: in.Frames}, person(c).Name)
	s.answer(c, in, err)
}

func (s *Server) places(c *gin.Context, f *floor.Floor) {
	places, err := f.Places(c)
	out := []wire.Place{}
	for _, p := range places {
		out = append(out, wire.Place(p))
	}
	s.answer(c, out, err)
}

func (s *Server) setPlace(c *gin.Context, f *floor.Floor, in wire.Place) {
	if in.Name != "" && in.Name != c.Param("place") {
		problem(c, http.StatusUnprocessableEntity, "name", "the name in the body is not the one in the address")
		return
	}
	in.Name = c.Param("place")
	s.answer(c, in, f.SetPlace(c, farm.Place(in), person(c).Name))
}

func (s *Server) licences(c *gin.Context, f *floor.Floor) {
	v, err := f.Licences(c)
	s.answer(c, v, err)
}

func (s *Server) setLicence(c *gin.Context, f *floor.Floor, in wire.NewLicence) {
	s.answer(c, in, f.SetLicence(c, c.Param("licence"), in.Count, person(c)))
}

// drill describes the live farm as a drill file.
func (s *Server) drill(c *gin.Context, f *floor.Floor) {
	file, err := f.Drill(c)
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
	return wire.Key{ID: k.Hash[:12], Pools: append([]string{}, k.Pools...), Revoked: !k.RevokedAt.IsZero(), Label: k.Label, CreatedBy: k.CreatedBy, CreatedAt: k.CreatedAt, ExpiresAt: k.ExpiresAt, UsesLeft: k.UsesLeft}
}

func (s *Server) keys(c *gin.Context, f *floor.Floor) {
	keys, err := f.Keys(c)
	out := []wire.Key{}
	for _, k := range keys {
		out = append(out, keyView(k))
	}
	s.answer(c, out, err)
}

const maxKeySeconds = 7 * 24 * 3600

func (s *Server) newKey(c *gin.Context, f *floor.Floor, in wire.NewKey) {
	if in.Seconds == 0 {
		in.Seconds = 1800
	}
	if in.Uses == 0 {
		in.Uses = 1
	}
	if in.Seconds < 1 || in.Seconds > maxKeySeconds {
		problem(c, http.StatusUnprocessableEntity, "seconds", "an enrolment key is good for a second to seven days")
		return
	}
	key := secret.New("vxk")
	made, err := f.IssueKey(c, farm.Key{Hash: secret.Hash(key), Label: in.Label, CreatedBy: person(c).Name, UsesLeft: in.Uses, Pools: in.Pools}, time.Duration(in.Seconds)*time.Second)
	if err != nil {
		s.fail(c, err)
		return
	}
	v := keyView(made)
	v.Key = key
	c.JSON(http.StatusCreated, v)
}

func personView(p farm.Person) wire.Person {
	return wire.Person{Name: p.Name, Role: string(p.Role), CreatedAt: p.CreatedAt}
}

func (s *Server) people(c *gin.Context, f *floor.Floor) {
	out := []wire.Person{}
	for _, p := range f.People() {
		out = append(out, personView(p))
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) setPerson(c *gin.Context, f *floor.Floor, in wire.NewPerson) {
	if in.Name != "" && in.Name != c.Param("person") {
		problem(c, http.StatusUnprocessableEntity, "name", "the name in the body is not the one in the address")
		return
	}
	in.Name = c.Param("person")
	_, known := f.Access().Person(in.Name)
	told := ""
	if in.Password == "" && !known {
		in.Password = secret.Password()
		told = in.Password
	}
	hash := ""
	if in.Password != "" {
		var err error
		if hash, err = secret.HashPassword(in.Password); err != nil {
			problem(c, http.StatusUnprocessableEntity, "password", err.Error())
			return
		}
	}
	p, err := f.SetPerson(c, in.Name, farm.Role(in.Role), hash, person(c).Name)
	s.answer(c, wire.PersonMade{Person: personView(p), Password: told}, err)
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

// countWith returns how many nodes that are online have a recipe's renderer.
func countWith(nodes []wire.Node, recipe string) int {
	n := 0
	for _, node := range nodes {
		for _, r := range node.Renderers {
			if r.Recipe == recipe && node.Reach == string(farm.Online) {
				n++
			}
		}
	}
	return n
}
