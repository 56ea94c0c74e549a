package api

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"

	"github.com/gin-gonic/gin"

	"vexillum/internal/service/floor"
	"vexillum/internal/wire"
)

func (s *Server) channels(c *gin.Context, f *floor.Floor) {
	v, err := f.Notices.Channels(c, person(c))
	s.answer(c, v, err)
}

func (s *Server) setChannel(c *gin.Context, f *floor.Floor, in wire.ChannelSet) {
	v, err := f.Notices.Set(c, c.Param("channel"), in, match(c), person(c))
	s.changed(c, v, v.Etag, err)
}

func (s *Server) dropChannel(c *gin.Context, f *floor.Floor) {
	if err := f.Notices.Drop(c, c.Param("channel"), person(c)); err != nil {
		s.answer(c, nil, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// tryChannel sends a notice that says that it is a trial.
func (s *Server) tryChannel(c *gin.Context, f *floor.Floor) {
	if err := f.Notices.Try(c, c.Param("channel"), person(c)); err != nil {
		s.answer(c, nil, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// notices returns notices and what became of them, newest first.
func (s *Server) notices(c *gin.Context, f *floor.Floor) {
	before, ok := query(c, "before", 0, 0, 1<<62)
	if !ok {
		return
	}
	limit, ok := query(c, "limit", 50, 1, 500)
	if !ok {
		return
	}
	v, err := f.Notices.Sent(c, c.Query("channel"), before, int(limit), person(c))
	s.answer(c, v, err)
}

// noticeAgain sends a notice once more.
func (s *Server) noticeAgain(c *gin.Context, f *floor.Floor) {
	id, ok := number(c, "notice")
	if !ok {
		return
	}
	if err := f.Notices.Again(c, id, person(c)); err != nil {
		s.answer(c, nil, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func (s *Server) onCall(c *gin.Context, f *floor.Floor) {
	v, err := f.Notices.OnCall(c)
	s.answer(c, v, err)
}

// onCallCalendar returns the calendar itself.
func (s *Server) onCallCalendar(c *gin.Context, f *floor.Floor) {
	v, err := f.Notices.OnCall(c)
	switch {
	case err != nil:
		s.answer(c, nil, err)
	case v.Calendar == "":
		problem(c, http.StatusNotFound, "", "there is no calendar of who is on call")
	default:
		c.Data(http.StatusOK, "text/calendar; charset=utf-8", []byte(v.Calendar))
	}
}

func (s *Server) setOnCall(c *gin.Context, f *floor.Floor) {
	text, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, maxList))
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		problem(c, http.StatusRequestEntityTooLarge, "", fmt.Sprintf("a calendar has at most %d bytes", maxList))
		return
	}
	if err != nil || len(bytes.TrimSpace(text)) == 0 {
		problem(c, http.StatusUnprocessableEntity, "calendar", "there is no calendar in it. Nothing was changed")
		return
	}
	v, err := f.Notices.SetOnCall(c, string(text), person(c))
	s.answer(c, v, err)
}

func (s *Server) dropOnCall(c *gin.Context, f *floor.Floor) {
	if _, err := f.Notices.SetOnCall(c, "", person(c)); err != nil {
		s.answer(c, nil, err)
		return
	}
	c.Status(http.StatusNoContent)
}
