package triage

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/blame"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// By is what failed tries are put together by.
type By string

// The ways to put failed tries together.
const (
	ByCause  By = "cause"
	ByNode   By = "node"
	ByRecipe By = "recipe"
	ByRun    By = "run"
)

// Wanted says which failed tries are wanted: all that fit what is not empty.
type Wanted struct {
	By    By
	Cause string
	Node  farm.NodeID
	Run   farm.RunID
	Since time.Time
	Sees  func(project string) bool // nil: all
}

// Group are failed tries that have something in common.
type Group struct {
	Key   string                // the cause, the name of a node or recipe, or of a run
	Tries int                   // that failed
	Runs  map[farm.RunID]Frames // by run
	Nodes map[farm.NodeID]int   // tries by node
	// Causes are tries by cause.
	Causes map[string]int
	Last   farm.Attempt // the newest
	LastOf farm.RunID
	// LastFrame is the frame of the newest.
	LastFrame int
	Blame     Ruling // the verdict that all of its tries share
}

// Frames are frames of a run whose tries failed, by what has become of them.
type Frames struct {
	Failed frames.Set // all of them
	Done   frames.Set // rendered since, elsewhere or again
	Parked frames.Set
}

// Groups puts together the failed tries of all runs that nobody has asked to be tried again and
// that share a verdict: those with the most frames that are not done first, then those that
// failed last.
func Groups(rulings *Rulings, w Wanted) []Group {
	s := rulings.s
	type verdictOf struct{ key, verdict string }
	groups := map[verdictOf]*Group{}
	sets := map[verdictOf]map[farm.RunID][]frames.Span{}
	blames := map[verdictOf]*merged{}
	add := func(id farm.RunID, frame int, a farm.Attempt) {
		run := s.Runs[id]
		if w.Cause != "" && a.Cause != w.Cause || w.Node != 0 && a.Node != w.Node || a.At.Before(w.Since) {
			return
		}
		ruling := rulings.Of(id, frame, a)
		key := verdictOf{keyOf(s, w.By, run, a), rulings.verdictKey(ruling)}
		g := groups[key]
		if g == nil {
			g = &Group{
				Key: key.key, Runs: map[farm.RunID]Frames{}, Nodes: map[farm.NodeID]int{}, Causes: map[string]int{},
			}
			groups[key], sets[key], blames[key] = g, map[farm.RunID][]frames.Span{}, &merged{}
		}
		blames[key].add(ruling)
		g.Tries++
		g.Nodes[a.Node]++
		g.Causes[a.Cause]++
		sets[key][id] = append(sets[key][id], frames.Span{First: frame, Last: frame})
		if !a.At.Before(g.Last.At) {
			g.Last, g.LastOf, g.LastFrame = a, id, frame
		}
	}
	for id, run := range s.Runs {
		if w.Run != 0 && w.Run != id || w.Sees != nil && !w.Sees(run.Spec.Project) {
			continue
		}
		for frame, t := range run.Trouble {
			for _, a := range t.Attempts {
				add(id, frame, a)
			}
		}
	}
	for _, v := range rulings.all { // of frames that are done since
		run := s.Runs[v.Run]
		if run == nil || !run.Done.Has(v.Frame) || v.Asked || v.At.Before(run.ReleasedAt) ||
			w.Run != 0 && w.Run != v.Run ||
			w.Sees != nil && !w.Sees(run.Spec.Project) {
			continue
		}
		add(v.Run, v.Frame, farm.Attempt{
			Lease: v.Lease, Launch: v.Launch, Node: v.Node, Cause: v.Cause, Message: v.Message, At: v.At,
		})
	}
	out := make([]Group, 0, len(groups))
	for key, g := range groups {
		for id, spans := range sets[key] {
			run, failed := s.Runs[id], frames.Of(spans...)
			g.Runs[id] = Frames{
				Failed: failed, Done: failed.Intersect(run.Done), Parked: failed.Intersect(run.Parked),
			}
		}
		g.Blame = blames[key].ruling(rulings)
		out = append(out, *g)
	}
	slices.SortFunc(out, func(a, b Group) int {
		return cmp.Or(
			cmp.Compare(b.open(), a.open()), b.Last.At.Compare(a.Last.At), cmp.Compare(a.Key, b.Key),
			compareRulings(a.Blame, b.Blame),
		)
	})
	return out
}

