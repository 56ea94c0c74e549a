package node

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
	"github.com/kballard/go-shellquote"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/picture"
	"vexillum/internal/publish"
	"vexillum/internal/recipe"
	"vexillum/internal/scenefile"
	"vexillum/internal/wire"
)

// Trial is a recipe tried by hand: its renderer is launched on this machine, in a
// folder of its own and without a service, just as a node would.
type Trial struct {
	Recipe *recipe.Recipe
	Scene  string      // path of the scene
	Frames frames.Span // to be rendered
	Shot   frames.Span // all frames of the animation
	Width  int         // pixels
	Height int
	Values map[string]string // settings, complete
	Told   farm.SceneShot    // what the scene says
	Passes []farm.Pass       // written beside the picture
	Folder string            // empty; what the renderer leaves stays in it

	Launched func(program string, arguments, environment []string) // of each launch
	Heard    func(line, meaning string)                            // each line, and how it was understood

	// What follows is for trials on a node of a farm; left out, it is as by hand.
	node     string
	root     string // folder of the scene place, with the scene in it as inside; empty: its own folder
	inside   string
	speed    float64
	share    func() own
	settings wire.LaunchValues
	lease    *leased // of a run, to be rendered as it is; nil: one is made of what is above
	contents *contents
	exchange exchange
	pinned   *scenefile.Looker
	agent    *Agent // of the node; nil: by hand
	errand   int64
}

// TrialFrame is what came of one frame.
type TrialFrame struct {
	Frame   int
	Good    bool
	Bytes   int64
	Hash    string
	Startup float64         // seconds, of the launch, with its first frame
	Render  float64         // seconds
	Beside  []string        // names of what was left beside the picture
	Warning string          // that makes it suspect
	Layers  []picture.Layer // that stand in its picture
	Small   []byte          // the picture, as a small JPEG
	Cause   string          // of a failure
	Message string
}

// TrialReport is what came of a trial.
type TrialReport struct {
	Frames  []TrialFrame
	Missing []string // what the recipe reads, or could, and no line has told
}

// Try tries a recipe. The error says why nothing could be tried; that a frame has
// failed is no error.
func Try(ctx context.Context, t Trial) (TrialReport, error) {
	if err := os.MkdirAll(t.Folder, 0o700); err != nil {
		return TrialReport{}, fmt.Errorf("making the folder of the trial: %w", err)
	}
	log := slog.New(slog.DiscardHandler)
	if t.share == nil {
		t.node, t.speed = "this machine", 1
		t.share = func() own { return own{whole: true, threads: runtime.NumCPU(), part: 1} }
	}
	host, end, err := t.host(log)
	if err != nil {
		return TrialReport{}, err
	}
	defer end()
	if t.lease == nil { // a recipe is tried, not a frame of a run
		if err := t.probe(ctx, host.commands); err != nil {
			return TrialReport{}, err
		}
	}
	if t.agent != nil {
		var giveBack func()
		if t.share, giveBack, err = t.agent.trialShare(ctx, t.errand, t.share(), t.waits); err != nil {
			return TrialReport{}, err
		}
		defer giveBack()
	}
	book := &trialBook{}
	heard := &hearing{tell: t.Heard, fed: t.Recipe.Mode == farm.ModeFeed}
	w := &work{
		lease: t.leased(), exchange: t.exchange,
		svc: book, log: log, staging: t.Folder, status: newStatus(func() {}), diary: newDiary(),
		ready: make(chan struct{}), trial: true,
		host: host,
	}
	w.host.verified, w.host.understood, w.host.share = book.verified, heard.hear, t.share
	if _, err := w.run(ctx); err != nil {
		return TrialReport{}, err
	}
	heard.end()
	slices.SortStableFunc(book.frames, func(a, b TrialFrame) int { return a.Frame - b.Frame })
	report := TrialReport{Frames: book.frames}
	if t.lease == nil { // a recipe is tried, not a frame
		report.Missing = heard.missing(t.Recipe.Read)
	}
	return report, nil
}

// probe runs the probe of the recipe. A renderer that nodes could not use is not tried.
func (t *Trial) probe(ctx context.Context, c *commands) error {
	got, there := c.probe(ctx, *t.Recipe)
	switch {
	case !there:
		return nil // launching it reports which programs were looked for
	case got.Unfit != "":
		return fmt.Errorf("%s cannot be used: %s%s", got.Path, got.Unfit, farm.Quoted(got.Printed))
	case t.Heard != nil:
		t.Heard(strings.TrimSpace(got.Path+" "+got.Version), "probe")
	}
	return nil
}

// waits tells that leases have all of the node.
func (t *Trial) waits() {
	if t.Heard != nil {
		t.Heard(t.node+" is busy: its leases have all of its cores. This begins when one of them ends.", "")
	}
}

