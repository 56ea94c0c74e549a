package triage

import (
	"cmp"
	"fmt"

	"vexillum/internal/core/blame"
	"vexillum/internal/core/farm"
)

// Ruling is the verdict on one failed try: who is to blame, and how sure that is.
type Ruling struct {
	Suspect blame.Suspect // without a frame's number and its era: frames of a run stand together
	Kind    string        // of the suspect, see [blame.Kind.String]; empty: the try was not judged
	Who     string        // names it in a sentence
	Sure    float64       // 0 to 1, never above the share that the model gives this try
	Then    bool          // as it was seen when the try failed: too much has happened since
}

// mostSureOfOne bounds the certainty about a suspect that only one failure speaks against: one
// failure makes nobody certain.
const mostSureOfOne = 0.94

// Known reports whether the try was judged.
func (r Ruling) Known() bool { return r.Kind != "" }

// Text returns the certainty in words and per cent.
func (r Ruling) Text() string {
	text := blame.Sure(r.Sure) + ", " + Percent(r.Sure)
	if r.Then {
		text += " when it failed"
	}
	return text
}

// tryKey names a try for the life of the farm.
type tryKey struct {
	run    farm.RunID
	frame  int
	lease  farm.LeaseID
	launch int
}

// Rulings are the verdicts on all failed tries of a farm at one moment. Whatever shows a failure
// takes its verdict from here, so that all pages agree.
type Rulings struct {
	s   *farm.State
	now map[tryKey]Ruling
	all []Verdict
}

// Rule judges all failed tries that are remembered.
func Rule(s *farm.State) *Rulings {
	out := &Rulings{s: s, now: map[tryKey]Ruling{}, all: Verdicts(s)}
	against := map[blame.Suspect]int{} // failures by the suspect most likely to blame
	for _, v := range out.all {
		against[v.Shares[0].Suspect]++
	}
	for _, v := range out.all {
		first := v.Shares[0]
		sure := first.Of
		if against[first.Suspect] == 1 {
			sure = min(sure, mostSureOfOne)
		}
		of := first.Suspect
		who := Who(s, of)
		if of.Era = 0; of.Kind == blame.Frame || of.Kind == blame.Heavy {
			of.Sub = 0
		}
		out.now[tryKey{v.Run, v.Frame, v.Lease, v.Launch}] = Ruling{
			Suspect: of, Kind: of.Kind.String(), Who: who, Sure: sure,
		}
	}
	return out
}

// Of returns the verdict on a try at a frame.
func (r *Rulings) Of(run farm.RunID, frame int, a farm.Attempt) Ruling {
	if now, known := r.now[tryKey{run, frame, a.Lease, a.Launch}]; known {
		return now
	}
	if a.Blame.Kind == "" {
		return Ruling{}
	}
	return Ruling{
		Kind: a.Blame.Kind, Who: WhoAlone(a.Blame.Kind, r.s.NodeName(a.Node)), Sure: min(a.Blame.Sure, mostSureOfOne),
		Then: true,
	}
}

// Try returns the verdict on a try of which no more is known than its lease, launch and frame.
func (r *Rulings) Try(run farm.RunID, frame int, lease farm.LeaseID, launch int) Ruling {
	return r.now[tryKey{run, frame, lease, launch}]
}

// title names who several tries with the same verdict are blamed on.
func (r *Rulings) title(of Ruling) string {
	if of.Then || of.Suspect.Kind == blame.Chance {
		return of.Who
	}
	return Who(r.s, of.Suspect)
}

// verdictKey is equal for tries with the same verdict.
func (r *Rulings) verdictKey(of Ruling) string {
	if !of.Known() {
		return ""
	}
	return fmt.Sprint(of.Kind, " ", r.title(of))
}

// merged is the verdict on several tries with the same one: as sure as they are on average.
type merged struct {
	first Ruling
	sum   float64
	tries int
}

func (m *merged) add(of Ruling) {
	if m.tries == 0 || !of.Then {
		m.first = of
	}
	m.sum += of.Sure
	m.tries++
}

// ruling returns the verdict on all, named as a whole.
func (m *merged) ruling(r *Rulings) Ruling {
	if m.tries == 0 || !m.first.Known() {
		return Ruling{}
	}
	out := m.first
	out.Sure = m.sum / float64(m.tries)
	if m.tries > 1 {
		out.Who = r.title(m.first)
	}
	return out
}

// compareRulings orders verdicts: the surest first.
func compareRulings(a, b Ruling) int {
	return cmp.Or(cmp.Compare(b.Sure, a.Sure), cmp.Compare(a.Who, b.Who))
}
