package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/gin-contrib/sse"
	"github.com/gin-gonic/gin"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/usage"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/logbook"
	"vexillum/internal/wire"
)

// spans are the whiles over which usage can be asked for.
var spans = map[string]struct {
	back, step time.Duration
}{
	"1h":  {usage.KeepFine, usage.Fine},
	"24h": {usage.KeepMinute, usage.Minute},
	"90d": {usage.KeepQuarter, usage.Quarter},
}

// sampleOf reads a sample within bounds.
func sampleOf(in wire.Sample) usage.Sample {
	bytes := func(v float64) float64 { return within(v, maxDisk) }
	out := usage.Sample{
		Processor: within(in.Processor, 1),
		Most:      within(in.Processor, 1), Memory: bytes(in.Memory), MemoryMost: bytes(in.Memory),
		Swap: bytes(in.Swap), DiskFree: bytes(in.DiskFree), DiskRead: bytes(in.DiskRead),
		DiskWritten: bytes(in.DiskWritten), Received: bytes(in.Received), Sent: bytes(in.Sent),
		Load: within(in.Load, maxLoad), Temperature: within(in.Temperature, maxDegrees),
	}
	for _, busy := range in.Groups[:min(len(in.Groups), usage.MostGroups)] {
		out.Groups = append(out.Groups, within(busy, 1))
	}
	for _, d := range in.Devices[:min(len(in.Devices), usage.MostDevices)] {
		out.Devices = append(
			out.Devices,
			usage.Device{
				ID: short(d.ID), Busy: within(d.Busy, 1), Memory: bytes(d.Memory),
				Temperature: within(d.Temperature, maxDegrees),
			},
		)
	}
	return out
}

// Limits of what machines measure of themselves.
const (
	maxLoad    = 1e6
	maxDegrees = 1000
)

// nodeUsage says what a node measured over the last hour, day or ninety days.
func (s *Server) nodeUsage(c *gin.Context) {
	id, ok := number(c, "node")
	if !ok {
		return
	}
	span, ok := spans[c.DefaultQuery("over", "1h")]
	if !ok {
		problem(c, http.StatusUnprocessableEntity, "over", "usage is kept over 1h, 24h and 90d")
		return
	}
	rows, err := s.svc.Store().Usage(c, id, span.step, time.Now().Add(-span.back))
	s.answer(c, usageView(rows, span.step), err)
}

// usageView turns samples into columns. Where some are missing, null stands in
// the columns once.
func usageView(rows []usage.Row, step time.Duration) wire.Usage {
	out := wire.Usage{
		StepSeconds: int(step / time.Second), At: []int64{}, Groups: [][]*float64{},
		Devices: []wire.DeviceUsage{},
	}
	whole := []*[]*float64{
		&out.Processor, &out.ProcessorMost, &out.Memory, &out.MemoryMost, &out.Swap, &out.DiskFree, &out.DiskRead,
		&out.DiskWritten, &out.Received, &out.Sent, &out.Load, &out.Temperature,
	}
	groups := 0
	number := map[string]int{}
	for _, r := range rows {
		groups = max(groups, len(r.Groups))
		for _, d := range r.Devices {
			if _, seen := number[d.ID]; !seen {
				number[d.ID] = len(out.Devices)
				out.Devices = append(out.Devices, wire.DeviceUsage{ID: d.ID})
			}
		}
	}
	out.Groups = make([][]*float64, groups)
	columns := whole
	for i := range out.Groups {
		columns = append(columns, &out.Groups[i])
	}
	for i := range out.Devices {
		columns = append(columns, &out.Devices[i].Busy, &out.Devices[i].Memory, &out.Devices[i].Temperature)
	}
	for _, col := range columns {
		*col = []*float64{}
	}
	line := func(at time.Time, values []float64) {
		out.At = append(out.At, at.Unix())
		for i, col := range columns {
			if i < len(values) && values[i] >= 0 {
				*col = append(*col, &values[i])
			} else {
				*col = append(*col, nil)
			}
		}
	}
	var last time.Time
	for _, r := range rows {
		if !last.IsZero() && r.At.Sub(last) > 3*step {
			line(last.Add(step), nil)
		}
		last = r.At
		values := make([]float64, len(columns))
		for i := range values {
			values[i] = usage.Unknown
		}
		copy(
			values,
			[]float64{
				r.Processor, r.Most, r.Memory, r.MemoryMost, r.Swap, r.DiskFree, r.DiskRead, r.DiskWritten, r.Received,
				r.Sent, r.Load, r.Temperature,
			},
		)
		copy(values[len(whole):], r.Groups)
		for _, d := range r.Devices {
			copy(values[len(whole)+groups+3*number[d.ID]:], []float64{d.Busy, d.Memory, d.Temperature})
		}
		line(r.At, values)
	}
	return out
}