// host returns what the trial has of the machine: on a node, the same as a lease. end must be
// called when it is over.
func (t *Trial) host(log *slog.Logger) (host machine, end func(), err error) {
	host = machine{
		node: t.node, speed: t.speed, launched: t.Launched, contents: t.contents, pinned: t.pinned,
	}
	if a := t.agent; a != nil {
		host.launcher, host.accounts, host.commands = a.starter, a.accounts, a.commands()
		host.room, host.looking = a.room, a.looking
		return host, func() {}, nil
	}
	if host.commands, end, err = commandsAsSelf(t.Folder, log); err != nil {
		return host, nil, err
	}
	host.launcher = host.commands.launcher
	return host, end, nil
}

// leased returns the lease that the trial renders.
func (t *Trial) leased() *leased {
	if t.lease != nil {
		return t.lease
	}
	root, inside := t.root, t.inside
	if root == "" {
		root, inside = filepath.Dir(t.Scene), filepath.Base(t.Scene)
	}
	var passes []wire.LeasePass
	for _, p := range t.Passes {
		passes = append(passes, wire.LeasePass{Name: p.Name})
	}
	return &leased{Recipe: *t.Recipe, Lease: wire.Lease{
		ID: 1, Run: 1, RunName: "the trial", Recipe: t.Recipe.Name, Frames: frames.Of(t.Frames).String(),
		ShotFirst: t.Shot.First, ShotLast: t.Shot.Last, SceneRoot: root, Scene: inside, Width: t.Width,
		Height: t.Height, Values: t.Values, Passes: passes, LaunchSettings: t.settings,
	}}
}

// LaunchText writes what a renderer is launched with as a shell would take it.
func LaunchText(program string, arguments []string) string {
	return shellquote.Join(append([]string{program}, arguments...)...)
}

// View returns what came of a trial as people see it, but for what its renderer said.
func (r TrialReport) View(t *Trial) wire.Trial {
	out := wire.Trial{Lines: []wire.TrialLine{}, Frames: []wire.TrialFrame{}, Notes: append([]string{}, r.Missing...)}
	if t.Recipe.Picture != farm.Data {
		out.Width, out.Height = t.Width, t.Height
	}
	if len(r.Frames) > 0 && t.lease == nil && t.Recipe.NeedsShot() && t.Shot == t.Frames {
		out.Notes = append(out.Notes, fmt.Sprintf(
			"the animation is taken to be frame %v alone; give all its frames as the shot, as pictures depend on them",
			frames.Of(t.Frames),
		))
	}
	for _, f := range r.Frames {
		frame := wire.TrialFrame{
			Frame: f.Frame, Good: f.Good, Bytes: f.Bytes, StartupSeconds: f.Startup, RenderSeconds: f.Render,
			Passes: append([]string{}, f.Beside...), Layers: []string{}, Warning: f.Warning, Cause: f.Cause,
			Message: f.Message,
		}
		for _, l := range f.Layers {
			frame.Layers = append(frame.Layers, l.String())
		}
		out.Frames = append(out.Frames, frame)
		if f.Good && out.Picture == nil {
			out.Picture = f.Small
		}
	}
	return out
}

// trialBook takes the place of the service: it notes what is reported and wants
// nothing delivered.
type trialBook struct {
	mu     sync.Mutex
	frames []TrialFrame
	seen   map[int]TrialFrame
}

