package forecast

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strconv"
	"time"

	"gonum.org/v1/gonum/stat"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/deal"
	"vexillum/internal/core/fairness"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/simulate"
	"vexillum/internal/core/span"
)

// Position is the live farm at one moment, as far as plays of what comes next
// need it. It shares nothing with the farm that changes: another goroutine may
// play it.
type Position struct {
	At    time.Time
	farm  simulate.Farm
	nodes []farm.NodeID // of the farm's nodes
	jobs  []runs
	at    map[farm.RunID]int // where each of jobs stands
	// runs that cannot end as things stand, and why: they are not played, as a play would go on
	// to its horizon for them
	never map[farm.RunID]string
	// runs that stand too far behind to be played
	behind []farm.RunID
}

// mostPlayed bounds the runs that are played: a farm with more of them in its queue says when the
// first of it end.
const mostPlayed = 1000

// tooFarBehind says why a run that stands behind those is not forecast.
const tooFarBehind = "more than 1,000 runs stand before it in the queue"

// runs is one run: its frames in pieces.
type runs struct {
	id        farm.RunID
	posterior *pace.Posterior
	known     bool      // something is known of what frames cost
	pieces    []piece   // in the order of the job's frames
	speeds    []float64 // by node, as they are thought to be
	before    []float64 // the same without what the run itself has told
}

// piece is a stretch of frames that plays take as one.
type piece struct {
	first, last int
	count       int
}

// How many pieces all runs together are played in: a number for each node, so
// that one piece is little of what a node does, within bounds.
const (
	mostPieces  = 2000
	leastPieces = 600
	piecesANode = 100

	fewPiecesANode = 5
)

// horizon is how far ahead it is played.
const horizon = 60 * 24 * time.Hour

// Take takes the position of a farm. sight says what is seen of leases at
// work; received is what projects have received lately.
func Take(
	s *farm.State, m *pace.Model, sight func(*farm.Lease) deal.Sight, received []fairness.Received, now time.Time,
) *Position {
	return TakeWith(s, m, sight, received, now, nil)
}

// TakeWith takes the position of a farm as it would be with further runs, which nobody has
// submitted yet.
func TakeWith(
	s *farm.State, m *pace.Model, sight func(*farm.Lease) deal.Sight, received []fairness.Received, now time.Time,
	further []*farm.Run,
) *Position {
	p := &Position{
		At: now, farm: simulate.Farm{Start: now, Received: received}, at: map[farm.RunID]int{},
		never: map[farm.RunID]string{},
	}
	open, total := foreseen(s, further), 0
	// Further runs stand at the end, and somebody has asked about them.
	if len(further) == 0 && len(open) > mostPlayed {
		for _, run := range open[mostPlayed:] {
			p.behind = append(p.behind, run.ID)
		}
		open = open[:mostPlayed]
	}
	for _, run := range open {
		total += run.ToDo.Len() + run.Later.Len() + run.DealtCount()
	}
	if len(open) == 0 {
		return p
	}
	pieces := min(mostPieces, max(leastPieces, piecesANode*len(s.Nodes)))
	if len(further) > 0 { // somebody waits for the answer
		pieces = min(pieces, max(leastPieces, fewPiecesANode*len(s.Nodes)))
	}
	size := max(1, (total+pieces-1)/pieces)
	for _, l := range s.Licences {
		p.farm.Licences = append(p.farm.Licences, *l)
	}
	slices.SortFunc(p.farm.Licences, func(a, b farm.Licence) int { return cmp.Compare(a.Name, b.Name) })
	for _, pl := range s.Places {
		p.farm.Places = append(p.farm.Places, *pl)
	}
	for _, pr := range s.Projects {
		p.farm.Projects = append(p.farm.Projects, *pr)
	}
	index, able := p.takeNodes(s, m, open, now)
	for _, run := range open {
		if why := p.keptFrom(s, run, able[run.ID]); why != "" {
			p.never[run.ID] = why
			continue
		}
		p.takeRun(s, m, run, size, index, sight)
	}
	return p
}

