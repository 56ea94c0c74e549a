package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

func (s *Server) checkpoint(c *gin.Context) {
	lease, ok := number(c, "lease")
	if !ok {
		return
	}
	before, ok := query(c, "before", 0, frames.Least, frames.Most)
	if !ok {
		return
	}
	found, err := s.svc.Checkpoint(c, nodeID(c), farm.LeaseID(lease), int(before))
	s.answer(c, found, err)
}

func (s *Server) checkpointFile(c *gin.Context) {
	lease, ok := number(c, "lease")
	if !ok {
		return
	}
	frame, ok := number(c, "frame")
	if !ok {
		return
	}
	file, err := s.svc.OpenCheckpoint(c, nodeID(c), farm.LeaseID(lease), int(frame))
	if err != nil {
		s.fail(c, err)
		return
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		s.fail(c, err)
		return
	}
	timed(c.Writer, c.Request, uploadPatience)
	http.ServeContent(c.Writer, c.Request, "", info.ModTime(), file)
}
