package api

import (
	"net/http"
	"strconv"
	"time"

	"github.com/gin-contrib/sse"
	"github.com/gin-gonic/gin"

	"vexillum/internal/service/views"
	"vexillum/internal/wire"
)

const (
	streamQuiet    = 5 * time.Second  // between signs of life, by which a listener knows that the line holds
	streamLook     = 2 * time.Second  // between looks whether the listener may still hear it
	streamDeadline = 15 * time.Second // to write one event
)

// events streams what changes as server-sent events; their names and what they
// hold are told in package wire. The last event of those that belong together has
// the number of the last committed change as its id: a listener that comes back
// with it as Last-Event-ID, or after=N, goes on from there.
func (s *Server) events(c *gin.Context) {
	after, ok := query(c, "after", 0, 0, 1<<62)
	if !ok {
		return
	}
	if last, err := strconv.ParseInt(c.GetHeader("Last-Event-ID"), 10, 64); err == nil && last > 0 {
		after = last
	}
	told := eventsOf
	switch of := c.Query("of"); of {
	case "", "all":
	case "farm":
		told = farmEventsOf
	default:
		problem(c, http.StatusUnprocessableEntity, "of", "of must be all or farm")
		return
	}
	f, ok := s.floor(c)
	if !ok {
		return
	}
	follower, first, err := f.Views.Follow(c, after, s.sight(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	defer f.Views.Unfollow(follower)
	send, ok := s.stream(c)
	if !ok || !send(told(first)...) {
		return
	}
	passOn(c, s.stillMay(c), follower.Pieces(), func(piece views.Piece) bool {
		events := told(piece)
		return len(events) == 0 || send(events...)
	}, func() bool { return send(signOfLife) })
	if f, err := s.svc.Floor(); err == nil && s.seesOther(c, f) {
		send(sse.Event{Event: wire.EventAnew, Data: "{}"})
	}
}

// passOn hands on what comes until nothing more does, the listener is gone or may
// not hear it any more. While nothing comes it gives signs of life.
func passOn[T any](c *gin.Context, mayHear func() bool, items <-chan T, send func(T) bool, life func() bool) {
	quiet := time.NewTicker(streamQuiet)
	defer quiet.Stop()
	look := time.NewTicker(streamLook)
	defer look.Stop()
	for {
		select {
		case <-c.Request.Context().Done():
			return
		case <-look.C:
			if !mayHear() {
				return
			}
		case <-quiet.C:
			if !life() {
				return
			}
		case item, open := <-items:
			if !open || !mayHear() || !send(item) {
				return
			}
		}
	}
}

// signOfLife lets a listener know that the line holds.
var signOfLife = sse.Event{Event: wire.EventHere, Data: "{}"}

// eventsOf returns a piece as it is sent. Only the last event has an id, so that
// no other is missed when the line is cut between them.
func eventsOf(p views.Piece) []sse.Event {
	var out []sse.Event
	for _, e := range p.Events {
		out = append(out, sse.Event{Event: e.Name, Data: string(e.Data)})
	}
	out[len(out)-1].Id = strconv.FormatInt(p.Seq, 10)
	return out
}

// farmEventsOf returns the events of a piece that concern the farm as a whole, for pages that show no
// more. They have no id: who has only heard these still lacks the others of the piece.
func farmEventsOf(p views.Piece) (out []sse.Event) {
	for _, e := range p.Events {
		if e.Name == wire.EventFacts || e.Name == wire.EventAlerts || e.Name == wire.EventAnew {
			out = append(out, sse.Event{Event: e.Name, Data: string(e.Data)})
		}
	}
	return out
}

// stream begins an answer of server-sent events and returns how to send some.
func (s *Server) stream(c *gin.Context) (send func(events ...sse.Event) bool, ok bool) {
	h := c.Writer.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Accel-Buffering", "no")
	c.Writer.WriteHeader(http.StatusOK)
	rc := http.NewResponseController(c.Writer)
	send = func(events ...sse.Event) bool {
		if err := rc.SetWriteDeadline(time.Now().Add(streamDeadline)); err != nil {
			return false
		}
		for _, e := range events {
			if err := sse.Encode(c.Writer, e); err != nil {
				return false
			}
		}
		return rc.Flush() == nil
	}
	return send, send(sse.Event{Event: wire.EventHere, Retry: 1000, Data: "{}"})
}