// keptFrom says what keeps a run from ending with the nodes that there are; "" where nothing
// is known that does. able says that there is a node that can take it.
func (p *Position) keptFrom(s *farm.State, run *farm.Run, able bool) string {
	for _, a := range run.Spec.After {
		if _, never := p.never[a.Run]; never && !run.Terms.Freed {
			name := "a run" // of those that nobody has submitted yet
			if other := s.Runs[a.Run]; other != nil {
				name = other.Spec.Name()
			}
			return "it waits for " + name + ", which cannot end as things stand"
		}
	}
	if able {
		return ""
	}
	if run.DealtCount() > 0 && run.ToDo.Empty() && run.Later.Empty() { // nodes that are away may come back with it
		return "the nodes that have its frames are not there"
	}
	return cmp.Or(capacity.Nobody(s, run), "no node that is there can take it")
}

// With returns the position as it would be with other terms of runs.
func (p *Position) With(terms map[farm.RunID]farm.Terms) *Position {
	out := *p
	out.farm.Jobs = slices.Clone(p.farm.Jobs)
	for i, j := range p.jobs {
		if t, other := terms[j.id]; other {
			out.farm.Jobs[i].Spec.Terms = t
		}
	}
	return &out
}

// takeNodes takes the nodes that are there, and returns where each stands, and of which runs there is
// one that can take them.
func (p *Position) takeNodes(
	s *farm.State, m *pace.Model, open []*farm.Run, now time.Time,
) (index map[farm.NodeID]int, able map[farm.RunID]bool) {
	index, able = map[farm.NodeID]int{}, map[farm.RunID]bool{}
	names := make([]string, len(open))
	for i, run := range open {
		names[i] = recipeOf(run)
	}
	for _, n := range s.NodeList() {
		if !n.RetiredAt.IsZero() || n.Reach != farm.Online || n.Health == farm.Sidelined ||
			n.Duty != farm.OnDuty && n.Settings.Hours == nil {
			continue
		}
		if n.Duty == farm.Held || n.Duty == farm.Draining {
			continue
		}
		recipes := make([]string, 0, len(open))
		for i, run := range open {
			if capacity.Fits(s, n, run) && capacity.FrozenWith(s, n, run) == "" {
				recipes = append(recipes, names[i])
				able[run.ID] = true
			}
		}
		joins := 0.0
		if n.OffUntil.After(now) {
			joins = n.OffUntil.Sub(now).Seconds()
		}
		node := simulate.Node{
			Name: n.Name, Speed: 1, Known: 1, Joins: joins, Hours: n.Settings.Hours, Recipes: recipes,
			Cores: n.Facts.Cores, Memory: n.Facts.MemoryBytes, Caps: n.Settings.Caps,
			Fetches: m.FetchRate(n),
		}
		for _, d := range n.Facts.Devices {
			node.Devices = append(node.Devices, d.ID)
		}
		index[n.ID] = len(p.nodes)
		p.farm.Nodes, p.nodes = append(p.farm.Nodes, node), append(p.nodes, n.ID)
	}
	return index, able
}

func recipeOf(run *farm.Run) string { return "run " + strconv.FormatInt(int64(run.ID), 10) }

