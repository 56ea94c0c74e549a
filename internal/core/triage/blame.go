package triage

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// Whose fault it is: the machine's, or the job's. Few signs are enough to stop,
// and a person may say otherwise by a release.

const (
	// blamesLeast is how many frames a node must have failed that others have
	// done before it is sidelined.
	blamesLeast = 3
	// sidelinedShare: at most one node in this number is sidelined by the farm
	// itself, and one may always be.
	sidelinedShare = 3
	// failingLeast is how many frames of a run must have failed everywhere by one
	// cause, before any is done, so that it is held.
	failingLeast = 3
	// failingNodes is on how many nodes that must be, if the farm has them.
	failingNodes = 3
	// failingWorth is how many frames a run must have so that holding it saves
	// anything.
	failingWorth = 10
)

// accuses reports whether a failure by this cause says something about the machine
// or the job. Others are those of surroundings.
func accuses(cause string) bool {
	switch cause {
	case CauseDiskFull, CauseNodeLost, CauseNoLicence, CauseOutput, CauseDelivery:
		return false
	}
	return true
}

// Done returns what follows from a frame that is done: besides that Record, nodes
// are sidelined that have failed what others do.
func Done(s *farm.State, done farm.FrameDone, now time.Time) []farm.Record {
	records := []farm.Record{done}
	run := s.Runs[done.Run]
	if run == nil {
		return records
	}
	t := run.Trouble[done.Frame]
	if t == nil {
		return records
	}
	seen := map[farm.NodeID]bool{done.Node: true}
	for _, a := range t.Attempts {
		n := s.Nodes[a.Node]
		if n == nil || seen[a.Node] || !accuses(a.Cause) {
			continue
		}
		seen[a.Node] = true
		blames := append(
			slices.Clone(n.Blames), farm.Blame{Run: done.Run, Frame: done.Frame, Cause: a.Cause, By: done.Node},
		)
		if reason := sideline(s, n, blames); reason != "" {
			records = append(
				records,
				farm.NodeHealth{
					Node: n.ID, Health: farm.Sidelined, By: farm.ByTriage, Reason: reason, At: now,
				},
				farm.Audited{
					Actor: farm.ByTriage, Action: "sideline node", Subject: n.Name, From: string(n.Health),
					To: reason, Node: n.ID, At: now,
				},
			)
		}
	}
	return records
}

// sideline returns why a node is to be sidelined for what it has failed and others
// have done; "" if it is not.
func sideline(s *farm.State, n *farm.Node, blames []farm.Blame) string {
	blames = slices.DeleteFunc(blames, func(b farm.Blame) bool { return !accuses(b.Cause) })
	if n.Health != farm.Fine || len(blames) < blamesLeast || len(blames) <= n.DoneSince {
		return ""
	}
	members, aside, others := 0, 0, 0
	for _, o := range s.Nodes {
		if !o.RetiredAt.IsZero() || o.Session == 0 {
			continue
		}
		members++
		switch {
		case o.Health == farm.Sidelined:
			aside++
		case o != n && o.Ready():
			others++
		}
	}
	if others == 0 || aside+1 > max(1, members/sidelinedShare) {
		return ""
	}
	by, failed := map[string]bool{}, map[string][]frames.Span{}
	causes := map[string]bool{}
	for _, b := range blames {
		by[s.NodeName(b.By)], causes[b.Cause] = true, true
		if run := s.Runs[b.Run]; run != nil {
			failed[run.Spec.Name()] = append(failed[run.Spec.Name()], frames.Span{First: b.Frame, Last: b.Frame})
		}
	}
	var what []string
	for _, name := range slices.Sorted(maps.Keys(failed)) {
		what = append(what, fmt.Sprintf("%s of %s", FramesText(frames.Of(failed[name]...)), name))
	}
	return fmt.Sprintf(
		"it failed %s (%s), which %s rendered", strings.Join(what, " and "),
		strings.Join(slices.Sorted(maps.Keys(causes)), ", "), namesText(slices.Sorted(maps.Keys(by))),
	)
}

// FramesText names frames for a sentence: frame 7, frames 7-9.
func FramesText(set frames.Set) string {
	if set.Len() == 1 {
		return fmt.Sprintf("frame %d", set.First())
	}
	return "frames " + set.Brief()
}

func namesText(names []string) string {
	const most = 4
	switch n := len(names); {
	case n == 1:
		return names[0]
	case n > most:
		return fmt.Sprintf("%s and %d others", strings.Join(names[:most-1], ", "), n-most+1)
	default:
		return strings.Join(names[:n-1], ", ") + " and " + names[n-1]
	}
}

// failing returns the Record that holds a run whose first frames fail everywhere
// by one cause, as of one more failure; nil where it is not so.
func failing(s *farm.State, run *farm.Run, more farm.FrameFailed, now time.Time) farm.Record {
	if run.State != farm.RunRendering || !run.Done.Empty() || len(run.Delivering) > 0 ||
		run.Spec.Frames.Len() < failingWorth ||
		!accuses(more.Cause) {
		return nil
	}
	failed, nodes := map[int]bool{more.Frame: true}, map[farm.NodeID]bool{more.Node: true}
	for f, t := range run.Trouble {
		for _, a := range t.Attempts {
			if a.At.Before(run.ReleasedAt) {
				continue // a person has looked at it since
			}
			if a.Cause != more.Cause {
				return nil
			}
			failed[f], nodes[a.Node] = true, true
		}
	}
	if len(failed) < failingLeast {
		return nil
	}
	able := 0
	for _, n := range s.Nodes {
		if n.Ready() && capacity.Fits(s, n, run) {
			able++
		}
	}
	if len(nodes) < min(failingNodes, max(1, able)) {
		return nil
	}
	for l := range run.OpenLeases {
		if !nodes[l.Node] && !l.Left.Empty() {
			return nil // somebody may still have it done
		}
	}
	var names []string
	for id := range nodes {
		names = append(names, s.NodeName(id))
	}
	slices.SortFunc(names, cmp.Compare)
	reason := fmt.Sprintf(
		"all of its first %d frames failed with %s, on %s: %s", len(failed), more.Cause, namesText(names),
		firstLine(more.Message),
	)
	return farm.RunMoved{Run: run.ID, State: farm.RunHeld, Held: farm.HeldFailing, Reason: reason, At: now}
}

func firstLine(text string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(text), "\n")
	if len(line) > 120 {
		line = strings.ToValidUTF8(line[:120], "") + "…"
	}
	if line == "" {
		return "the renderer said nothing"
	}
	return "“" + line + "”"
}
