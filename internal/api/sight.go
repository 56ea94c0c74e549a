package api

import (
	"fmt"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/refusal"
)

// sight returns which projects the asker sees.
func (s *Server) sight(c *gin.Context) farm.Sight {
	of, _ := c.Get(keySight)
	sight, _ := of.(farm.Sight) // node processes see all
	return sight
}

// seesOther reports whether the asker sees other projects by now than when they asked.
func (s *Server) seesOther(c *gin.Context, f *floor.Floor) bool {
	access := f.People.Access()
	now, _ := access.Person(person(c).Name)
	return access.Sight(now).Key() != s.sight(c).Key()
}

// veil takes the names of runs that the asker does not see out of sentences.
func (s *Server) veil(c *gin.Context, texts ...*string) error {
	if s.sight(c).All() {
		return nil
	}
	f, err := s.svc.Floor()
	if err != nil {
		return err
	}
	return f.Views.Veil(c, s.sight(c), texts...)
}

// hidden returns which of some runs the asker does not see.
func (s *Server) hidden(c *gin.Context, runs []int64) (map[int64]bool, error) {
	if s.sight(c).All() {
		return nil, nil
	}
	f, err := s.svc.Floor()
	if err != nil {
		return nil, err
	}
	return f.Views.Hidden(c, runs, s.sight(c))
}

// hidesNothing looks whether a path leads to a run or a project that the asker does not see,
// and answers then as if it were not there. Every route with such a name in its path comes
// through here.
func (s *Server) hidesNothing(c *gin.Context, f *floor.Floor) bool {
	sight := s.sight(c)
	if sight.All() {
		return true
	}
	if name := c.Param("project"); name != "" && !sight.Sees(name) {
		problem(c, http.StatusNotFound, "project", refusal.NoProject(name).Error())
		return false
	}
	for _, run := range []string{c.Param("run"), c.Query("from"), c.Query("run")} {
		id, err := strconv.ParseInt(run, 10, 64)
		if err != nil { // whoever needs a number refuses it
			continue
		}
		hidden, err := f.Views.Hidden(c, []int64{id}, sight)
		if err != nil {
			s.fail(c, err)
			return false
		}
		if hidden[id] {
			problem(c, http.StatusNotFound, "run", fmt.Sprintf("there is no run %d", id))
			return false
		}
	}
	return true
}
