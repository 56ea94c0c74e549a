package views

import (
	"cmp"
	"context"
	"slices"
	"time"

	"vexillum/internal/core/blame"
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
		for _, g := range triage.Groups(t.State, w) {
			out = append(out, b.troubleView(g))
		}
		return nil
	})
	return out, err
}

// blameView returns who is to blame as it is told; nothing where nobody was.
func blameView(kind, who string, sure float64) wire.Blame {
	if sure == 0 {
		return wire.Blame{}
	}
	return wire.Blame{Kind: kind, Who: who, Sure: sure, Text: blame.Sure(sure) + ", " + triage.Percent(sure)}
}

// troubleView returns failed tries as they are told.
func (b *Board) troubleView(g triage.Group) wire.TroubleGroup {
	v := wire.TroubleGroup{
		Key: g.Key, Sentence: g.Sentence(b.s), Tries: g.Tries, Runs: []wire.TroubleRun{}, Nodes: []wire.TroubleNode{},
		Causes: []wire.TroubleCause{}, Last: b.attempt(g.Last), LastRun: int64(g.LastOf),
	}
	v.Frames, v.Done, v.Parked = g.Counts()
	v.Blame = blameView(g.Blame.Suspect.Kind.String(), triage.Who(b.s, g.Blame.Suspect), g.Blame.Of)
	if last := g.Last.Blame; v.Blame.Who == "" && last.Kind != "" { // too much has gone well since
		v.Blame = blameView(last.Kind, triage.WhoAlone(last.Kind, b.s.NodeName(g.Last.Node)), last.Sure)
		v.Blame.Text += ", as it was seen then"
	}
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
		v.Remedy = triage.Remedy(v.Causes[0].Cause)
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
		all := triage.CompareNode(t.State, id, sight.Sees)
		out.Sentence = triage.CompareSentence(id, all)
		out.Frames, out.More = []wire.NodeFrameFailed{}, max(0, len(all)-mostCompared)
		for _, c := range all[:len(all)-out.More] {
			v := wire.NodeFrameFailed{
				Run: int64(c.Run), RunName: t.State.Runs[c.Run].Spec.Name(), Frame: c.Frame, Done: c.Done,
				Tries: b.attempts(c.Tries), Elsewhere: b.attempts(c.Elsewhere),
				Blame: blameView(c.Blame.Suspect.Kind.String(), triage.Who(t.State, c.Blame.Suspect), c.Blame.Of),
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
	Lease         int64
	Launch, Frame int
}

// Blames returns who is to blame for tries that failed, as it is seen now, as far as the farm
// remembers them.
func (b *Board) Blames(ctx context.Context) (map[TryKey]string, error) {
	out := map[TryKey]string{}
	err := b.do(ctx, func(t *transaction) error {
		for _, v := range triage.Verdicts(t.State) {
			out[TryKey{int64(v.Lease), v.Launch, v.Frame}] = v.Shares[0].Suspect.Kind.String()
		}
		return nil
	})
	return out, err
}
