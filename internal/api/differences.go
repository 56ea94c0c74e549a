package api

import (
	"github.com/gin-gonic/gin"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/floor"
)

func (s *Server) differences(c *gin.Context, f *floor.Floor) {
	id, ok := number(c, "run")
	if !ok {
		return
	}
	from, ok := query(c, "from", 0, 0, 1<<62)
	if !ok {
		return
	}
	out, err := f.Queue.Differences(c, farm.RunID(id), farm.RunID(from))
	s.answer(c, out, err)
}

// steps returns the runs that wait for one another with one.
func (s *Server) steps(c *gin.Context, f *floor.Floor) {
	id, ok := number(c, "run")
	if !ok {
		return
	}
	out, err := f.Views.Steps(c, farm.RunID(id), s.sight(c))
	s.answer(c, out, err)
}
