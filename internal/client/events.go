package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/tmaxmax/go-sse"

	"vexillum/internal/wire"
)

// Farm is the farm as the events of a service have told it so far.
type Farm struct {
	Seq   int64
	Facts wire.FarmFacts
	Hands []wire.NeedHand // all that wants a person
	Runs  map[int64]wire.Run
	Nodes map[int64]wire.Node

	facts       fields
	runs, nodes map[int64]fields
}

// Event says what a service has just told.
type Event struct {
	Name        string            // one of the names in package wire
	Runs, Nodes []int64           // that are not as they were
	Frames      []wire.FrameEvent // to which something happened
}

// fields are the fields of something as JSON.
type fields map[string]json.RawMessage

// Events hands every event to use, from the given sequence number on, with the
// farm as it is then, and comes back after a cut line until the context ends or
// use returns an error, which it returns. lost, if not nil, is told when the line
// is lost.
func (c *Client) Events(ctx context.Context, after int64, use func(*Farm, Event) error, lost func(error)) error {
	farm := NewFarm()
	path := func() string { return fmt.Sprintf("/api/v1/events?after=%d", after) }
	return follow(ctx, c, path, func(e sse.Event) error {
		if e.Type == wire.EventAnew {
			*farm, after = *NewFarm(), 0
			return use(farm, Event{Name: e.Type})
		}
		told, err := farm.Take(e.Type, []byte(e.Data))
		if err != nil {
			return fmt.Errorf("reading an event: %w", err)
		}
		if id, err := strconv.ParseInt(e.LastEventID, 10, 64); err == nil {
			after = id
		}
		return use(farm, told)
	}, lost)
}

// NewFarm returns a farm of which nothing was told.
func NewFarm() *Farm {
	return &Farm{
		Runs: map[int64]wire.Run{}, Nodes: map[int64]wire.Node{}, facts: fields{}, runs: map[int64]fields{},
		nodes: map[int64]fields{},
	}
}

// Take puts what an event reports into the farm.
func (f *Farm) Take(name string, text []byte) (Event, error) {
	var data wire.EventData
	if err := json.Unmarshal(text, &data); err != nil {
		return Event{}, err
	}
	f.Seq = max(f.Seq, data.Seq)
	out := Event{Name: name, Frames: data.Frames}
	var err error
	switch name {
	case wire.EventFacts:
		if err := f.facts.merge(data.Facts); err != nil {
			return out, err
		}
		f.Facts, err = decode[wire.FarmFacts](f.facts)
	case wire.EventAlerts:
		f.Hands = data.Hands
	case wire.EventRunAdded, wire.EventRunChanged, wire.EventRunProgress:
		out.Runs, err = merge(f.runs, f.Runs, data.Runs)
	case wire.EventNodeAdded, wire.EventNodeChanged, wire.EventNodeProgress:
		out.Nodes, err = merge(f.nodes, f.Nodes, data.Nodes)
	}
	return out, err
}

// merge puts fields that changed into things, and returns which things those are.
func merge[T any](all map[int64]fields, things map[int64]T, changed []json.RawMessage) (ids []int64, err error) {
	for _, patch := range changed {
		var of struct {
			ID int64 `json:"id"`
		}
		if err := json.Unmarshal(patch, &of); err != nil {
			return nil, err
		}
		if all[of.ID] == nil {
			all[of.ID] = fields{}
		}
		if err := all[of.ID].merge(patch); err != nil {
			return nil, err
		}
		if things[of.ID], err = decode[T](all[of.ID]); err != nil {
			return nil, err
		}
		ids = append(ids, of.ID)
	}
	return ids, nil
}

func (f fields) merge(patch json.RawMessage) error {
	var changed fields
	if err := json.Unmarshal(patch, &changed); err != nil {
		return err
	}
	for name, value := range changed {
		if f[name] == nil || !wire.InParts(name) {
			f[name] = value
			continue
		}
		part := fields{}
		if err := json.Unmarshal(f[name], &part); err != nil {
			return err
		}
		if err := part.merge(value); err != nil {
			return err
		}
		whole, err := json.Marshal(part)
		if err != nil {
			return err
		}
		f[name] = whole
	}
	return nil
}

func decode[T any](f fields) (out T, err error) {
	data, err := json.Marshal(f)
	if err != nil {
		return out, err
	}
	return out, json.Unmarshal(data, &out)
}

// Said hands every line that a node says from now on to use, in the way of
// Events. What is said while the line is lost is not told. query, such as
// lease=7, says which lines are wanted.
func (c *Client) Said(
	ctx context.Context, node int64, query string, use func([]wire.LogLine) error, lost func(error),
) error {
	path := func() string { return fmt.Sprintf("/api/v1/nodes/%d/log/live?%s", node, query) }
	return follow(ctx, c, path, func(e sse.Event) error {
		var lines []wire.LogLine
		if err := json.Unmarshal([]byte(e.Data), &lines); err != nil {
			return fmt.Errorf("reading an event: %w", err)
		}
		return use(lines)
	}, lost)
}

// follow reads server-sent events, and comes back after a cut line.
func follow(ctx context.Context, c *Client, path func() string, use func(sse.Event) error, lost func(error)) error {
	for {
		var stop error
		err := stream(ctx, c, path(), func(e sse.Event) error {
			stop = use(e)
			return stop
		})
		var p *wire.Problem
		switch {
		case stop != nil:
			return stop
		case ctx.Err() != nil:
			return ctx.Err()
		case errors.As(err, &p) && p.Status != http.StatusServiceUnavailable:
			return err
		}
		if lost != nil {
			lost(err)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

// streamQuiet is for how long a stream may say nothing: the service gives a
// sign of life every 5 s.
const streamQuiet = 13 * time.Second

// mostEvent bounds one event: the first has all runs and nodes of a farm.
const mostEvent = 64 << 20

func stream(ctx context.Context, c *Client, path string, use func(sse.Event) error) error {
	resp, err := c.request(ctx, http.MethodGet, path, "", nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	quiet := time.AfterFunc(streamQuiet, func() { _ = resp.Body.Close() })
	defer quiet.Stop()
	cut := io.ErrUnexpectedEOF
	for e, err := range sse.Read(resp.Body, &sse.ReadConfig{MaxEventSize: mostEvent}) {
		if err != nil {
			cut = err
			break
		}
		quiet.Reset(streamQuiet)
		if e.Type == wire.EventHere {
			continue
		}
		if err := use(e); err != nil {
			return err
		}
	}
	c.GoOn()
	return &UnreachableError{Address: c.Address(), Err: cut}
}
