package api

import (
	"errors"
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"

	"vexillum/internal/core/farm"
	"vexillum/internal/publish"
	"vexillum/internal/service"
	"vexillum/internal/wire"
)

// maxPiece bounds one piece of a frame in bytes.
const maxPiece = 16 << 20

// anUpload reads which frame is meant.
func (s *Server) anUpload(c *gin.Context) (service.Upload, bool) {
	lease, ok := number(c, "lease")
	if !ok {
		return service.Upload{}, false
	}
	frame, ok := frameNumber(c)
	if !ok {
		return service.Upload{}, false
	}
	hash := c.Query("hash")
	if !fileHash.MatchString(hash) {
		problem(c, http.StatusUnprocessableEntity, "hash", "a frame is sent with its SHA-256 in hexadecimal")
		return service.Upload{}, false
	}
	return service.Upload{
		Node: nodeID(c), Lease: farm.LeaseID(lease), Frame: frame, Hash: hash, Pass: c.Query("pass"),
	}, true
}

func (s *Server) uploaded(c *gin.Context) {
	u, ok := s.anUpload(c)
	if !ok {
		return
	}
	state, err := s.svc.Uploaded(c, u)
	s.answerUpload(c, u, state, err)
}

func (s *Server) upload(c *gin.Context) {
	u, ok := s.anUpload(c)
	if !ok {
		return
	}
	offset, ok := query(c, "offset", 0, 0, 1<<50)
	if !ok {
		return
	}
	state, err := s.svc.Upload(c, u, offset, http.MaxBytesReader(c.Writer, c.Request.Body, maxPiece))
	s.answerUpload(c, u, state, err)
}

func (s *Server) answerUpload(c *gin.Context, u service.Upload, state service.UploadState, err error) {
	var at *publish.OffsetError
	var large *http.MaxBytesError
	switch {
	case err == nil, errors.As(err, &at): // the sender goes on where it says
		out := wire.Uploaded{Have: state.Have}
		if at := state.Standing; at.Hash != "" {
			out.Standing = &wire.Standing{Hash: at.Hash, Bytes: at.Bytes}
			for _, f := range at.Files {
				out.Standing.Files = append(out.Standing.Files, wire.File(f))
			}
		}
		c.JSON(http.StatusOK, out)
	case errors.As(err, &large):
		problem(c, http.StatusRequestEntityTooLarge, "", fmt.Sprintf("a piece has at most %d bytes", maxPiece))
	case errors.Is(err, publish.ErrNoPlace):
		problem(c, http.StatusConflict, "place", "the service does not see it either; mount it or correct the place")
	case errors.Is(err, publish.ErrForeign):
		problem(c, http.StatusConflict, "target", err.Error())
	case errors.Is(err, publish.ErrHash):
		s.svc.Refused(c, u.Node, "upload", fmt.Sprintf("frame %d of lease %d: %v", u.Frame, u.Lease, err))
		problem(c, http.StatusUnprocessableEntity, "hash", err.Error())
	default:
		s.fail(c, err)
	}
}
