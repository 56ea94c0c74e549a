package api

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"

	"github.com/gin-gonic/gin"

	"vexillum/internal/bundle"
	"vexillum/internal/service/floor"
	"vexillum/internal/wire"
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
	v, err := s.svc.PutBundle(c, c.Param("project"), data)
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
	s.done(c, s.svc.PutPiece(c.Param("project"), c.Param("bundle"), c.Param("content"), piece, data))
}

// bundle shows a manifest.
func (s *Server) bundle(c *gin.Context) {
	m, err := s.svc.Bundle(c.Param("project"), c.Param("bundle"))
	s.answerManifest(c, m, err)
}

// nodeBundle shows a node the manifest of a bundle that it has a use for.
func (s *Server) nodeBundle(c *gin.Context) {
	m, err := s.svc.BundleForNode(c, nodeID(c), c.Param("bundle"))
	s.answerManifest(c, m, err)
}

func (s *Server) answerManifest(c *gin.Context, m *bundle.Manifest, err error) {
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
	data, err := s.svc.Piece(c, nodeID(c), c.Param("bundle"), c.Param("content"), piece)
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

// mostShunned bounds the nodes that one names which it leaves alone.
const mostShunned = 1000

// holding notes what a node has of a bundle, and tells it where the rest is to be had.
func (s *Server) holding(c *gin.Context, _ *floor.Floor, in wire.Holding) {
	switch {
	case in.Pieces < 0 || in.Pieces > len(in.Have)*8 || len(in.Shun) > mostShunned:
		problem(c, http.StatusUnprocessableEntity, "have", "the bits are not those of that many pieces")
		return
	case in.Port < 0 || in.Port > 65535:
		problem(c, http.StatusUnprocessableEntity, "port", "a port is 1 to 65535, or 0 for none")
		return
	}
	host, _, err := net.SplitHostPort(c.Request.RemoteAddr)
	if err != nil {
		host = c.ClientIP()
	}
	have, err := bundle.Unpacked(in.Have, in.Pieces)
	if err != nil {
		problem(c, http.StatusUnprocessableEntity, "have", err.Error())
		return
	}
	seeds, peers, err := s.svc.Share(
		c, nodeID(c), in.Session, in.Bundle, host, in.Port, bundle.Standing{Have: have, Want: in.Want, Shun: in.Shun},
	)
	out := wire.Sharing{Seeds: append([]int{}, seeds...), Peers: []wire.SharingPeer{}}
	for _, p := range peers {
		out.Peers = append(
			out.Peers,
			wire.SharingPeer{Name: p.Name, Address: p.Address, Permit: p.Permit, Have: bundle.Packed(p.Have)},
		)
	}
	s.answer(c, out, err)
}
