package triage

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"vexillum/internal/core/blame"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// health returns the Records by which the farm itself changes the health of a node.
func health(n *farm.Node, r farm.NodeHealth) []farm.Record {
	r.By = farm.ByTriage
	action, subject := "sideline node", n.Name
	if r.Health == farm.Fine {
		action = "release node"
	}
	if r.Device != "" {
		subject += ", device " + r.Device
	}
	return []farm.Record{r, farm.Audited{
		Actor: farm.ByTriage, Action: action, Subject: subject, From: string(n.Health), To: r.Reason, Node: n.ID,
		At: r.At,
	}}
}

// aside returns the Records that set a node aside, or a device of it, for what it has
// failed; nil if it goes on. l is the lease of its last failure and may be nil.
func (j *judgement) aside(n *farm.Node, l *farm.Lease, now time.Time) []farm.Record {
	if l != nil && n.OnTrial(l) {
		return j.trialFailed(n, l, now)
	}
	if n.Health != farm.Fine {
		return nil
	}
	suspects := j.machine(n, l)
	sure := 0.0
	for _, of := range suspects { // either of them: it is the same to the farm
		sure += j.opinion.Faulty[of]
	}
	slices.SortStableFunc(suspects, func(a, b blame.Suspect) int {
		return cmp.Compare(j.opinion.Faulty[b], j.opinion.Faulty[a])
	})
	for _, of := range suspects {
		spares := j.spares(n) || of.Kind == blame.Device && len(n.Offer().Devices) > 1
		if sure < sureNode || j.opinion.Faulty[of] < 0.5 || !spares || n.DeviceAside(of.Name) {
			continue
		}
		least := provenLeast
		if n.HealthBy == farm.ByTriage && of.Kind == blame.Node && now.Sub(n.HealthAt) < trialsForgotten {
			least = 1 // it was sidelined before
		}
		if a, known := n.Aside[of.Name]; known && a.Back {
			least = 1
		}
		failed, proven := j.failedBy(of)
		if len(proven) < least && !j.scattered(of, failed) {
			continue
		}
		r := farm.NodeHealth{
			Node: n.ID, Health: farm.Sidelined, Device: of.Name, At: now,
			Reason: j.evidence(failed, proven, min(sure, 1)),
		}
		pause := j.firstTrial()
		if last, at := lastPause(n, of); last > 0 && now.Sub(at) < trialsForgotten {
			pause = min(2*last, lastTrial)
		}
		r.Pause = pause.Seconds()
		at := now.Add(pause)
		r.TrialAt = &at
		return append(
			health(n, r),
			j.unparked(func(s blame.Suspect) bool { return s == of }, n.Name+" is to blame, and not they", now)...)
	}
	return nil
}

// machine returns the suspects of a node: the device that a lease owns first.
func (j *judgement) machine(n *farm.Node, l *farm.Lease) (out []blame.Suspect) {
	for i := len(j.mishaps) - 1; i >= 0; i-- {
		if m := j.mishaps[i]; m.Node == n.ID && (l == nil || m.Lease == l.ID) {
			for _, of := range m.Suspects {
				if of.Kind == blame.Device {
					out = append(out, of)
				}
			}
			for _, of := range m.Suspects {
				if of.Kind == blame.Node {
					return append(out, of)
				}
			}
		}
	}
	return out
}

func lastPause(n *farm.Node, of blame.Suspect) (time.Duration, time.Time) {
	if of.Kind == blame.Device {
		a := n.Aside[of.Name]
		return time.Duration(a.Pause * float64(time.Second)), a.At
	}
	return n.TrialPause, n.HealthAt
}

// trialFailed keeps a node aside whose trial has failed, unless somebody else is to blame
// for that.
func (j *judgement) trialFailed(n *farm.Node, l *farm.Lease, now time.Time) []farm.Record {
	last := j.last()
	if k := last.Suspect.Kind; last.Of > 0.5 && k != blame.Node && k != blame.Device && k != blame.Chance {
		return nil
	}
	m := j.mishaps[len(j.mishaps)-1]
	why, _, _ := strings.Cut(n.HealthWhy, "; its trial")
	pause := min(max(2*max(n.TrialPause, j.firstTrial()), trialShare*now.Sub(l.OpenedAt)), lastTrial)
	at := now.Add(pause)
	return health(n, farm.NodeHealth{
		Node: n.ID, Health: farm.Sidelined, Pause: pause.Seconds(), TrialAt: &at, At: now,
		Reason: fmt.Sprintf(
			"%s; its trial, frame %d of %s, failed too (%s)", why, m.Frame, j.s.Runs[l.Run].Spec.Name(), m.Cause,
		),
	})
}

