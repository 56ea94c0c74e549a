package drill

import (
	"fmt"
	"math"
	"slices"

	"vexillum/internal/core/blame"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/simulate"
	"vexillum/internal/core/triage"
)

// Blamed is how well hidden faults were found out and contained.
type Blamed struct {
	Farms        int
	Tries, Right int                // that failed by a fault, and those that were put down to it in the end
	Cases, Told  int                // faults that showed, and those most of whose tries were put down to them
	Missed       map[string]int     // by what the fault is and what was taken for it
	Nodes        int                // of all farms
	Wrongly      int                // of them that were sidelined though nothing was wrong with them
	Surrounded   int                // of these, those for what surroundings have spoilt
	Lost         int                // frames that were given up though nothing was wrong with them
	WrongTries   int                // the most that one wrong run had
	Wasted       float64            // node-seconds of tries that failed
	Bound        float64            // of these, what one has to waste who knows the truth of each try once it has failed
	Slower       []float64          // finish against that of the farm without its faulty nodes, where only those fail
	Over         map[string]float64 // what was wasted beyond that, by what is wrong
}

// Blame plays farms with hidden faults.
func Blame(first uint64, farms int) (Blamed, error) {
	b := Blamed{Farms: farms, Missed: map[string]int{}, Over: map[string]float64{}}
	for seed := first; seed < first+uint64(farms); seed++ {
		if err := b.play(seed); err != nil {
			return b, fmt.Errorf("seed %d: %w", seed, err)
		}
	}
	return b, nil
}

func (b *Blamed) play(seed uint64) error {
	f, faults := Faulty(seed)
	var state *farm.State
	report, err := simulate.Play(f, simulate.Options{Last: func(w simulate.Watched) { state = w.State }, Tell: true})
	if err != nil {
		return err
	}
	truth := newTruth(f, faults)
	b.verdicts(truth, report, state)
	b.Nodes += len(f.Nodes)
	b.sidelined(truth, report)
	b.lost(truth, state)
	b.waste(truth, report)
	for _, fault := range faults {
		if fault.Kind != blame.Run {
			continue
		}
		b.WrongTries = max(b.WrongTries, triesOf(report, f.Jobs[fault.Job].Spec.Job))
	}
	return b.slower(f, faults, report)
}

// triesOf counts the tries that a job had.
func triesOf(report *simulate.Report, job string) (tries int) {
	for _, a := range report.Attempts {
		if a.Job == job {
			tries++
		}
	}
	return tries
}

// truth is what is hidden from a farm.
type truth struct {
	f      simulate.Farm
	faults []Fault
	jobs   map[string]int
	nodes  map[string]int
}

func newTruth(f simulate.Farm, faults []Fault) truth {
	t := truth{f, faults, map[string]int{}, map[string]int{}}
	for i, j := range f.Jobs {
		t.jobs[j.Spec.Job] = i
	}
	for i, n := range f.Nodes {
		t.nodes[n.Name] = i
	}
	return t
}

// of returns which of the faults has spoilt a try; -1 where it was chance.
func (t *truth) of(a simulate.Failure) int {
	return slices.IndexFunc(t.faults, func(x Fault) bool {
		switch a.Fault {
		case blame.Node, blame.Device:
			return x.Kind == a.Fault && x.Node == t.nodes[a.Node]
		case blame.Frame, blame.Heavy:
			return x.Kind == a.Fault && x.Job == t.jobs[a.Job] && slices.Contains(x.Frames, a.Frame)
		case blame.Run:
			return x.Kind == a.Fault && x.Job == t.jobs[a.Job]
		case blame.Place, blame.Licence:
			return x.Kind == a.Fault && t.f.Outages[x.Outage].Of.Name == a.Gone
		}
		return false
	})
}

type tryKey struct {
	lease  farm.LeaseID
	launch int
	frame  int
}

