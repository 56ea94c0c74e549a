package views

import (
	"cmp"
	"context"
	"slices"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/triage"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// TroubleQuery says which failed tries are wanted; what is empty does not matter.
type TroubleQuery struct {
	By    string // cause, node, recipe or run; cause when empty
	Cause string
	Node  string // by name
	Run   farm.RunID
	Since time.Time
}

// Trouble returns what has failed on the farm and was not asked to be tried again, put
// together, as far as somebody sees it.
func (b *Board) Trouble(ctx context.Context, q TroubleQuery, sight farm.Sight) (out []wire.TroubleGroup, err error) {
	by := triage.By(cmp.Or(q.By, string(triage.ByCause)))
	if !slices.Contains([]triage.By{triage.ByCause, triage.ByNode, triage.ByRecipe, triage.ByRun}, by) {
		return nil, refusal.New(
			refusal.Invalid, "by", "failed tries are put together by cause, node, recipe or run, not by %.40q", q.By,
		)
	}
	if err := triage.CheckCause(q.Cause); err != nil {
		return nil, refusal.New(refusal.Invalid, "cause", "%v", err)
	}
	err = b.do(ctx, func(t *transaction) error {
		w := triage.Wanted{By: by, Cause: q.Cause, Run: q.Run, Since: q.Since, Sees: sight.Sees}
		if q.Node != "" {
			n := t.State.NodeNamed(q.Node)
			if n == nil {
				return refusal.New(
					refusal.Invalid, "node", "there is no node %.60q; vexillum nodes shows them", q.Node,
				)
			}
			w.Node = n.ID
		}
		out = []wire.TroubleGroup{}
		for _, g := range triage.Groups(b.rulings(), w) {
			out = append(out, b.troubleView(g))
		}
		return nil
	})
	return out, err
}

// blameView returns a verdict as it is told; nothing where there is none.
func blameView(r triage.Ruling) wire.Blame {
	if !r.Known() {
		return wire.Blame{}
	}
	return wire.Blame{Kind: r.Kind, Who: r.Who, Sure: r.Sure, Text: r.Text()}
}

// troubleView returns failed tries as they are told.
func (b *Board) troubleView(g triage.Group) wire.TroubleGroup {
	v := wire.TroubleGroup{
		Key: g.Key, Sentence: g.Sentence(b.s), Tries: g.Tries, Runs: []wire.TroubleRun{}, Nodes: []wire.TroubleNode{},
		Causes: []wire.TroubleCause{}, Last: b.attempt(g.LastOf, g.LastFrame, g.Last), LastRun: int64(g.LastOf),
	}
	v.Frames, v.Done, v.Parked = g.Counts()
	v.Blame = blameView(g.Blame)
	for id, f := range g.Runs {
		v.Runs = append(v.Runs, wire.TroubleRun{
			Run: int64(id), Name: b.s.Runs[id].Spec.Name(), Frames: f.Failed.String(), Parked: f.Parked.String(),
		})
	}
	slices.SortFunc(v.Runs, func(x, y wire.TroubleRun) int {
		failed := func(r wire.TroubleRun) int { return g.Runs[farm.RunID(r.Run)].Failed.Len() }
		return cmp.Or(cmp.Compare(failed(y), failed(x)), cmp.Compare(y.Run, x.Run))
	})
	for id, tries := range g.Nodes {
		v.Nodes = append(v.Nodes, wire.TroubleNode{Node: int64(id), Name: b.s.NodeName(id), Tries: tries})
	}
	slices.SortFunc(v.Nodes, func(x, y wire.TroubleNode) int {
		return cmp.Or(cmp.Compare(y.Tries, x.Tries), cmp.Compare(x.Name, y.Name))
	})
	for cause, tries := range g.Causes {
		v.Causes = append(v.Causes, wire.TroubleCause{Cause: cause, Tries: tries})
	}
	slices.SortFunc(v.Causes, func(x, y wire.TroubleCause) int {
		return cmp.Or(cmp.Compare(y.Tries, x.Tries), cmp.Compare(x.Cause, y.Cause))
	})
	if len(v.Causes) == 1 {
		var runs []*farm.Run
		for id := range g.Runs {
			runs = append(runs, b.s.Runs[id])
		}
		slices.SortFunc(runs, func(x, y *farm.Run) int { return cmp.Compare(x.ID, y.ID) })
		v.Remedy = triage.RemedyFor(v.Causes[0].Cause, runs)
	}
	return v
}

// mostCompared bounds the frames that a view of a node's trouble lists.
const mostCompared = 100

// NodeTrouble returns what failed on a node beside what came of the same frames on others, as
// far as somebody sees it.
func (b *Board) NodeTrouble(ctx context.Context, id farm.NodeID, sight farm.Sight) (out wire.NodeTrouble, err error) {
	err = b.do(ctx, func(t *transaction) error {
		if t.State.Nodes[id] == nil {
			return refusal.New(refusal.NotFound, "node", "there is no node %d", id)
		}
		all := triage.CompareNode(b.rulings(), id, sight.Sees)
		out.Sentence = triage.CompareSentence(id, all)
		out.Frames, out.More = []wire.NodeFrameFailed{}, max(0, len(all)-mostCompared)
		for _, c := range all[:len(all)-out.More] {
			v := wire.NodeFrameFailed{
				Run: int64(c.Run), RunName: t.State.Runs[c.Run].Spec.Name(), Frame: c.Frame, Done: c.Done,
				Tries: b.attempts(c.Run, c.Frame, c.Tries), Elsewhere: b.attempts(c.Run, c.Frame, c.Elsewhere),
				Blame: blameView(c.Blame),
			}
			if c.GoodOn != 0 {
				v.GoodOn = t.State.NodeName(c.GoodOn)
			}
			out.Frames = append(out.Frames, v)
		}
		return nil
	})
	return out, err
}

// TryKey is a try at a frame.
type TryKey struct {
	Run           int64
	Lease         int64
	Launch, Frame int
}

// Blames returns who is blamed for each of some failed tries, as all pages show it; empty where
// the farm does not remember a try.
func (b *Board) Blames(ctx context.Context, tries []TryKey) ([]string, error) {
	out := make([]string, len(tries))
	err := b.do(ctx, func(*transaction) error {
		rulings := b.rulings()
		for i, k := range tries {
			out[i] = rulings.Try(farm.RunID(k.Run), k.Frame, farm.LeaseID(k.Lease), k.Launch).Who
		}
		return nil
	})
	return out, err
}
