package triage

import (
	"cmp"
	"fmt"
	"slices"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/farm"
)

// Compared is a frame that failed on a node, beside what came of it on others: what speaks
// for or against the node.
type Compared struct {
	Run       farm.RunID
	Frame     int
	Tries     []farm.Attempt // on the node that failed, the newest last
	Elsewhere []farm.Attempt // on other nodes that failed, the newest last
	GoodOn    farm.NodeID    // where it came out well; 0: nowhere yet, or not known any more
	Done      bool           // it is done since, wherever that was
	Blame     Ruling         // of the newest try on the node
}

// CompareNode returns what failed on a node and is remembered, in runs that somebody sees
// (nil: all), what failed last first.
func CompareNode(rulings *Rulings, node farm.NodeID, sees func(project string) bool) []Compared {
	s := rulings.s
	type key struct {
		run   farm.RunID
		frame int
	}
	type try struct {
		lease  farm.LeaseID
		launch int
		node   farm.NodeID
	}
	all, seen := map[key]*Compared{}, map[key]map[try]bool{}
	add := func(k key, a farm.Attempt) *Compared {
		c := all[k]
		if c == nil {
			c = &Compared{Run: k.run, Frame: k.frame}
			all[k], seen[k] = c, map[try]bool{}
		}
		if t := (try{a.Lease, a.Launch, a.Node}); !seen[k][t] {
			seen[k][t] = true
			if a.Node == node {
				c.Tries = append(c.Tries, a)
			} else {
				c.Elsewhere = append(c.Elsewhere, a)
			}
		}
		return c
	}
	sights := func(run *farm.Run) bool { return run != nil && (sees == nil || sees(run.Spec.Project)) }
	for id, run := range s.Runs {
		if !sights(run) {
			continue
		}
		for frame, t := range run.Trouble {
			for _, a := range t.Attempts {
				add(key{id, frame}, a)
			}
		}
	}
	for _, v := range rulings.all {
		if !sights(s.Runs[v.Run]) {
			continue
		}
		c := add(key{v.Run, v.Frame}, farm.Attempt{
			Lease: v.Lease, Launch: v.Launch, Node: v.Node, Cause: v.Cause, Message: v.Message, At: v.At,
		})
		c.GoodOn = cmp.Or(c.GoodOn, v.GoodOn)
	}
	var out []Compared
	for _, c := range all {
		if len(c.Tries) == 0 {
			continue
		}
		older := func(a, b farm.Attempt) int { return a.At.Compare(b.At) }
		slices.SortStableFunc(c.Tries, older)
		slices.SortStableFunc(c.Elsewhere, older)
		c.Done = s.Runs[c.Run].Done.Has(c.Frame)
		c.Blame = rulings.Of(c.Run, c.Frame, c.Tries[len(c.Tries)-1])
		out = append(out, *c)
	}
	slices.SortFunc(out, func(a, b Compared) int {
		return cmp.Or(
			b.Tries[len(b.Tries)-1].At.Compare(a.Tries[len(a.Tries)-1].At), cmp.Compare(a.Run, b.Run),
			cmp.Compare(a.Frame, b.Frame),
		)
	})
	return out
}

// CompareSentence says of what failed on a node how it went elsewhere.
func CompareSentence(node farm.NodeID, all []Compared) string {
	if len(all) == 0 {
		return ""
	}
	others, here, too, alone := 0, 0, 0, 0
	for _, c := range all {
		switch {
		case c.GoodOn == node:
			here++
		case c.GoodOn != 0:
			others++
		case len(c.Elsewhere) > 0:
			too++
		default:
			alone++
		}
	}
	var parts []string
	say := func(n int, one, many string) {
		switch {
		case n == 0:
		case n == len(all) && n == 1:
			parts = append(parts, "it "+one)
		case n == len(all):
			parts = append(parts, "all of them "+many)
		default:
			parts = append(parts, fmt.Sprintf("%d %s", n, english.PluralWord(n, one, many)))
		}
	}
	say(others, "came out well elsewhere", "came out well elsewhere")
	say(here, "came out well here later", "came out well here later")
	say(too, "failed elsewhere too", "failed elsewhere too")
	say(alone, "is not known to have been tried elsewhere", "are not known to have been tried elsewhere")
	return fmt.Sprintf(
		"%s failed here lately: %s.",
		english.Plural(len(all), "frame has", "frames have"),
		english.WordSeries(parts, "and"),
	)
}