// verdicts compares what tries were put down to in the end with what is true; those that the
// farm has forgotten, with what it thought when they failed.
func (b *Blamed) verdicts(t truth, report *simulate.Report, state *farm.State) {
	told := map[tryKey]blame.Suspect{}
	for _, v := range triage.Verdicts(state) {
		told[tryKey{v.Lease, v.Launch, v.Frame}] = v.Shares[0].Suspect
	}
	right, all := make([]int, len(t.faults)), make([]int, len(t.faults))
	taken := make([]map[string]int, len(t.faults)) // by what they were taken for instead
	for _, a := range report.Failures {
		i := t.of(a)
		if i < 0 {
			continue
		}
		kind, name := a.Told, a.Gone
		if of, known := told[tryKey{a.Lease, a.Launch, a.Frame}]; known {
			kind, name = of.Kind.String(), of.Name
		}
		all[i]++
		b.Tries++
		if kind == a.Fault.String() && (a.Gone == "" || name == a.Gone) {
			right[i]++
			b.Right++
			continue
		}
		if taken[i] == nil {
			taken[i] = map[string]int{}
		}
		if kind == a.Fault.String() {
			kind = "another " + kind
		}
		taken[i][kind]++
	}
	for i, fault := range t.faults {
		if all[i] == 0 {
			continue
		}
		b.Cases++
		most := "" // what was told most often, but the truth
		for kind, n := range taken[i] {
			if n > taken[i][most] {
				most = kind
			}
		}
		if right[i] > taken[i][most] {
			b.Told++
			continue
		}
		b.Missed[fmt.Sprintf("%s: taken for %s", fault.What, most)]++
	}
}

// sidelined counts nodes that were set aside though nothing was wrong with them.
func (b *Blamed) sidelined(t truth, report *simulate.Report) {
	wrongly := map[string]bool{}
	for _, a := range report.Sidelined {
		bad := slices.ContainsFunc(t.faults, func(x Fault) bool {
			return (x.Kind == blame.Node || x.Kind == blame.Device) && x.Node == t.nodes[a]
		})
		if !bad {
			wrongly[a] = true
		}
	}
	b.Wrongly += len(wrongly)
	for name := range wrongly {
		by := map[blame.Kind]int{}
		for _, a := range report.Failures {
			if a.Node == name {
				by[a.Fault]++
			}
		}
		if by[blame.Place]+by[blame.Licence] > by[blame.Frame]+by[blame.Heavy]+by[blame.Run]+by[blame.Chance] {
			b.Surrounded++
		}
	}
}

// lost counts frames that were given up though nothing is wrong with them.
func (b *Blamed) lost(t truth, state *farm.State) {
	for _, run := range state.Runs {
		job := t.jobs[run.Spec.Job]
		if t.f.Jobs[job].Wrong {
			continue
		}
		left := run.Spec.Frames.Minus(run.Done)
		for frame := range left.All() {
			bad := slices.ContainsFunc(t.faults, func(x Fault) bool {
				return x.Kind == blame.Frame && x.Job == job && slices.Contains(x.Frames, frame)
			})
			if !bad {
				b.Lost++
			}
		}
	}
}

// waste adds up what failed tries cost, and what of that nobody can save.
func (b *Blamed) waste(t truth, report *simulate.Report) {
	known := make([]float64, len(t.faults)) // when the first try has failed by each
	for i := range known {
		known[i] = math.Inf(1)
	}
	tries := map[[2]int]int{}
	for _, a := range report.Failures {
		cost := a.End - a.Start
		b.Wasted += cost
		i := t.of(a)
		switch {
		case i < 0:
			b.Bound += cost
		case a.Fault == blame.Frame:
			key := [2]int{i, a.Frame}
			if tries[key]++; tries[key] <= t.f.Jobs[t.faults[i].Job].Spec.Tries {
				b.Bound += cost
			}
		case a.Fault == blame.Heavy:
			key := [2]int{i, a.Frame}
			if tries[key]++; tries[key] <= 1 {
				b.Bound += cost
			}
		case a.Start < known[i]:
			b.Bound += cost
			known[i] = min(known[i], a.End)
		default:
			b.Over[t.faults[i].What] += cost
		}
	}
}

// slower compares the finish with that of the farm without its faulty nodes.
func (b *Blamed) slower(f simulate.Farm, faults []Fault, report *simulate.Report) error {
	gone := map[int]bool{}
	for _, x := range faults {
		if x.Kind != blame.Node {
			return nil
		}
		gone[x.Node] = true
	}
	without := f
	without.Nodes = nil
	for i, n := range f.Nodes {
		if !gone[i] {
			without.Nodes = append(without.Nodes, n)
		}
	}
	other, err := simulate.Play(without, simulate.Options{})
	if err != nil {
		return fmt.Errorf("without its faulty nodes: %w", err)
	}
	b.Slower = append(b.Slower, report.Finish/other.Finish)
	return nil
}
