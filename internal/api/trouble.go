package api

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/views"
	"vexillum/internal/wire"
)

// trouble returns what has failed and was not asked to be tried again, put together.
func (s *Server) trouble(c *gin.Context, f *floor.Floor) {
	run, ok := query(c, "run", 0, 0, 1<<62)
	if !ok {
		return
	}
	q := views.TroubleQuery{By: c.Query("by"), Cause: c.Query("cause"), Node: c.Query("node"), Run: farm.RunID(run)}
	if since := c.Query("since"); since != "" {
		at, err := time.Parse(time.RFC3339, since)
		if err != nil {
			problem(c, http.StatusUnprocessableEntity, "since", "since is a time like 2031-03-04T05:06:07Z")
			return
		}
		q.Since = at
	}
	v, err := f.Views.Trouble(c, q, s.sight(c))
	s.answer(c, v, err)
}

// nodeTrouble returns what failed on a node, beside what came of it on others.
func (s *Server) nodeTrouble(c *gin.Context, f *floor.Floor) {
	id, ok := number(c, "node")
	if !ok {
		return
	}
	v, err := f.Views.NodeTrouble(c, farm.NodeID(id), s.sight(c))
	s.answer(c, v, err)
}

// retries tries parked frames again.
func (s *Server) retries(c *gin.Context, f *floor.Floor, in wire.Retrying) {
	v, err := f.Queue.RetryParked(c, in, person(c))
	s.answer(c, v, err)
}

// frameActs does what a person decides about frames of a run.
func (s *Server) frameActs(c *gin.Context, f *floor.Floor, in wire.FramesAct) {
	id, ok := number(c, "run")
	if !ok {
		return
	}
	v, err := f.Queue.ActOnFrames(c, farm.RunID(id), in, person(c))
	s.answer(c, v, err)
}