// takeRun takes a run that is open: its frames in pieces, and what is known of
// their costs and of the nodes.
func (p *Position) takeRun(
	s *farm.State, m *pace.Model, run *farm.Run, size int, index map[farm.NodeID]int,
	sight func(*farm.Lease) deal.Sight,
) {
	curve := m.Curve(run)
	r := runs{id: run.ID, posterior: curve.Posterior(), known: curve.Known()}
	failing := run.Failing().Intersect(run.ToDo).Take(mostFailing)
	parts := p.partsOf(run, failing, index, sight)
	if run.Spec.Chunk > 0 {
		size = max(size, run.Spec.Chunk)
	}
	all := piecesOf(parts, failing, size)
	if len(all) == 0 {
		return
	}
	failed := map[int][]int{}
	numbers := number(all)
	sets := make([][]frames.Span, len(parts))
	for i, n := range all {
		at := numbers[i].First
		sets[n.part] = append(sets[n.part], numbers[i])
		if n.count == 1 && failing.Has(n.first) {
			failed[at] = failedOn(run.Trouble[n.first], index)
		}
		if n.inFlight {
			parts[n.part].hold.InFlight = at
		}
		r.pieces = append(r.pieces, n.piece)
	}
	for i, part := range parts {
		if part.hold != nil && len(sets[i]) > 0 {
			part.hold.Frames = frames.Of(sets[i]...)
			p.farm.Holdings = append(p.farm.Holdings, *part.hold)
		}
	}
	job := simulate.Job{Spec: specOf(run, numbers), Failed: failed}
	for i, id := range p.nodes {
		if m.Launched(run, id) {
			job.Launched = append(job.Launched, i)
		}
		if m.Has(run.Spec.Bundle, id) {
			job.Has = append(job.Has, i)
		}
		if m.Has(run.Spec.BundleBefore, id) {
			job.HasBefore = append(job.HasBefore, i)
		}
		n := s.Nodes[id]
		r.speeds = append(r.speeds, m.SpeedFor(n, run))
		r.before = append(r.before, m.Speed(n, run.Spec.Recipe))
	}
	for _, a := range run.Spec.After {
		at, there := p.at[a.Run]
		if there && !a.Frames && !run.Terms.Freed {
			job.After = append(job.After, simulate.After{Job: at})
		}
	}
	job.Startup, job.Again = startups(m, run, r.pieces)
	p.farm.Jobs = append(p.farm.Jobs, job)
	p.at[run.ID] = len(p.jobs)
	p.jobs = append(p.jobs, r)
}

// part is what a lease has left of a run, or, without one, what is to be dealt.
type part struct {
	set  frames.Set
	hold *simulate.Holding
}

// partsOf returns what is to be dealt of a run, without frames that have failed,
// and then what each lease has left.
func (p *Position) partsOf(
	run *farm.Run, failing frames.Set, index map[farm.NodeID]int, sight func(*farm.Lease) deal.Sight,
) []part {
	// Frames that wait for the same frames of others count as ready: their run stands behind
	// that of the others, and pieces are not frames.
	parts := []part{{set: run.ToDo.Union(run.Later).Minus(failing)}}
	for l := range run.OpenLeases {
		if l.Race || l.Left.Empty() {
			continue
		}
		at, there := index[l.Node]
		if !there { // its node is silent, or was told to stop
			parts[0].set = parts[0].set.Union(l.Left)
			continue
		}
		seen := sight(l)
		holding := &simulate.Holding{Node: at, Job: len(p.jobs), Elapsed: seen.Seconds, Share: l.Share}
		if seen.Begun && l.Left.Has(seen.Frame) {
			holding.Begun, holding.InFlight = true, seen.Frame
		}
		parts = append(parts, part{l.Left, holding})
	}
	return parts
}

// partPiece is a piece of a part.
type partPiece struct {
	piece
	part     int
	inFlight bool
}

// piecesOf cuts all parts into pieces of at most size frames, in the order of
// their frames. A frame in flight and one that has failed are pieces of their
// own: not every node may take the latter.
func piecesOf(parts []part, failing frames.Set, size int) (all []partPiece) {
	for i, part := range parts {
		set := part.set
		if part.hold != nil && part.hold.Begun {
			f := part.hold.InFlight
			set = set.Minus(frames.One(f))
			all = append(all, partPiece{piece{f, f, 1}, i, true})
		}
		for _, p := range set.Pieces(size) {
			all = append(all, partPiece{piece{p.First, p.Last, p.Count}, i, false})
		}
	}
	for f := range failing.All() {
		all = append(all, partPiece{piece{f, f, 1}, 0, false})
	}
	slices.SortFunc(all, func(a, b partPiece) int { return cmp.Compare(a.first, b.first) })
	return all
}

