package api

import (
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/floor"
	"vexillum/internal/wire"
)

func (s *Server) actOnNodes(c *gin.Context, f *floor.Floor, in wire.NodeAct) {
	v, err := f.Fleet.Act(c, in, person(c))
	s.answer(c, v, err)
}

func (s *Server) changeNodes(c *gin.Context, f *floor.Floor, in wire.NodeChange) {
	v, err := f.Fleet.Change(c, in, person(c))
	s.answer(c, v, err)
}

func (s *Server) pickNodes(c *gin.Context, f *floor.Floor) {
	v, err := f.Fleet.Picked(c, c.Query("where"))
	s.answer(c, v, err)
}

func (s *Server) renameNode(c *gin.Context, f *floor.Floor, in wire.NewName) {
	id, ok := number(c, "node")
	if !ok {
		return
	}
	v, err := f.Fleet.Rename(c, farm.NodeID(id), in.Name, person(c))
	s.answer(c, v, err)
}

// nodeVersions lists the settings that a node ever had, newest first.
func (s *Server) nodeVersions(c *gin.Context) {
	id, ok := number(c, "node")
	if !ok {
		return
	}
	rows, err := s.svc.Store().NodeVersions(c, id)
	out := make([]wire.NodeVersion, 0, len(rows))
	for _, r := range rows {
		out = append(out, wire.NodeVersion{Version: r.Version, Actor: r.Actor, Reason: r.Reason, At: r.At})
	}
	s.answer(c, out, err)
}

// nodeHistory says what became of a node, newest first.
func (s *Server) nodeHistory(c *gin.Context) {
	id, ok := number(c, "node")
	if !ok {
		return
	}
	limit, ok := query(c, "limit", 50, 1, 1000)
	if !ok {
		return
	}
	events, err := s.svc.Store().NodeLog(c, id, int(limit))
	out := make([]wire.HistoryLine, 0, len(events))
	var reasons []*string
	for i, e := range events {
		out = append(out, wire.HistoryLine{Seq: e.Seq, At: e.At, Kind: e.Kind, Reason: e.Reason, Moved: e.Moved})
		reasons = append(reasons, &out[i].Reason)
	}
	if err == nil {
		err = s.veil(c, reasons...)
	}
	s.answer(c, out, err)
}

func (s *Server) pools(c *gin.Context, f *floor.Floor) {
	v, err := f.Setup.Pools(c)
	for i := range v {
		v[i].Projects = slices.DeleteFunc(v[i].Projects, func(name string) bool { return !s.sight(c).Sees(name) })
	}
	s.answer(c, v, err)
}

func (s *Server) setPool(c *gin.Context, f *floor.Floor, in wire.NewPool) {
	v, err := f.Setup.SetPool(c, c.Param("pool"), in, person(c))
	s.answer(c, v, err)
}

func (s *Server) dropPool(c *gin.Context, f *floor.Floor) {
	s.done(c, f.Setup.DropPool(c, c.Param("pool"), person(c)))
}

func (s *Server) dropProject(c *gin.Context, f *floor.Floor) {
	s.done(c, f.Setup.DropProject(c, c.Param("project"), person(c).Name))
}

func (s *Server) dropPlace(c *gin.Context, f *floor.Floor) {
	s.done(c, f.Setup.DropPlace(c, c.Param("place"), person(c).Name))
}

func (s *Server) dropLaunchSettings(c *gin.Context, f *floor.Floor) {
	s.done(c, f.Setup.DropLaunchSettings(c, c.Query("project"), c.Query("recipe"), person(c)))
}

// done answers an act that has nothing to tell but that it is done.
func (s *Server) done(c *gin.Context, err error) {
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func (s *Server) testNodes(c *gin.Context, _ *floor.Floor, in wire.Selection) {
	v, err := s.svc.Test(c, in, person(c))
	s.answer(c, v, err)
}

func (s *Server) undoNodes(c *gin.Context, f *floor.Floor, in wire.NodeUndo) {
	v, err := f.Fleet.Undo(c, in, person(c))
	s.answer(c, v, err)
}

func (s *Server) probeNodes(c *gin.Context, _ *floor.Floor, in wire.Selection) {
	v, err := s.svc.Probe(c, in)
	s.answer(c, v, err)
}

func (s *Server) nodeTests(c *gin.Context) {
	id, ok := number(c, "node")
	if !ok {
		return
	}
	v, err := s.svc.Tests(c, farm.NodeID(id))
	s.answer(c, v, err)
}

func (s *Server) stays(c *gin.Context, f *floor.Floor) {
	v, err := f.Queue.Stays(c)
	s.answer(c, v, err)
}

func (s *Server) setStay(c *gin.Context, f *floor.Floor, in wire.Stay) {
	v, err := f.Queue.SetStay(c, in, person(c))
	s.answer(c, v, err)
}

func (s *Server) launchSettings(c *gin.Context, f *floor.Floor) {
	v, err := f.Setup.LaunchSettings(c)
	v = slices.DeleteFunc(v, func(l wire.LaunchSettings) bool { return !s.sight(c).Sees(l.Project) })
	s.answer(c, v, err)
}

func (s *Server) setLaunchSettings(c *gin.Context, f *floor.Floor, in wire.LaunchSettingsChange) {
	v, err := f.Setup.SetLaunchSettings(c, in, match(c), person(c))
	s.changed(c, v, v.Etag, err)
}

func (s *Server) revokeKey(c *gin.Context, f *floor.Floor) {
	s.done(c, f.People.RevokeKey(c, c.Param("key"), person(c)))
}