// spares reports whether the farm can do without a node.
func (j *judgement) spares(n *farm.Node) bool {
	members, aside, others := 0, 0, 0
	for _, o := range j.s.NodeList() {
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
	return others > 0 && aside+1 <= max(1, members/sidelinedShare)
}

// failedBy returns the mishaps for which a suspect is most likely to blame, and those of
// them whose frame somebody else has rendered; one of each frame.
func (j *judgement) failedBy(of blame.Suspect) (failed, proven []farm.Mishap) {
	seen := map[blame.Suspect]bool{}
	for i, m := range j.mishaps {
		frame := blame.Suspect{ID: int64(m.Run), Sub: int64(m.Frame)}
		if seen[frame] || j.opinion.By(i).Suspect != of {
			continue
		}
		seen[frame] = true
		failed = append(failed, m)
		if m.Good && m.GoodOn != m.Node {
			proven = append(proven, m)
		}
	}
	return failed, proven
}

// scattered reports whether what a suspect has failed lies so far apart that it cannot be a
// stretch of bad frames, while others render those runs and it renders nothing: there is no
// need to wait until they have rendered these very frames.
func (j *judgement) scattered(of blame.Suspect, failed []farm.Mishap) bool {
	if len(failed) < scatteredLeast || j.passed[of] > 0 || j.opinion.Faulty[of] < sureScattered {
		return false
	}
	runs := map[farm.RunID]frames.Span{}
	for _, m := range failed {
		run := j.s.Runs[m.Run]
		if run == nil || run.Done.Len()+len(run.Delivering) < passedElsewhere {
			return false
		}
		span, known := runs[m.Run]
		if !known {
			span = frames.Span{First: m.Frame, Last: m.Frame}
		}
		runs[m.Run] = frames.Span{First: min(span.First, m.Frame), Last: max(span.Last, m.Frame)}
	}
	if len(runs) > 1 {
		return true
	}
	for _, span := range runs {
		return span.Last-span.First >= scatteredFrames
	}
	return false
}

// When what a node has failed is scattered.
const (
	scatteredLeast  = 2
	scatteredFrames = 20    // from the first to the last of them
	passedElsewhere = 5     // frames that others have rendered of each run
	sureScattered   = 0.997 // that the node is faulty
)

// evidence says what a node has failed that others did.
func (j *judgement) evidence(failed, proven []farm.Mishap, sure float64) string {
	by, causes := map[string]bool{}, map[string]bool{}
	for _, m := range proven {
		by[j.s.NodeName(m.GoodOn)], causes[m.Cause] = true, true
	}
	sureText := fmt.Sprintf("%s that it is at fault (%s)", blame.Sure(sure), Percent(sure))
	if len(proven) == 0 {
		for _, m := range failed {
			causes[m.Cause] = true
		}
		return fmt.Sprintf(
			"it failed %s (%s), and others render those runs: %s", j.named(failed),
			strings.Join(slices.Sorted(maps.Keys(causes)), ", "), sureText,
		)
	}
	text := fmt.Sprintf(
		"it failed %s (%s), which %s rendered", j.named(proven), strings.Join(slices.Sorted(maps.Keys(causes)), ", "),
		namesText(slices.Sorted(maps.Keys(by))),
	)
	if more := len(failed) - len(proven); more > 0 {
		text += fmt.Sprintf(", and %d more", more)
	}
	return fmt.Sprintf("%s: %s", text, sureText)
}

// Percent prints a share of one as a whole number that is never more sure than it is.
func Percent(of float64) string {
	return fmt.Sprintf("%d %%", int(min(of, 0.99)*100))
}

// named names frames by their runs: frames 3-5 of salt_010/final-1.
func (j *judgement) named(of []farm.Mishap) string {
	spans := map[string][]frames.Span{}
	for _, m := range of {
		if run := j.s.Runs[m.Run]; run != nil {
			name := run.Spec.Name()
			spans[name] = append(spans[name], frames.Span{First: m.Frame, Last: m.Frame})
		}
	}
	var what []string
	for _, name := range slices.Sorted(maps.Keys(spans)) {
		what = append(what, fmt.Sprintf("%s of %s", FramesText(frames.Of(spans[name]...)), name))
	}
	return strings.Join(what, " and ")
}

// DevicesBack returns the Records by which devices of a node work again whose pause is
// over: on probation, as it were.
func DevicesBack(n *farm.Node, now time.Time) (records []farm.Record) {
	for _, id := range slices.Sorted(maps.Keys(n.Aside)) {
		if a := n.Aside[id]; !a.Back && !a.TrialAt.IsZero() && !now.Before(a.TrialAt) {
			records = append(records, health(n, farm.NodeHealth{
				Node: n.ID, Health: farm.Fine, Device: id, Pause: a.Pause, At: now,
				Reason: "it is tried again; the next frame that it fails sets it aside for longer",
			})...)
		}
	}
	return records
}

// firstTrial is how long a node waits for its first trial.
func (j *judgement) firstTrial() time.Duration { return cmp.Or(j.s.TrialAfter, firstTrial) }