func keyOf(s *farm.State, by By, run *farm.Run, a farm.Attempt) string {
	switch by {
	case ByNode:
		return s.NodeName(a.Node)
	case ByRecipe:
		return run.Spec.Recipe
	case ByRun:
		return run.Spec.Name()
	}
	return a.Cause
}

// open counts the frames that are not done.
func (g *Group) open() (n int) {
	for _, f := range g.Runs {
		n += f.Failed.Len() - f.Done.Len()
	}
	return n
}

// Counts returns how many frames have failed, how many of them are done since, and how many
// are parked.
func (g *Group) Counts() (failed, done, parked int) {
	for _, f := range g.Runs {
		failed, done, parked = failed+f.Failed.Len(), done+f.Done.Len(), parked+f.Parked.Len()
	}
	return failed, done, parked
}

// Sentence says what has failed, and what has become of it: "3 frames of salt/final-1 failed
// on kiln-04 with out of memory; 2 are done since, 1 is parked".
func (g *Group) Sentence(s *farm.State) string {
	failed, done, parked := g.Counts()
	text := english.Plural(failed, "frame", "") + " of "
	if len(g.Runs) == 1 {
		for id := range g.Runs {
			text += s.Runs[id].Spec.Name()
		}
	} else {
		text += english.Plural(len(g.Runs), "run", "")
	}
	var nodes []string
	for id := range g.Nodes {
		nodes = append(nodes, s.NodeName(id))
	}
	slices.Sort(nodes)
	text += " failed on " + namesText(nodes)
	causes := slices.SortedFunc(maps.Keys(g.Causes), func(a, b string) int {
		return cmp.Or(cmp.Compare(g.Causes[b], g.Causes[a]), cmp.Compare(a, b))
	})
	text += " with " + namesText(causes)
	var became []string
	for _, part := range []struct {
		n    int
		what string
	}{{done, "done since"}, {parked, "parked"}, {failed - done - parked, "still to be tried"}} {
		if part.n > 0 {
			became = append(became, fmt.Sprintf("%d %s %s", part.n, english.PluralWord(part.n, "is", "are"), part.what))
		}
	}
	return text + "; " + strings.Join(became, ", ")
}

// WhoAlone names a suspect of which no more is known than its kind, as told by
// [blame.Kind.String], and on which node the try was.
func WhoAlone(kind, node string) string {
	switch kind {
	case blame.Frame.String():
		return "the frame itself"
	case blame.Heavy.String():
		return "the frame, too heavy for the node"
	case blame.Node.String():
		return node
	case blame.Device.String():
		return "a device of " + node
	case blame.Run.String():
		return "the run itself"
	case blame.Place.String(), blame.Licence.String():
		return "a " + kind
	case blame.Renderer.String():
		return "the version of the renderer"
	}
	return kind
}

// Who names a suspect for a sentence.
func Who(s *farm.State, of blame.Suspect) string {
	run := ""
	if r := s.Runs[farm.RunID(of.ID)]; r != nil {
		run = r.Spec.Name()
	}
	switch of.Kind {
	case blame.Frame, blame.Heavy:
		what := fmt.Sprintf("frame %d of %s", of.Sub, run)
		if of.Sub == 0 {
			what = "frames of " + run
		}
		if of.Kind == blame.Heavy {
			what += ", too heavy for small nodes"
		}
		return what
	case blame.Node:
		return s.NodeName(farm.NodeID(of.ID))
	case blame.Device:
		return fmt.Sprintf("device %s of %s", of.Name, s.NodeName(farm.NodeID(of.ID)))
	case blame.Run:
		return run + " itself"
	case blame.Chance:
		return "chance"
	}
	what, _ := farm.SurroundingOf(of)
	return what.String()
}
