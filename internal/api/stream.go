package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

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
// sign of life.
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
	listener, first, err := f.Listen(c, after)
	if err != nil {
		s.fail(c, err)
		return
	}
	defer f.Ignore(listener)
	send, ok := s.stream(c)
	if !ok {
		return
	}
	change := func(v wire.Change) bool {
		data, err := json.Marshal(v)
		if err != nil {
			s.log.Error("event", "error", err)
			return false
		}
		return send(fmt.Sprintf("event: change\nid: %d\ndata: %s\n\n", v.Seq, data))
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
		case v, open := <-listener.Changes():
			if !open || !mayHear() || !change(v) {
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