// number gives pieces numbers that follow one another where their frames do.
func number(all []partPiece) (numbers []frames.Span) {
	at := 0
	for i, n := range all {
		at++
		if i > 0 && all[i-1].last+1 != n.first {
			at++
		}
		numbers = append(numbers, frames.Span{First: at, Last: at})
	}
	return numbers
}

// startups returns the seconds of the first launch of a run on a node, and of
// further ones, where each piece is a frame.
func startups(m *pace.Model, run *farm.Run, pieces []piece) (first, further float64) {
	startup, _ := m.Startup(run)
	again, _ := m.Relaunch(run)
	first, further = startup.Mean, again.Mean
	if deal.Apiece(run) { // each frame of a piece is a launch
		frames := 0
		for _, pc := range pieces {
			frames += pc.count
		}
		first -= further
		further *= float64(frames) / float64(len(pieces))
		first += further
	}
	return first, further
}

// specOf returns what is dealt of a run whose pieces are its frames.
func specOf(run *farm.Run, numbers []frames.Span) farm.Spec {
	spec := farm.Spec{
		Job: recipeOf(run), Project: run.Spec.Project, Owner: run.Spec.Owner, Kind: farm.Final,
		Recipe: recipeOf(run), Mode: run.Spec.Mode, Tries: run.Spec.Tries, Frames: frames.Of(numbers...),
		Takes: run.Spec.Takes, Licence: run.Spec.Licence, Sequence: run.Spec.Sequence, Terms: run.Terms,
		SceneText: run.Spec.SceneText, Bundle: run.Spec.Bundle, BundleBytes: run.Spec.BundleBytes,
		BundleBefore: run.Spec.BundleBefore, BundleNew: run.Spec.BundleNew,
	}
	if spec.Sequence == farm.ScoutsFirst {
		spec.Sequence = farm.DealersChoice
	}
	if run.Spec.Chunk > 0 {
		spec.Chunk = 1
	}
	return spec
}

// mostFailing bounds the failed frames of a run that are told apart.
const mostFailing = 64

// failedOn returns where the nodes stand on which a frame has failed.
func failedOn(t *farm.Trouble, index map[farm.NodeID]int) (out []int) {
	seen := map[farm.NodeID]bool{}
	for _, a := range t.Attempts {
		if !seen[a.Node] {
			seen[a.Node] = true
			if i, there := index[a.Node]; there {
				out = append(out, i)
			}
		}
	}
	return out
}

// Play plays what comes next as often as plays says, each time with other costs and
// speeds that may be true, and returns what came of each run.
func (p *Position) Play(seed uint64, plays int) map[farm.RunID]Finish {
	out, _ := p.PlayWhile(seed, plays, func() bool { return true }, nil)
	return out
}

// Least is how many plays a forecast rests on at least.
const Least = 5

// PlayWhile is Play that asks between one play and the next whether there is time
// for more, and ends early, with Least plays at least, when there is none.
// alive is asked also in the middle of plays: when it says no, what is known by
// then has to do. A play that contradicts itself says nothing; the first such
// error is returned beside what the others have told.
func (p *Position) PlayWhile(seed uint64, plays int, more, alive func() bool) (map[farm.RunID]Finish, error) {
	var trouble error
	out := map[farm.RunID]Finish{}
	finishes := make([][]float64, len(p.jobs))
	for k := range plays {
		if len(p.jobs) == 0 {
			break
		}
		if k > 0 && !more() && k >= Least {
			plays = k
			break
		}
		_, report, err := p.play(seed, k, alive)
		if errors.Is(err, simulate.ErrStopped) {
			plays = k
			break
		}
		if err != nil {
			if trouble == nil {
				trouble = fmt.Errorf("play %d of what comes next: %w", k, err)
			}
			continue
		}
		for i, j := range report.Jobs {
			if j.Finish > 0 {
				finishes[i] = append(finishes[i], j.Finish)
			}
		}
	}
	for id, why := range p.never {
		out[id] = Finish{Why: why, Never: true}
	}
	for _, id := range p.behind {
		out[id] = Finish{Why: tooFarBehind}
	}
	for i, j := range p.jobs {
		all := finishes[i]
		switch {
		case !j.known:
			out[j.id] = Finish{Why: NoFrame}
			if plays >= Least && len(all) == plays {
				mean, spread := lognormal(all)
				out[j.id] = Finish{
					Why: NoFrame, Early: p.At.Add(span.Of(math.Exp(mean - pace.Normal90*spread))),
				}
			}
		case plays < Least:
			out[j.id] = Finish{Why: "there was no time to play what comes next"}
		case len(all) < (plays+1)/2:
			out[j.id] = Finish{Why: "as things stand it will not end within 60 days"}
		default:
			out[j.id] = p.finish(all)
		}
	}
	return out, trouble
}