// verified hears what stands in a picture, before it is reported.
func (b *trialBook) verified(frame int, good *verified) {
	seen := TrialFrame{Layers: good.layers}
	if good.image != nil {
		seen.Small, _ = picture.Thumbnail(good.image) // it is for looks alone
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.seen == nil {
		b.seen = map[int]TrialFrame{}
	}
	b.seen[frame] = seen
}

func (b *trialBook) report(_ context.Context, items ...wire.ReportItem) ([]wire.Verdict, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := make([]wire.Verdict, len(items))
	for i, item := range items {
		out[i] = wire.Verdict{Verdict: wire.VerdictDiscard, Why: "it is a trial"}
		var beside []string
		for _, f := range item.Files {
			if f.Pass != "" {
				beside = append(beside, f.Pass)
			}
		}
		b.frames = append(b.frames, TrialFrame{
			Beside: beside, Warning: item.Warning, Layers: b.seen[item.Frame].Layers, Small: b.seen[item.Frame].Small,
			Frame: item.Frame, Good: item.Outcome == wire.OutcomeGood, Bytes: item.Bytes, Hash: item.Hash,
			Startup: item.StartupSeconds, Render: item.RenderSeconds, Cause: item.Cause, Message: item.Message,
		})
	}
	return out, nil
}

func (*trialBook) thumbnail(context.Context, int64, int, []byte) {}

func (*trialBook) furtherFrames(context.Context, int64) (frames.Set, error) { return frames.Set{}, nil }

func (*trialBook) checkpoint(context.Context, int64, int) (wire.Checkpoint, error) {
	return wire.Checkpoint{}, nil
}

func (*trialBook) checkpointFile(context.Context, int64, int, string) error {
	return fmt.Errorf("%w: a trial has no checkpoints", publish.ErrNoPlace)
}

func (*trialBook) upload(context.Context, upload) (publish.Standing, error) {
	return publish.Standing{}, fmt.Errorf("%w: a trial delivers nothing", publish.ErrNoPlace)
}

// hearing counts what lines have told.
type hearing struct {
	tell                          func(line, meaning string)
	fed                           bool
	mu                            sync.Mutex
	begins, ends, progress, timed int
	memory                        int
	row                           int // lines of progress in a row
}

// hear says how a line was understood.
func (h *hearing) hear(line string, m mark, cause string) {
	var parts []string
	say := func(count *int, text string, args ...any) {
		*count++
		parts = append(parts, fmt.Sprintf(text, args...))
	}
	h.mu.Lock()
	switch {
	case m.begins != nil:
		say(&h.begins, "frame %d begins", *m.begins)
	case m.unnamed:
		say(&h.begins, "a frame begins")
	}
	switch {
	case m.ends != nil:
		say(&h.ends, "frame %d is finished", *m.ends)
	case m.ended:
		say(&h.ends, "the frame is finished")
	}
	if m.seconds > 0 {
		say(&h.timed, "it took %v s", m.seconds)
	}
	if m.memory > 0 {
		say(&h.memory, "it has %s of memory", humanize.IBytes(uint64(m.memory)))
	}
	if m.warning {
		parts = append(parts, "makes the frame suspect")
	}
	left := 0
	if m.progress != nil {
		h.progress++
		h.row++
		parts = append(parts, fmt.Sprintf("%.0f %% of the frame", 100**m.progress))
	} else {
		left = h.endRow()
	}
	quiet := h.row > toldInARow
	h.mu.Unlock()
	if quiet || h.tell == nil {
		return
	}
	h.tellLeft(left)
	if m.feed != "" && h.fed {
		parts = append(parts, "of the feed protocol: "+m.feed)
	}
	switch {
	case m.fails != "":
		parts = append(parts, "the frame has failed: "+cause)
	case cause != "":
		parts = append(parts, "names the cause: "+cause)
	}
	h.tell(line, strings.Join(parts, ", "))
}

// endRow ends a row of lines of progress, and returns how many of it were not shown.
// The caller holds mu.
func (h *hearing) endRow() int {
	left := max(0, h.row-toldInARow)
	h.row = 0
	return left
}

// tellLeft tells how many lines of progress were not shown, if any.
func (h *hearing) tellLeft(left int) {
	if left > 0 {
		h.tell(fmt.Sprintf("… %s of progress …", english.Plural(left, "more line", "")), "")
	}
}

// end is called after the last line.
func (h *hearing) end() {
	h.mu.Lock()
	left := h.endRow()
	h.mu.Unlock()
	if h.tell != nil {
		h.tellLeft(left)
	}
}

// toldInARow is how many lines of progress in a row are shown.
const toldInARow = 3

// missing says what no line has told.
func (h *hearing) missing(r recipe.Reading) (out []string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	switch {
	case h.fed: // frames begin when they are handed over
	case r.Begins == "" && r.Ends == "" && h.timed > 0: // it says what frames took
	case r.Begins == "" && r.Ends == "":
		out = append(out, "the recipe does not say how a line tells that a frame begins (read.begins): times are taken from files")
	case r.Begins != "" && h.begins == 0:
		out = append(out, "no line told that a frame begins: does read.begins match what the renderer says?")
	}
	for _, what := range []struct {
		asked bool
		count int
		field string
	}{
		{r.Ends != "", h.ends, "that a frame is finished: does read.ends match"},
		{r.Seconds != "", h.timed, "what a frame took: does read.seconds match"},
		{r.Memory != nil, h.memory, "how much memory it has: does read.memory match"},
	} {
		if what.asked && what.count == 0 {
			out = append(out, "no line told "+what.field+" what the renderer says?")
		}
	}
	switch {
	case r.Progress == "" && r.Percent == "":
		out = append(out, "the recipe reads no progress (read.progress or read.percent): bars stand still within a frame")
	case h.progress == 0:
		out = append(out, "no line told progress: does read.progress or read.percent match what the renderer says?")
	}
	return out
}
