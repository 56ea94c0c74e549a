package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/floor"
	"vexillum/internal/wire"
)

func (s *Server) tryRecipe(c *gin.Context, _ *floor.Floor, in wire.TryRecipe) {
	trial, err := s.svc.TryRecipe(c, in, person(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusAccepted, trial)
}

// renderByHand lets a node render a frame of a run again, and deliver nothing.
func (s *Server) renderByHand(c *gin.Context, _ *floor.Floor, in wire.RenderByHand) {
	run, frame, ok := frameOfRun(c)
	if !ok {
		return
	}
	trial, err := s.svc.RenderByHand(c, farm.RunID(run), frame, in.Node, person(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusAccepted, trial)
}

func (s *Server) recipeTrial(c *gin.Context, _ *floor.Floor) {
	trial, err := s.svc.Trial(c.Param("trial"))
	s.answer(c, trial, err)
}

func (s *Server) stopTrial(c *gin.Context, _ *floor.Floor) {
	s.done(c, s.svc.StopTrial(c.Param("trial")))
}

// Bounds of what a node tells of an errand.
const (
	mostTrialLines  = 1000
	mostTrialFrames = 100
)

func (s *Server) errandTold(c *gin.Context, _ *floor.Floor, in wire.ErrandTold) {
	if t := in.Trial; t != nil {
		if len(t.Lines) > mostTrialLines || len(t.Frames) > mostTrialFrames || len(t.Notes) > mostTrialFrames {
			problem(c, http.StatusUnprocessableEntity, "trial", "a trial has fewer lines and frames")
			return
		}
	}
	wanted, err := s.svc.ErrandTold(c, nodeID(c), in)
	s.answer(c, wire.ErrandNoted{Wanted: wanted}, err)
}
