package service

import (
	"context"
	"slices"
	"sync"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// Bounds of probing nodes.
const (
	mostProbedNodes = 200              // in one request
	probesAtOnce    = 32               // nodes that are waited for at once
	probeAnswers    = 60 * time.Second // for all recipes of a node
)

// Probe lets nodes look for the renderers of all recipes again, and returns what they found. That
// a node does not answer is in its row.
func (s *Service) Probe(ctx context.Context, sel wire.Selection) ([]wire.NodeProbe, error) {
	f, err := s.Floor()
	if err != nil {
		return nil, err
	}
	nodes, err := f.Fleet.Chosen(ctx, sel)
	if err != nil {
		return nil, err
	}
	if len(nodes) > mostProbedNodes {
		return nil, refusal.New(
			refusal.Invalid, "nodes", "at most %d nodes can be probed at once, not %d; name fewer", mostProbedNodes,
			len(nodes),
		)
	}
	ctx, cancel := context.WithTimeout(ctx, probeAnswers)
	defer cancel()
	out, slots := make([]wire.NodeProbe, len(nodes)), make(chan struct{}, probesAtOnce)
	var asked sync.WaitGroup
	for i, n := range nodes {
		asked.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			out[i] = s.probeNode(ctx, n)
		})
	}
	asked.Wait()
	return out, nil
}

// probeNode lets one node look for renderers.
func (s *Service) probeNode(ctx context.Context, n wire.Node) wire.NodeProbe {
	out := wire.NodeProbe{Node: n.ID, Name: n.Name, Renderers: []wire.Renderer{}}
	if n.Reach != string(farm.Online) {
		out.Error = "it is " + n.Reach + "; start its node process"
		return out
	}
	told, err := s.errand(ctx, farm.NodeID(n.ID), n.Name, wire.Errand{Probe: &wire.ProbeTask{}}, nil)
	switch {
	case err != nil && ctx.Err() != nil:
		out.Error = "it did not answer within " + probeAnswers.String()
	case err != nil:
		out.Error = err.Error()
	case told.Error != "":
		out.Error = told.Error
	case told.Probed != nil:
		out.Renderers = slices.Clone(told.Probed.Renderers)
	}
	return out
}
