// Package drill plays a described farm through the real dealer and judges the
// outcome: against the least time that any schedule needs, and against the
// ways in which people split work by hand. It reads no files; the reader of a
// drill file brings it in the shape of a simulate.Farm.
package drill

import (
	"fmt"
	"slices"

	"vexillum/internal/core/pace"
	"vexillum/internal/core/simulate"
)

// Report is the outcome of a drill.
type Report struct {
	Seed     uint64             `json:"seed"`
	Finish   float64            `json:"finish_seconds"`
	Jobs     []Job              `json:"jobs"`
	Attempts []simulate.Attempt `json:"attempts"`
	Nodes    []Node             `json:"nodes"`
	Against  []Against          `json:"against,omitempty"`
	Told     []simulate.Told    `json:"-"` // what was decided, with reasons
}

// Job is the outcome of one job of a drill. The lower bound is that of the job
// alone on the farm.
type Job struct {
	Name     string  `json:"name"`
	Finish   float64 `json:"finish_seconds"`
	Bound    float64 `json:"lower_bound_seconds"`
	Ratio    float64 `json:"ratio"` // of the two
	Launches int     `json:"launches"`
	State    string  `json:"state"`
}

// Node is what became of one node in a drill.
type Node struct {
	Name    string  `json:"name"`
	Present float64 `json:"present_seconds"`
	Idle    float64 `json:"idle_share"` // of that, 0 to 1
}

// Against is the outcome of splitting the same work by hand.
type Against struct {
	Way    string  `json:"way"`
	Finish float64 `json:"finish_seconds"`
	Ratio  float64 `json:"ours_to_theirs"` // below 1: ours is earlier
}

// Run plays a farm and compares the outcome with other ways. model is what is
// known before; nil: nothing. goOn is asked now and then, and when it says no
// the drill ends with simulate.ErrStopped; nil: it always goes on.
func Run(f simulate.Farm, model *pace.Model, against []Way, goOn func() bool) (*Report, error) {
	played, err := simulate.Play(f, simulate.Options{Model: model, Tell: true, GoOn: goOn})
	if err != nil {
		return nil, fmt.Errorf("playing the farm: %w", err)
	}
	out := &Report{Seed: f.Seed, Finish: played.Finish, Attempts: played.Attempts, Told: played.Told}
	for i, j := range played.Jobs {
		bound := Bound(f, i)
		out.Jobs = append(out.Jobs, Job{
			Name: f.Jobs[i].Spec.Job, Finish: j.Finish, Bound: bound, Ratio: j.Finish / bound,
			Launches: j.Launches, State: string(j.State),
		})
	}
	for i, n := range f.Nodes {
		idle := 0.0
		if played.Present[i] > 0 {
			idle = max(0, 1-played.Busy[i]/played.Present[i])
		}
		out.Nodes = append(out.Nodes, Node{Name: n.Name, Present: played.Present[i], Idle: idle})
	}
	for _, w := range against {
		other, err := w.play(f, goOn)
		if err != nil {
			return nil, fmt.Errorf("playing %s: %w", w.Name, err)
		}
		out.Against = append(
			out.Against, Against{Way: w.Name, Finish: other.Finish, Ratio: played.Finish / other.Finish},
		)
	}
	return out, nil
}

// Spread is how the ratios of many farms lie.
type Spread struct {
	Class string  `json:"class"`
	Count int     `json:"count"`
	Mean  float64 `json:"mean"`
	P90   float64 `json:"p90"`
	Worst float64 `json:"worst"`
	Seed  uint64  `json:"worst_seed"`
}

// Many plays random farms of a class, from a seed on, and says how their
// ratios lie. rehearsed: each has been played once before, with other times of
// single frames, and what was learned is known. goOn is as for Run.
func Many(class string, seed uint64, count int, rehearsed bool, goOn func() bool) (Spread, error) {
	out := Spread{Class: class, Count: count}
	var ratios []float64
	for i := range count {
		f, err := Random(class, seed+uint64(i))
		if err != nil {
			return Spread{}, err
		}
		var model *pace.Model
		if rehearsed {
			model = pace.New()
			if _, err := simulate.Play(f, simulate.Options{Model: model, GoOn: goOn}); err != nil {
				return Spread{}, fmt.Errorf("farm %d of class %s: %w", f.Seed, class, err)
			}
			f.Seed += 1 << 32
		}
		r, err := simulate.Play(f, simulate.Options{Model: model, GoOn: goOn})
		if err != nil {
			return Spread{}, fmt.Errorf("farm %d of class %s: %w", f.Seed, class, err)
		}
		ratio := r.Finish / Bound(f, 0)
		ratios = append(ratios, ratio)
		out.Mean += ratio / float64(count)
		if ratio > out.Worst {
			out.Worst, out.Seed = ratio, seed+uint64(i)
		}
	}
	if count > 0 {
		slices.Sort(ratios)
		out.P90 = ratios[min(count-1, count*9/10)]
	}
	return out, nil
}