// play plays a position once, as one throw of dice has it.
func (p *Position) play(seed uint64, throw int, alive func() bool) (simulate.Farm, *simulate.Report, error) {
	f, model := p.draw(rand.New(rand.NewPCG(seed, uint64(throw))))
	report, err := simulate.Play(
		f, simulate.Options{Model: model, Until: horizon.Seconds(), Coarse: true, GoOn: alive},
	)
	return f, report, err
}

// normal90 is the 90 % point of the standard normal distribution.
const normal90 = pace.Normal90

// finish turns the outcomes of plays into a median and a time that is kept in
// nine of ten cases: quantiles of a lognormal distribution with their mean and
// spread, which is steadier than the ninth of ten plays.
func (p *Position) finish(all []float64) Finish {
	mean, spread := lognormal(all)
	at := func(seconds float64) time.Time {
		return p.At.Add(span.Of(seconds))
	}
	return Finish{Known: true, Median: at(math.Exp(mean)), Late: at(math.Exp(mean + pace.Normal90*spread))}
}

// lognormal returns the mean and the spread of the logarithms of a few outcomes,
// wide enough for that both are known from those few only.
func lognormal(all []float64) (mean, spread float64) {
	logs := make([]float64, len(all))
	for i, t := range all {
		logs[i] = math.Log(t)
	}
	if len(logs) < 2 {
		return stat.Mean(logs, nil), 0
	}
	mean, spread = stat.MeanStdDev(logs, nil)
	if n := float64(len(all)); n > 2 {
		spread *= math.Sqrt(1+1/n) * (1 + (pace.Normal90*pace.Normal90+1)/(4*(n-1)))
	}
	return mean, spread
}

// draw returns a farm as it may really be, and what its dealer knows of it.
func (p *Position) draw(r *rand.Rand) (simulate.Farm, *pace.Model) {
	f := p.farm
	f.Seed = r.Uint64()
	f.Jobs = slices.Clone(f.Jobs)
	model := pace.NewCoarse()
	for i := range f.Jobs {
		j := &f.Jobs[i]
		known := p.jobs[i]
		truth := known.posterior.Draw(r)
		expected := make([]float64, len(known.pieces))
		j.Costs = make([]float64, len(known.pieces))
		spread := known.posterior.Spread()
		for k, pc := range known.pieces {
			expected[k] = known.posterior.Mean(pc.first, pc.last) * float64(pc.count)
			s := spread / math.Sqrt(float64(pc.count))
			j.Costs[k] = truth.Cost((pc.first+pc.last)/2) * float64(pc.count) * math.Exp(s*r.NormFloat64()-s*s/2)
		}
		j.Speeds = make([]float64, len(p.nodes))
		for k, id := range p.nodes {
			part := known.speeds[k] / math.Max(known.posterior.SpeedOf(id, known.before[k]), 1e-12)
			j.Speeds[k] = truth.Speed(id, known.before[k]) * part
			model.Believe(
				&farm.Node{
					ID:    farm.NodeID(k + 1),
					Facts: farm.Facts{Renderers: []farm.Renderer{{Recipe: j.Spec.Recipe}}},
				},
				j.Spec.Recipe, known.speeds[k],
			)
		}
		model.BelieveRun(&farm.Run{Spec: j.Spec}, j.Startup, j.Again, expected)
	}
	return f, model
}
