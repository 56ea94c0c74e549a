package api

import (
	"maps"
	"net/http"
	"slices"
	"time"

	"github.com/gin-gonic/gin"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/timeline"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/views"
	"vexillum/internal/store"
	"vexillum/internal/wire"
)

// nodeTimeline says what a node did over the last hour, day or week.
func (s *Server) nodeTimeline(c *gin.Context, f *floor.Floor) {
	id, ok := number(c, "node")
	if !ok {
		return
	}
	over, ok := map[string]time.Duration{"1h": time.Hour, "24h": 24 * time.Hour, "7d": 7 * 24 * time.Hour}[c.DefaultQuery("over", "24h")]
	if !ok {
		problem(c, http.StatusUnprocessableEntity, "over", "a timeline is drawn over 1h, 24h or 7d")
		return
	}
	node, err := f.Views.Node(c, farm.NodeID(id), s.sight(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	out := wire.Timeline{To: time.Now(), Spans: []wire.TimelineSpan{}}
	out.From = out.To.Add(-over)
	rows, err := s.svc.Store().NodeTimeline(c, id, out.From)
	if err != nil {
		s.fail(c, err)
		return
	}
	spans := timeline.Spans(append(before(node, rows, out.From), happened(rows)...), out.From, over/200)
	var runs []int64
	for _, sp := range spans {
		runs = append(runs, sp.Run)
	}
	names, err := s.svc.Store().RunNames(c, runs)
	if err != nil {
		s.fail(c, err)
		return
	}
	hidden, err := s.hidden(c, runs)
	if err != nil {
		s.fail(c, err)
		return
	}
	for _, sp := range spans {
		if sp.To.IsZero() {
			sp.To = out.To
		}
		if hidden[sp.Run] {
			sp.Run, sp.Why = 0, ""
			names[0] = views.Another
		}
		span := wire.TimelineSpan{
			From: sp.From, To: sp.To, Lane: sp.Lane, Run: sp.Run, Leases: sp.Leases, Is: sp.Is, Why: sp.Why,
		}
		if sp.Is == "" {
			span.RunName = names[sp.Run]
		}
		out.Spans = append(out.Spans, span)
	}
	s.answer(c, out, err)
}

// aside are the values of a node's states in which it does not work.
var aside = map[string]string{
	string(farm.Silent): "silent", string(farm.Away): "away", string(farm.OffDuty): "off duty",
	string(farm.Held): "held", string(farm.Draining): "draining", string(farm.Sidelined): "sidelined",
}

func happened(rows []store.Stretch) []timeline.Event {
	kinds := map[string]timeline.Kind{"lease opened": timeline.Opened, "lease ended": timeline.Ended}
	var out []timeline.Event
	for _, r := range rows {
		e := timeline.Event{At: r.At, Kind: kinds[r.Kind], Run: r.Run, Why: r.Reason}
		if e.Kind == 0 {
			e.Kind, e.Of, e.Is = timeline.State, r.Kind, aside[r.Is]
		}
		out = append(out, e)
	}
	return out
}

// before says what lasted already when the while began: what the node is in
// now and no event of the while has brought.
func before(node wire.Node, rows []store.Stretch, since time.Time) []timeline.Event {
	seen := map[string]bool{}
	first := map[int64]int{} // leases of a run that were open then
	for _, w := range node.Works {
		first[w.Run]++
	}
	for _, r := range rows {
		seen[r.Kind] = true
		switch r.Kind {
		case "lease opened":
			first[r.Run]--
		case "lease ended":
			first[r.Run]++
		}
	}
	var out []timeline.Event
	for kind, state := range map[string]string{"node reach": node.Reach, "node duty": node.Duty, "node health": node.Health} {
		if is := aside[state]; is != "" && !seen[kind] && node.EnrolledAt != nil {
			out = append(out, timeline.Event{At: since, Kind: timeline.State, Of: kind, Is: is, Why: node.Why})
		}
	}
	for _, run := range slices.Sorted(maps.Keys(first)) {
		for range max(0, first[run]) {
			out = append(out, timeline.Event{At: since, Kind: timeline.Opened, Run: run})
		}
	}
	return out
}