// Limits of what a node says at once.
const (
	maxPieces    = 300
	maxSaidLines = 20_000
	maxSaidLine  = 20 << 10
)

// said takes what a node process and its renderers have said.
func (s *Server) said(c *gin.Context, _ *floor.Floor, in wire.Said) {
	if len(in.Pieces) > maxPieces {
		problem(c, http.StatusUnprocessableEntity, "pieces", fmt.Sprintf("at most %d pieces at once", maxPieces))
		return
	}
	var pieces []logbook.Piece
	lines := 0
	for _, p := range in.Pieces {
		if p.Lease < 0 || p.Run < 0 || p.Seq < 1 {
			problem(c, http.StatusUnprocessableEntity, "pieces", "lease and run cannot be below 0, seq not below 1")
			return
		}
		piece := logbook.Piece{Lease: p.Lease, Run: p.Run, Seq: p.Seq}
		for _, l := range p.Lines {
			if lines++; lines > maxSaidLines || len(l.Text) > maxSaidLine || l.Stream < 0 || l.Stream > 2 || l.At < 0 ||
				l.At > maxMillis {
				problem(
					c, http.StatusUnprocessableEntity, "lines",
					fmt.Sprintf(
						"at most %d lines at once, each of at most %d bytes, on stream 0, 1 or 2, said after 1970",
						maxSaidLines, maxSaidLine,
					),
				)
				return
			}
			piece.Lines = append(piece.Lines, logbook.Line{At: time.UnixMilli(l.At), Stream: l.Stream, Text: l.Text})
		}
		pieces = append(pieces, piece)
	}
	pieces, err := s.own(c, pieces)
	if err == nil {
		err = s.svc.Logbook().Take(c, int64(nodeID(c)), pieces, time.Now())
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// own returns the pieces that the node itself has said, or renderers of leases
// that it was given, each with the run of that lease. What is said of others'
// leases is dropped, and put on record.
func (s *Server) own(c *gin.Context, pieces []logbook.Piece) ([]logbook.Piece, error) {
	var leases []int64
	for _, p := range pieces {
		if p.Lease != 0 {
			leases = append(leases, p.Lease)
		}
	}
	if len(leases) == 0 {
		return pieces, nil
	}
	node := nodeID(c)
	runs, err := s.svc.Store().RunsOfLeases(c, int64(node), leases)
	if err != nil {
		return nil, err
	}
	out := pieces[:0]
	for _, p := range pieces {
		run, mine := runs[p.Lease]
		if p.Lease != 0 && !mine {
			s.svc.RefusedLog(c, node, farm.LeaseID(p.Lease))
			continue
		}
		p.Run = run
		out = append(out, p)
	}
	return out, nil
}

// maxMillis is the year 9999, beyond which times have no RFC 3339 form.
const maxMillis = 253_402_300_799_000

// logQuery reads which lines of a node are wanted.
func logQuery(c *gin.Context) (q logbook.Query, ok bool) {
	limit, ok := query(c, "limit", 500, 1, 5000)
	if !ok {
		return q, false
	}
	if q.Lease, ok = query(c, "lease", 0, 0, 1<<62); !ok {
		return q, false
	}
	if len(c.Query("search")) > maxLabel {
		problem(
			c, http.StatusUnprocessableEntity, "search", fmt.Sprintf("a search has at most %d characters", maxLabel),
		)
		return q, false
	}
	q.Limit, q.Search, q.NodeItself = int(limit), c.Query("search"), c.Query("of") == "node"
	if before := c.Query("before"); before != "" {
		at, err := time.Parse(time.RFC3339Nano, before)
		if err != nil {
			problem(c, http.StatusUnprocessableEntity, "before", "before is a time like 2031-03-04T05:06:07Z")
			return q, false
		}
		q.Before = at
	}
	return q, true
}

// seenLines returns the lines of a node that the asker sees: those of its own, and those that
// were said in runs that are not hidden.
func (s *Server) seenLines(c *gin.Context, lines []logbook.Line) ([]logbook.Line, error) {
	if s.sight(c).All() {
		return lines, nil
	}
	runs := make([]int64, len(lines))
	for i, l := range lines {
		runs[i] = l.Run
	}
	hidden, err := s.hidden(c, runs)
	if err != nil {
		return nil, err
	}
	var out []logbook.Line // others follow the same lines
	for _, l := range lines {
		if !hidden[l.Run] {
			out = append(out, l)
		}
	}
	texts := make([]*string, len(out))
	for i := range out {
		texts[i] = &out[i].Text
	}
	return out, s.veil(c, texts...)
}

func logLines(lines []logbook.Line) []wire.LogLine {
	out := make([]wire.LogLine, 0, len(lines))
	for _, l := range lines {
		out = append(
			out, wire.LogLine{At: l.At, Lease: l.Lease, Run: l.Run, Node: l.Node, Stream: l.Stream, Text: l.Text},
		)
	}
	return out
}

// nodeLog says what a node process and its renderers have said: the newest
// lines that are wanted, in order.
func (s *Server) nodeLog(c *gin.Context) {
	q, ok := logQuery(c)
	if !ok {
		return
	}
	if q.Node, ok = number(c, "node"); !ok {
		return
	}
	if q.Run, ok = query(c, "run", 0, 0, 1<<62); !ok {
		return
	}
	s.lines(c, q)
}

// runLog says what the renderers of a run have said; or, of a frame, those
// of the lease that tried it last.
func (s *Server) runLog(c *gin.Context) {
	q, ok := logQuery(c)
	if !ok {
		return
	}
	if q.Run, ok = number(c, "run"); !ok {
		return
	}
	if c.Query("frame") != "" {
		frame, ok := query(c, "frame", 0, -1<<31, 1<<31-1)
		if !ok {
			return
		}
		lease, at, err := s.svc.Store().LeaseOfFrame(c, q.Run, int(frame))
		if err != nil {
			s.fail(c, err)
			return
		}
		if lease == 0 {
			problem(
				c, http.StatusNotFound, "frame", fmt.Sprintf("frame %d of this run has not been rendered yet", frame),
			)
			return
		}
		q.Lease = lease
		if q.Before.IsZero() { // what was said until then is about this frame
			q.Before = at.Add(time.Second)
		}
	}
	s.lines(c, q)
}

func (s *Server) lines(c *gin.Context, q logbook.Query) {
	found, err := s.svc.Logbook().Lines(c, q)
	if errors.Is(err, logbook.ErrBusy) {
		c.Header("Retry-After", "5")
		problem(c, http.StatusServiceUnavailable, "search", err.Error())
		return
	}
	seen, hideErr := s.seenLines(c, found.Lines)
	if err == nil {
		err = hideErr
	}
	out := wire.NodeLog{Lines: logLines(seen), Older: found.Older}
	if found.Older {
		out.BackTo = &found.BackTo
	}
	s.answer(c, out, err)
}

// followLog streams what a node process and its renderers say from now on,
// as server-sent events.
func (s *Server) followLog(c *gin.Context) {
	q, ok := logQuery(c)
	if !ok {
		return
	}
	if q.Node, ok = number(c, "node"); !ok {
		return
	}
	if _, ok := s.floor(c); !ok {
		return
	}
	book := s.svc.Logbook()
	follower := book.Follow(q.Node, q.Lease, q.NodeItself)
	defer book.Ignore(follower)
	send, ok := s.stream(c)
	if !ok {
		return
	}
	passOn(c, s.stillMay(c), follower.Lines(), func(lines []logbook.Line) bool {
		lines, err := s.seenLines(c, lines)
		if err != nil || len(lines) == 0 {
			return err == nil
		}
		data, err := json.Marshal(logLines(lines))
		return err == nil && send(sse.Event{Event: "lines", Data: string(data)})
	}, func() bool { // one who stands by now hears nothing
		_, err := s.svc.Floor()
		return err == nil && send(signOfLife)
	})
}
