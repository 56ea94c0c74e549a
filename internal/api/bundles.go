package api

import (
	"errors"
	"fmt"
	"io"
	"net/http"

	"github.com/gin-gonic/gin"

	"vexillum/internal/bundle"
)

// read reads a body of bytes up to a bound, and answers with a problem if it cannot.
func read(c *gin.Context, most int64, what string) ([]byte, bool) {
	data, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, most))
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		problem(c, http.StatusRequestEntityTooLarge, "", fmt.Sprintf("%s has at most %d bytes", what, most))
	case err != nil:
		problem(c, http.StatusBadRequest, "", "the body could not be read to its end; send it again")
	default:
		return data, true
	}
	return nil, false
}

// putBundle takes in the manifest of a bundle.
func (s *Server) putBundle(c *gin.Context) {
	data, ok := read(c, bundle.MostManifest, "a manifest")
	if !ok {
		return
	}
	v, err := s.svc.PutBundle(data)
	s.answer(c, v, err)
}

// putPiece takes in a piece of a content.
func (s *Server) putPiece(c *gin.Context) {
	piece, ok := index(c, "piece")
	if !ok {
		return
	}
	data, ok := read(c, bundle.MostPiece, "a piece")
	if !ok {
		return
	}
	s.done(c, s.svc.PutPiece(c.Param("bundle"), c.Param("content"), piece, data))
}

// bundle shows a manifest.
func (s *Server) bundle(c *gin.Context) {
	m, err := s.svc.Bundle(c.Param("bundle"))
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Data(http.StatusOK, "application/json", m.Encode())
}

// piece gives a node a piece of a content.
func (s *Server) piece(c *gin.Context) {
	piece, ok := index(c, "piece")
	if !ok {
		return
	}
	data, err := s.svc.Piece(c.Param("bundle"), c.Param("content"), piece)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Data(http.StatusOK, "application/octet-stream", data)
}

// index reads a number in the path that is counted from 0.
func index(c *gin.Context, name string) (int, bool) {
	var n int
	if _, err := fmt.Sscanf(c.Param(name), "%d", &n); err != nil || n < 0 || fmt.Sprint(n) != c.Param(name) {
		problem(c, http.StatusNotFound, name, fmt.Sprintf("%q is not the number of a %s", c.Param(name), name))
		return 0, false
	}
	return n, true
}
