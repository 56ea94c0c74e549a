package forecast

import (
	"errors"
	"fmt"
	"math"
	"slices"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/simulate"
	"vexillum/internal/core/span"
)

// Spent is what a run takes of the farm.
type Spent struct {
	// Seconds of each node, start-up and fetching included; of a node that renders something
	// beside it, its part.
	Seconds map[farm.NodeID]float64
	Nodes   float64 // that took part
}

// Estimate is when a run will be finished that is not submitted yet, and what it takes.
type Estimate struct {
	Median, Late float64 // seconds from the position on, in half and in nine of ten cases
	Plays        int     // that it rests on; 0: it does not end, or there was no time
	First        float64 // seconds by the first throw of dice, that of [Position.WithNodes]
	Spent        Spent   // on average
}

// Estimate plays a position as often as there is time for, and tells of some runs. alive says
// whether there is; the first play goes on as long as hard does.
func (p *Position) Estimate(
	ids []farm.RunID, seed uint64, plays int, alive, hard func() bool,
) (map[farm.RunID]Estimate, error) {
	out, finishes := map[farm.RunID]Estimate{}, map[farm.RunID][]float64{}
	places := map[farm.RunID]int{}
	for at, j := range p.jobs {
		if slices.Contains(ids, j.id) {
			places[j.id] = at
			out[j.id] = Estimate{Spent: Spent{Seconds: map[farm.NodeID]float64{}}}
		}
	}
	for k := range plays {
		if k > 0 && !alive() {
			break
		}
		f, report, err := p.play(seed, k, func() bool { return k == 0 && hard() || alive() })
		if errors.Is(err, simulate.ErrStopped) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("play %d of an estimate: %w", k, err)
		}
		for id, at := range places {
			if j := report.Jobs[at]; j.Finish > 0 && j.State == farm.RunDone {
				finishes[id] = append(finishes[id], j.Finish)
				e := out[id]
				if k == 0 {
					e.First = j.Finish
				}
				p.spend(&e.Spent, &f, report, at)
				out[id] = e
			}
		}
	}
	for id, all := range finishes {
		e, n := out[id], float64(len(all))
		for node := range e.Spent.Seconds {
			e.Spent.Seconds[node] /= n
		}
		e.Spent.Nodes /= n
		mean, spread := lognormal(all)
		e.Median, e.Late, e.Plays = math.Exp(mean), math.Exp(mean+normal90*spread), len(all)
		out[id] = e
	}
	return out, nil
}

// spend adds what a job has taken of each node in one play.
func (p *Position) spend(s *Spent, f *simulate.Farm, report *simulate.Report, at int) {
	job := &f.Jobs[at]
	index := map[string]int{}
	for i, n := range f.Nodes {
		index[n.Name] = i
	}
	type launch struct{ node, number int }
	launches, nodes := map[launch]bool{}, map[int]bool{}
	add := func(node int, seconds float64) {
		part := 1.0
		if n := f.Nodes[node]; job.Spec.Takes.Cores > 0 && n.Cores > 0 {
			part = min(1, float64(job.Spec.Takes.Cores)/float64(n.Cores))
		}
		s.Seconds[p.nodes[node]] += part * seconds
	}
	for _, a := range report.Attempts {
		if a.Job != job.Spec.Job {
			continue
		}
		node := index[a.Node]
		add(node, a.End-a.Start)
		if of := (launch{node, a.Launch}); !launches[of] {
			launches[of] = true
			startup := job.Startup
			if nodes[node] {
				startup = job.Again
			} else {
				startup += job.Fetch(node, &f.Nodes[node]).Seconds
			}
			add(node, startup)
		}
		nodes[node] = true
	}
	s.Nodes += float64(len(nodes))
}

// Point is when a run is finished that has so many nodes at most.
type Point struct {
	Nodes   int
	Seconds float64
}

// Ladder returns numbers of nodes for which it is worth to ask, up to the most: close
// together where each counts.
func Ladder(most int) (out []int) {
	for n := 1; n < most; {
		out = append(out, n)
		switch {
		case n < 4:
			n++
		case n < 8:
			n += 2
		case n < 32:
			step := 1 << (int(math.Log2(float64(n))) - 1)
			n = n/step*step + step
		default:
			n += min(n, most-n) // it must not overflow
		}
	}
	if most > 0 {
		out = append(out, most)
	}
	return out
}

// InTurn returns the places of a ladder of so many rungs in the order in which they tell
// most for the time that they take: the last one first, then the middle of each part, the
// upper ones before the lower, as few nodes are played for longest.
func InTurn(rungs int) (out []int) {
	if rungs == 0 {
		return nil
	}
	out = append(out, rungs-1)
	type part struct{ from, to int } // to is not in it
	for parts := []part{{0, rungs - 1}}; len(parts) > 0; parts = parts[1:] {
		p := parts[0]
		if p.from == p.to {
			continue
		}
		middle := (p.from + p.to) / 2
		out = append(out, middle)
		parts = append(parts, part{middle + 1, p.to}, part{p.from, middle})
	}
	return out
}

// WithNodes returns when a run is finished that has so many nodes at most, by one throw of
// dice, which is the same whatever the number; false where it does not end, or where alive
// says that there is no more time. It may be called side by side.
func (p *Position) WithNodes(
	id farm.RunID, terms farm.Terms, nodes int, seed uint64, alive func() bool,
) (Point, bool) {
	at, there := p.at[id]
	if !there {
		return Point{}, false
	}
	terms.Ceiling = farm.Ceiling{Nodes: nodes}
	_, report, err := p.With(map[farm.RunID]farm.Terms{id: terms}).play(seed, 0, alive)
	if err != nil || report.Jobs[at].Finish <= 0 || report.Jobs[at].State != farm.RunDone {
		return Point{}, false
	}
	return Point{nodes, report.Jobs[at].Finish}, true
}

// MoreNodes says in a sentence whether more nodes help a run, from when it is finished with
// fewer of them and from the seconds that machines work for it.
func MoreNodes(points []Point, work float64) string {
	if len(points) == 0 {
		return ""
	}
	last := points[len(points)-1]
	if last.Nodes == 1 {
		return "One node can take it."
	}
	if len(points) < 3 {
		return ""
	}
	little := max(1, last.Seconds/50) // a node that gains less is not worth much
	gain := func(i int) float64 {     // of each node from one point to the next
		a, b := points[i], points[i+1]
		return (a.Seconds - b.Seconds) / float64(b.Nodes-a.Nodes)
	}
	enough := len(points) - 1
	for enough > 0 && gain(enough-1) < little {
		enough--
	}
	if enough == len(points)-1 {
		return fmt.Sprintf(
			"More nodes than the %d that can take it would still help: the last of them gains %s.", last.Nodes,
			span.Text(span.Of(gain(enough-1))),
		)
	}
	from := points[enough]
	if last.Seconds >= from.Seconds-little {
		if enough == 0 && work < 0.6*from.Seconds {
			return "More nodes hardly help: most of the time it waits for what comes before it."
		}
		return fmt.Sprintf(
			"Beyond %s further ones only add start-up and transfer.", nodesText(from.Nodes),
		)
	}
	most := 0.0
	for i := enough; i < len(points)-1; i++ {
		most = max(most, gain(i))
	}
	return fmt.Sprintf(
		"Beyond %s each further one gains less than %s.",
		nodesText(from.Nodes),
		span.Text(span.Of(math.Ceil(most+1e-9))),
	)
}

func nodesText(n int) string {
	if n == 1 {
		return "1 node"
	}
	return fmt.Sprintf("%d nodes", n)
}
