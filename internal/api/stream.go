package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"vexillum/internal/service/floor"
	"vexillum/internal/service/views"
	"vexillum/internal/wire"
)

const (
	streamQuiet    = 5 * time.Second  // between signs of life, by which a listener knows that the line holds
	streamLook     = 2 * time.Second  // between looks whether the listener may still hear it
	streamDeadline = 15 * time.Second // to write one event
)

// events streams every change as server-sent events. Each carries the number
// of the last committed change in it; a listener that comes back with
// Last-Event-ID, or after=N, gets what it has missed. The event "here" is a
// sign of life. With only=changed, fields that are as they were are left out.
func (s *Server) events(c *gin.Context) {
	after, ok := query(c, "after", 0, 0, 1<<62)
	if !ok {
		return
	}
	if last, err := strconv.ParseInt(c.GetHeader("Last-Event-ID"), 10, 64); err == nil && last > 0 {
		after = last
	}
	f, ok := s.floor(c)
	if !ok {
		return
	}
	switch c.Query("only") {
	case "":
		s.listen(c, f, after)
	case "changed":
		s.follow(c, f, after)
	default:
		problem(
			c, http.StatusUnprocessableEntity, "only",
			"only=changed sends only what changed; without it, runs and nodes that changed are sent whole",
		)
	}
}

// listen streams runs and nodes that changed, each whole.
func (s *Server) listen(c *gin.Context, f *floor.Floor, after int64) {
	listener, first, err := f.Views.Listen(c, after)
	if err != nil {
		s.fail(c, err)
		return
	}
	defer f.Views.Ignore(listener)
	encode := func(v wire.Change) (views.Piece, error) {
		data, err := json.Marshal(v)
		return views.Piece{Seq: v.Seq, Data: data}, err
	}
	begin, err := encode(first)
	if err != nil {
		s.fail(c, err)
		return
	}
	pass(s, c, begin, listener.Changes(), encode)
}

// follow streams what of runs and nodes changed.
func (s *Server) follow(c *gin.Context, f *floor.Floor, after int64) {
	follower, first, err := f.Views.Follow(c, after)
	if err != nil {
		s.fail(c, err)
		return
	}
	defer f.Views.Unfollow(follower)
	pass(s, c, first, follower.Pieces(), func(p views.Piece) (views.Piece, error) { return p, nil })
}

// pass hands on what a channel yields as events, until it is closed or nobody
// may hear it any more.
func pass[T any](s *Server, c *gin.Context, first views.Piece, all <-chan T, encode func(T) (views.Piece, error)) {
	send, ok := s.stream(c)
	if !ok {
		return
	}
	change := func(p views.Piece) bool {
		return send(fmt.Sprintf("event: change\nid: %d\ndata: %s\n\n", p.Seq, p.Data))
	}
	if !change(first) {
		return
	}
	quiet := time.NewTicker(streamQuiet)
	defer quiet.Stop()
	look := time.NewTicker(streamLook)
	defer look.Stop()
	mayHear := s.stillMay(c)
	for {
		select {
		case <-c.Request.Context().Done():
			return
		case <-look.C:
			if !mayHear() {
				return
			}
		case <-quiet.C:
			if !send("event: here\ndata: {}\n\n") {
				return
			}
		case v, open := <-all:
			if !open || !mayHear() {
				return
			}
			piece, err := encode(v)
			if err != nil {
				s.log.Error("event", "error", err)
				return
			}
			if !change(piece) {
				return
			}
		}
	}
}

// stream begins an answer of server-sent events and returns how to send one.
func (s *Server) stream(c *gin.Context) (send func(text string) bool, ok bool) {
	h := c.Writer.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Accel-Buffering", "no")
	c.Writer.WriteHeader(http.StatusOK)
	rc := http.NewResponseController(c.Writer)
	send = func(text string) bool {
		if err := rc.SetWriteDeadline(time.Now().Add(streamDeadline)); err != nil {
			return false
		}
		if _, err := c.Writer.WriteString(text); err != nil {
			return false
		}
		return rc.Flush() == nil
	}
	return send, send("retry: 1000\n\n")
}
