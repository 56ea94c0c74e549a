package views

import (
	"cmp"
	"context"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/maruel/natural"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/health"
	"vexillum/internal/core/triage"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// endedShown is how many ended runs the farm view shows.
const endedShown = 100

// Farm returns the whole farm at one moment, as far as a sight goes.
func (b *Board) Farm(ctx context.Context, sight farm.Sight) (wire.Farm, error) {
	var out wire.Farm
	err := b.do(ctx, func(t *transaction) error {
		out = wire.Farm{
			Seq: t.State.Seq, Now: t.Now, Facts: b.Facts(t.Now, sight), Hands: b.alerts(t.Now, sight),
		}
		out.Runs = b.runViews(t.Now, sight)
		out.Nodes = b.nodeViews(t.Now, sight)
		out.Projects = projectViews(t.State, sight, t.Now)
		return nil
	})
	return out, err
}

// Runs returns the runs in the order of the queue, then the ended ones, the
// newest first.
func (b *Board) Runs(ctx context.Context, sight farm.Sight) (out []wire.Run, err error) {
	err = b.do(ctx, func(t *transaction) error { out = b.runViews(t.Now, sight); return nil })
	return out, err
}

// RunsNamed returns the runs that a name may mean, the newest first: the newest
// run of each job of that name, the run of that full name in each project, and
// the one of that number, written #45. Job and run may have their project before
// them, with a slash.
func (b *Board) RunsNamed(ctx context.Context, name string, sight farm.Sight) (out []wire.Run, err error) {
	name = strings.TrimSpace(name)
	if name == "" {
		return nil, refusal.New(
			refusal.Invalid, "name", "the name of the run is empty; give one like salt_010, salt_010/final-2 or #45",
		)
	}
	err = b.do(ctx, func(t *transaction) error {
		out = []wire.Run{}
		for _, run := range t.State.Named(name) {
			if sight.Sees(run.Spec.Project) {
				out = append(out, b.runFor(run, t.Now, sight))
			}
		}
		return nil
	})
	return out, err
}

// RunsOf returns all runs of a job, the newest first.
func (b *Board) RunsOf(ctx context.Context, project, job string) (out []wire.Run, err error) {
	err = b.do(ctx, func(t *transaction) error {
		out = []wire.Run{}
		for _, run := range t.State.RunsOf(project, job) {
			if run.Spec.Job == job {
				out = append(out, b.RunView(run, t.Now))
			}
		}
		slices.SortFunc(out, func(a, b wire.Run) int { return cmp.Compare(b.ID, a.ID) })
		return nil
	})
	return out, err
}

// OneRun returns one run. One that is not seen is not there.
func (b *Board) OneRun(ctx context.Context, id farm.RunID, sight farm.Sight) (out wire.Run, err error) {
	err = b.do(ctx, func(t *transaction) error {
		run := t.State.Runs[id]
		if run == nil || !sight.Sees(run.Spec.Project) {
			return refusal.New(refusal.NotFound, "run", "there is no run %d", id)
		}
		out = b.runFor(run, t.Now, sight)
		return nil
	})
	return out, err
}

// NodeNumber returns the number of the node of a name.
func (b *Board) NodeNumber(ctx context.Context, name string) (id farm.NodeID, err error) {
	err = b.do(ctx, func(t *transaction) error {
		n := t.State.NodeNamed(name)
		if n == nil {
			return refusal.New(refusal.Invalid, "node", "there is no node %.60q; vexillum nodes shows them", name)
		}
		id = n.ID
		return nil
	})
	return id, err
}

// saysOf returns what its node says of a frame: that the renderer is silent and when it is
// ended, or how far a check is that takes long.
func (b *Board) saysOf(run *farm.Run, frame int) string {
	for l := range run.OpenLeases {
		if p := b.e.Progress(l.Node)[l.ID]; p.Frame != nil && *p.Frame == frame {
			if p.Detail == "" {
				return ""
			}
			return "it is " + p.Detail
		} else if p.Checking != "" && slices.Contains(p.Verifying, frame) {
			return "its node is " + p.Checking
		}
	}
	return ""
}

// Why says in one sentence why a run stands where it stands; with a node, why
// that one works on it or does not; with a frame, where that one stands.
func (b *Board) Why(
	ctx context.Context, id farm.RunID, node string, frame *int, sight farm.Sight,
) (out wire.Why, err error) {
	err = b.do(ctx, func(t *transaction) error {
		run := t.State.Runs[id]
		switch n := t.State.NodeNamed(node); {
		case run == nil:
			return refusal.New(refusal.NotFound, "run", "there is no run %d", id)
		case node != "" && n == nil:
			return refusal.New(refusal.NotFound, "node", "there is no node %s", node)
		case frame != nil:
			out.Why = b.why.Frame(run, *frame, t.Now)
			if says := b.saysOf(run, *frame); says != "" {
				out.Why += "; " + says
			}
			if waits := b.waits(run, frame); waits != "" {
				out.Why += "; " + waits
			}
		case node != "":
			out.Why = b.why.Pair(run, n, t.Now)
		default:
			out.Why = b.whyRun(run, t.Now)
		}
		out.Why = b.veiled(out.Why, sight)
		return nil
	})
	return out, err
}

// Nodes returns all nodes: racks first, then desks, each by name.
func (b *Board) Nodes(ctx context.Context, sight farm.Sight) (out []wire.Node, err error) {
	err = b.do(ctx, func(t *transaction) error { out = b.nodeViews(t.Now, sight); return nil })
	return out, err
}

// Node returns one node.
func (b *Board) Node(ctx context.Context, id farm.NodeID, sight farm.Sight) (out wire.Node, err error) {
	err = b.do(ctx, func(t *transaction) error {
		n := t.State.Nodes[id]
		if n == nil {
			return refusal.New(refusal.NotFound, "node", "there is no node %d", id)
		}
		out = b.nodeFor(n, t.Now, sight)
		for _, x := range n.KnownTraits().All() {
			out.Traits = append(out.Traits, wire.Trait{Name: x.Name, Value: x.Value, Source: string(x.Source)})
		}
		return nil
	})
	return out, err
}

// Projects returns the projects that somebody sees, by name.
func (b *Board) Projects(ctx context.Context, sight farm.Sight) (out []wire.Project, err error) {
	err = b.do(ctx, func(t *transaction) error { out = projectViews(t.State, sight, t.Now); return nil })
	return out, err
}

// NodeNames returns the names of all nodes.
func (b *Board) NodeNames(ctx context.Context) (out map[int64]string, err error) {
	err = b.do(ctx, func(t *transaction) error {
		out = map[int64]string{}
		for id, n := range t.State.Nodes {
			out[int64(id)] = n.Name
		}
		return nil
	})
	return out, err
}

func projectViews(s *farm.State, sight farm.Sight, now time.Time) []wire.Project {
	out := []wire.Project{}
	for _, name := range slices.Sorted(maps.Keys(s.Projects)) {
		if sight.Sees(name) {
			out = append(out, ProjectView(s, *s.Projects[name], now))
		}
	}
	return out
}

func (b *Board) runViews(now time.Time, sight farm.Sight) []wire.Run {
	out := []wire.Run{}
	for _, run := range b.s.Queue() {
		if sight.Sees(run.Spec.Project) {
			out = append(out, b.runFor(run, now, sight))
		}
	}
	for _, run := range b.recentlyEnded(sight) {
		out = append(out, b.runFor(run, now, sight))
	}
	return out
}

// recentlyEnded returns the ended runs that are told with the farm to somebody, the newest
// first.
func (b *Board) recentlyEnded(sight farm.Sight) []*farm.Run {
	out := make([]*farm.Run, 0, endedShown)
	for run := range b.s.Ended {
		if len(out) == endedShown {
			break
		}
		if sight.Sees(run.Spec.Project) {
			out = append(out, run)
		}
	}
	return out
}

func (b *Board) nodeViews(now time.Time, sight farm.Sight) []wire.Node {
	out := []wire.Node{}
	for _, n := range b.ShownNodes() {
		out = append(out, b.nodeFor(n, now, sight))
	}
	return out
}

// ShownNodes returns the nodes that have not retired: racks first, then desks,
// each by name.
func (b *Board) ShownNodes() []*farm.Node {
	var out []*farm.Node
	for _, n := range b.s.Nodes {
		if n.RetiredAt.IsZero() {
			out = append(out, n)
		}
	}
	slices.SortFunc(out, func(a, b *farm.Node) int {
		return cmp.Or(
			cmp.Compare(b.Kind, a.Kind), natural.Compare(a.Name, b.Name),
		)
	})
	return out
}

func instant(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// Memory returns the most main memory that a launch of a run is expected to grow to, as was
// measured; false where nothing was. The run need not be in the queue. Only in the loop.
func (b *Board) Memory(run *farm.Run) (bytes int64, known bool) {
	bytes, known = b.m.Memory(run, run.Spec.Frames)
	if b.s.Runs[run.ID] == nil {
		b.m.Forget(run.ID)
	}
	return bytes, known
}

// RunView returns a run as it travels. Only in the loop.
func (b *Board) RunView(run *farm.Run, now time.Time) wire.Run {
	spec := run.Spec
	v := wire.Run{
		ID: int64(run.ID), Name: spec.Name(), Job: spec.Job, Kind: string(spec.Kind),
		Number: spec.Number, Project: spec.Project, State: string(run.State),
		Why: b.whyRun(run, now), HeldFor: string(run.Held), Recipe: spec.Recipe, RecipeVersion: spec.RecipeVersion,
		Renderer: run.Terms.Renderer,
		Bundle:   spec.Bundle, Scene: spec.Scene,
		Output: spec.Output, Width: spec.Width, Height: spec.Height,
		Values: spec.Values, Needs: spec.Needs, Priority: run.Terms.Level.String(),
		Ceiling: run.Terms.Ceiling.String(), Due: instant(run.Terms.Due),
		Sequence: string(spec.Sequence), Scouts: spec.Scouts.String(), Put: run.Terms.Put,
		Takes:          wire.Amounts(spec.Takes),
		LaunchSettings: LaunchValuesView(b.s.LaunchSettingsFor(spec.Project, spec.Recipe)),
		Passes:         spec.PassNames(), Tries: spec.Tries, HoldAfter: spec.HoldAfter, Owner: spec.Owner,
		Frames: run.FramesText(), Shot: spec.ShotRange().String(), ShotWhy: spec.Shot.Why,
		FrameCount: spec.Frames.Len(), DoneCount: run.Done.Len(), ParkedCount: run.NeedsHand().Len(),
		SubmittedAt: run.SubmittedAt, StartedAt: instant(run.StartedAt), EndedAt: instant(run.EndedAt),
		Nodes: []string{}, Changed: run.Changed, Forecast: b.Forecast(run, now),
		Troubles: b.troubles(run), Suspects: suspects(run), After: b.after(run), From: int64(spec.From),
		HasFinal: len(spec.Asked) > 0, Movie: spec.Movie() != "",
	}
	if t := spec.Tiles; t != nil {
		v.Tiles = &wire.RunTiles{Frame: t.Frame, Overlap: t.Overlap, Stitched: run.Stitched, File: spec.StillFile("")}
		for _, r := range t.Rects {
			v.Tiles.Rects = append(v.Tiles.Rects, [4]int{r.Left, r.Top, r.Right, r.Bottom})
		}
	}
	if p := spec.Preset; p != nil {
		v.Preset = &wire.RunPreset{Name: p.Name, Version: p.Version, Changed: wire.List(p.Changed)}
	}
	v.MemoryPeak, _ = b.m.Memory(run, frames.Set{})
	if told, known := b.preflown[run.ID]; known && !run.State.Closed() {
		v.Preflight = &told
	}
	v.AtRisk = b.atRisk(run, v.Forecast, now)
	var rendering, verifying, delivering []frames.Span
	one := func(f int) frames.Span { return frames.Span{First: f, Last: f} }
	at := map[farm.NodeID]bool{}
	for l := range run.OpenLeases {
		if !at[l.Node] {
			at[l.Node] = true
			v.Nodes = append(v.Nodes, b.s.NodeName(l.Node))
		}
		p := b.e.Progress(l.Node)[l.ID]
		for _, frame := range p.Verifying {
			if l.Left.Has(frame) {
				verifying = append(verifying, one(frame))
			}
		}
		if p.Frame != nil && l.Left.Has(*p.Frame) {
			rendering = append(rendering, one(*p.Frame))
		}
	}
	for frame := range run.Delivering {
		delivering = append(delivering, one(frame))
	}
	checking, failing, suspect := frames.Of(verifying...), run.Failing(), run.Suspects()
	busy := frames.Of(rendering...).Minus(checking)
	v.InFlight = busy.Len() + checking.Len()
	v.Sets = b.setsView(run, byState{
		"parked": run.NeedsHand(), "skipped": run.GivenUp(), "failed": failing.Minus(busy).Minus(checking),
		"rendering": busy, "verifying": checking,
		"delivering": frames.Of(delivering...), "dealt": run.Dealt().Minus(busy).Minus(checking).Minus(failing),
		"to do": run.ToDo.Union(run.Later).Minus(failing), "done": run.Done.Minus(suspect), "suspect": suspect,
	})
	if newest, ok := b.newest[run.ID]; ok {
		v.Newest, v.NewestAt = &newest.Frame, &newest.At
	}
	return v
}

// after returns the runs that a run waits for, or has waited for.
func (b *Board) after(run *farm.Run) []wire.RunAfter {
	out := []wire.RunAfter{}
	for _, a := range run.Spec.After {
		if other := b.s.Runs[a.Run]; other != nil {
			out = append(out, wire.RunAfter{Run: int64(a.Run), Name: other.Spec.Name(), Frames: a.Frames})
		}
	}
	return out
}

// troublesShown bounds the frames in trouble that a view of a run lists.
const troublesShown = 200

func suspects(run *farm.Run) []wire.FrameSuspect {
	out := []wire.FrameSuspect{}
	for _, frame := range slices.Sorted(maps.Keys(run.Suspect)) {
		if run.Done.Has(frame) && len(out) < troublesShown {
			out = append(out, wire.FrameSuspect{Frame: frame, Why: run.Suspect[frame]})
		}
	}
	return out
}

// ruledFor is the time after which verdicts are judged again where no more has failed: what comes
// out well changes them slowly, and judging takes milliseconds of the loop.
const ruledFor = 10 * time.Second

// rulings returns the verdicts on failed tries, with all that has failed so far.
func (b *Board) rulings() *triage.Rulings {
	now, last := b.w.Now(), b.s.LastMishap()
	if b.ruled == nil || b.ruledLast != last || b.ruledSeq != b.s.Seq && now.Sub(b.ruledAt) >= ruledFor {
		b.ruled, b.ruledLast, b.ruledSeq, b.ruledAt = triage.Rule(b.s), last, b.s.Seq, now
	}
	return b.ruled
}

// attempt returns a failed try at a frame as it is told.
func (b *Board) attempt(run farm.RunID, frame int, a farm.Attempt) wire.Attempt {
	return wire.Attempt{
		Node: b.s.NodeName(a.Node), NodeID: int64(a.Node), Lease: int64(a.Lease), Cause: a.Cause, Message: a.Message,
		Blame: blameView(b.rulings().Of(run, frame, a)), At: a.At,
	}
}

func (b *Board) attempts(run farm.RunID, frame int, all []farm.Attempt) []wire.Attempt {
	out := make([]wire.Attempt, len(all))
	for i, a := range all {
		out[i] = b.attempt(run, frame, a)
	}
	return out
}

func (b *Board) troubles(run *farm.Run) []wire.FrameTrouble {
	out := []wire.FrameTrouble{}
	for _, frame := range slices.Sorted(maps.Keys(run.Trouble)) {
		t := run.Trouble[frame]
		if len(t.Attempts) == 0 || len(out) >= troublesShown {
			continue
		}
		v := wire.FrameTrouble{
			Frame:  frame,
			Parked: run.Parked.Has(frame),
			Tried:  t.Tried(),
			Failed: b.attempts(run.ID, frame, t.Attempts),
		}
		v.Note, v.Skipped = run.SkippedFor(frame)
		out = append(out, v)
	}
	return out
}

// NodeView returns a node as it travels. Only in the loop.
func placesSeen(sights []farm.PlaceSight) []wire.PlaceSeen {
	out := make([]wire.PlaceSeen, 0, len(sights))
	for _, p := range sights {
		out = append(out, wire.PlaceSeen{
			Name: p.Place, Reads: p.Reads, Writes: p.Writes, Why: p.Why, ReadRate: p.ReadRate, WriteRate: p.WriteRate,
		})
	}
	return out
}

// NodeView returns a node as people see it.
func (b *Board) NodeView(n *farm.Node, now time.Time) wire.Node {
	v := wire.Node{
		ID: int64(n.ID), Name: n.Name, Kind: string(n.Kind), State: b.nodeState(n),
		Reach: string(n.Reach), Duty: string(n.Duty), Health: string(n.Health),
		Trial: instant(n.TrialAt), Since: n.ReachSince, Why: b.why.Node(n, now), OS: n.Facts.OS,
		System: n.Facts.System, Cores: n.Facts.Cores, Memory: n.Facts.MemoryBytes,
		Disk: n.Facts.DiskBytes, Speed: n.Facts.Speed, Version: n.Facts.Version,
		Renderers: []wire.Renderer{}, Devices: []wire.Device{}, Traits: []wire.Trait{},
		Findings: []wire.Finding{}, Works: []wire.Work{}, Settings: settingsView(n),
		Retired: !n.RetiredAt.IsZero(), Changed: n.Changed, Means: wire.Means(n.Facts.Means),
		Places:   placesSeen(b.s.Sights[n.ID]),
		DiskRate: n.Facts.DiskRate, NetworkRate: n.Facts.NetworkRate, EnrolledAt: instant(n.EnrolledAt),
		OffUntil: instant(n.OffUntil),
	}
	v.Means.Permits = wire.List(n.Facts.Means.Permits)
	for _, d := range n.Facts.Devices {
		aside := ""
		if n.DeviceAside(d.ID) {
			aside = n.Aside[d.ID].Why
		}
		v.Devices = append(v.Devices, wire.Device{ID: d.ID, Model: d.Model, Memory: d.MemoryBytes, Aside: aside})
	}
	if h := n.Settings.Hours; h != nil {
		on, until := h.At(now)
		v.OnHours, v.HoursChange = on, instant(until)
	}
	for _, r := range n.Facts.Renderers {
		v.Renderers = append(v.Renderers, wire.Renderer(r))
	}
	live := b.live[n.ID]
	if live == nil {
		return v
	}
	v.Processor, v.MemoryUsed = hundredths(live.Processor), hundredths(live.Memory)
	if n.Reach == farm.Online {
		v.Findings = append(v.Findings, b.findings(n, live, now)...)
		if len(v.Findings) > 0 && n.Health == farm.Fine {
			v.Health = "warned"
		}
	}
	for _, l := range b.s.LeasesOf(n.ID) {
		p := b.e.Progress(n.ID)[l.ID]
		w := wire.Work{
			Run: int64(l.Run), RunName: b.s.Runs[l.Run].Spec.Name(), Lease: int64(l.ID),
			Frames: l.Left.String(), Share: ShareView(l.Share), Frame: p.Frame, Phase: p.Phase,
			Detail: p.Detail, Checking: p.Checking,
			Fraction: hundredths(p.Fraction), Since: p.Since, MemoryBytes: inSteps(p.MemoryBytes),
		}
		if w.Phase == "" {
			w.Phase, w.Since = "starting", l.OpenedAt
		}
		v.Works = append(v.Works, w)
	}
	return v
}

// hundredths and inSteps tell what is measured no finer than anybody reads it, so
// that what hardly moves is not told again and again.
func hundredths(part float64) float64 { return math.Round(100*part) / 100 }

func inSteps(bytes int64) int64 {
	const step = 1 << 20
	if bytes < 64*step {
		return bytes
	}
	return (bytes + step/2) / step * step
}

// ShareView returns a share as it is told.
func ShareView(s farm.Share) wire.Share {
	return wire.Share{Cores: s.Cores.String(), MemoryBytes: s.MemoryBytes, Devices: wire.List(s.Devices)}
}

// findings says what is wrong with a machine.
func (b *Board) findings(n *farm.Node, live *Live, now time.Time) []wire.Finding {
	var out []wire.Finding
	for _, x := range health.Look(health.Signs{
		Name: n.Name, ClockOff: live.Signs.ClockOff, DiskFree: live.Signs.DiskFree, DiskTotal: live.Signs.DiskTotal,
		SwapUsed: live.Signs.SwapUsed,
		Memory:   n.Facts.MemoryBytes, Starts: live.starts, Version: n.Facts.Version, Service: b.version,
		Renderers: len(n.Facts.Renderers), Killed: live.Killed,
	}, now) {
		out = append(out, wire.Finding(x))
	}
	return out
}

// nodeState is the one word about a node that matters most.
func (b *Board) nodeState(n *farm.Node) string {
	switch {
	case !n.RetiredAt.IsZero():
		return "retired"
	case n.EnrolledAt.IsZero():
		return "announced"
	case n.Reach != farm.Online:
		return string(n.Reach)
	case n.Health == farm.Sidelined:
		return "sidelined"
	case n.Duty != farm.OnDuty:
		return string(n.Duty)
	case !b.s.Idle(n.ID):
		return "rendering"
	}
	return "ready"
}

// Facts returns the farm in a few numbers. Only in the loop.
func (b *Board) Facts(now time.Time, sight farm.Sight) wire.FarmFacts {
	facts := wire.FarmFacts{FramesAnHour: b.finished.anHour(now), Active: b.active}
	for _, n := range b.s.Nodes {
		if n.Reach == farm.Online {
			facts.NodesOnline++
			if !b.s.Idle(n.ID) {
				facts.NodesRendering++
			}
		}
	}
	for _, run := range b.s.Queue() {
		if finish := b.Forecast(run, now); finish.Known && sight.Sees(run.Spec.Project) &&
			(facts.NextFinish == nil || finish.Median.Before(*facts.NextFinish)) {
			facts.NextFinish = finish.Median
		}
	}
	return facts
}

func firstLine(text string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(text), "\n")
	if len(line) > 160 {
		line = line[:160] + "…"
	}
	return line
}

func join(what, why string) string {
	if why == "" {
		return what + "."
	}
	return what + ": " + why + "."
}
