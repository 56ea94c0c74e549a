package node

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"vexillum/internal/account"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/protocol/journal"
	"vexillum/internal/core/triage"
	"vexillum/internal/launcher"
	"vexillum/internal/publish"
	"vexillum/internal/recipe"
	"vexillum/internal/scenefile"
	"vexillum/internal/wire"
)

// service is what work on a lease needs of the service. Its calls go on
// trying while the service is away.
type service interface {
	report(ctx context.Context, items ...wire.ReportItem) ([]wire.Verdict, error)
	thumbnail(ctx context.Context, run int64, frame int, jpeg []byte)
	furtherFrames(
		ctx context.Context, lease int64,
	) (frames.Set, error) // for a renderer that stays up, or single launches
	upload(ctx context.Context, to upload) (publish.Standing, error)
	// checkpoint returns where the renderer of a lease can go on; checkpointFile gets it.
	checkpoint(ctx context.Context, lease int64, before int) (wire.Checkpoint, error)
	checkpointFile(ctx context.Context, lease int64, frame int, to string) error
}

// leased is a lease with the recipe that it names.
type leased struct {
	wire.Lease
	Recipe recipe.Recipe `json:"how"`
}

// work is one lease in the hands of this node.
type work struct {
	lease   *leased
	life    string // of the farm that gave the lease
	over    bool   // the lease has ended at the service: only what is finished is offered
	trial   bool   // it is tried by hand: its files stay
	staging string // folder of the lease's own
	svc     service
	// of the service, for bundles
	exchange exchange
	log      *slog.Logger
	host     machine
	status   *status
	diary    *diary
	stops    stops
	offers   offers
	launch   int           // number of the newest
	fetched  farm.Fetched  // of the bundle, since a frame told last
	ready    chan struct{} // closed when orders can be taken
	ended    wire.Ended    // once it has
}

// machine is what work on a lease has of the machine.
type machine struct {
	node     string
	speed    float64       // index of the processor
	stall    time.Duration // for which a renderer may give no sign of life; 0: as the lease says
	send     bool          // frames go to the service even where their place is seen
	launcher *launcher.Client
	share    func() own                                            // what a launch may use, as things are then
	say      func(at time.Time, stream int, text string)           // hears what renderers say; may be nil
	launched func(program string, arguments, environment []string) // hears of each launch; may be nil
	// hears how each line was understood; may be nil
	understood func(line string, m mark, cause string)
	// hears what stands in each good picture; may be nil
	verified func(frame int, seen *verified)
	room     *room             // may be nil
	contents *contents         // of bundles; may be nil
	pinned   *scenefile.Looker // may be nil
	owned    *owned            // may be nil
	looking  chan struct{}     // one slot for each picture looked at at once; may be nil
	accounts *account.Policy   // nil: by hand, under the own account
	commands *commands         // of recipes
}

// stops are the ways in which work ends early.
type stops struct {
	ctx     context.Context // of the session: reports outlive an order to stop
	stopNow context.CancelCauseFunc
	stopped <-chan struct{} // closed by stopNow

	mu        sync.Mutex
	atBorder  bool
	abandoned error // the session is over: nothing may be reported any more
}

// askBorder lets the work end between two frames.
func (s *stops) askBorder() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.atBorder = true
}

// bordered reports whether the work is to end between two frames.
func (s *stops) bordered() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.atBorder
}

// abandon ends the work at once because its session is over.
func (s *stops) abandon(err error) {
	s.mu.Lock()
	s.abandoned = err
	s.mu.Unlock()
	s.stopNow(err)
}

// err returns why the session is over, or nil.
func (s *stops) err() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.abandoned
}

// offers are the frames that renderers have finished and that are on their way to
// the service.
type offers struct {
	checks  chan check
	done    chan struct{} // closed when all are dealt with
	waiting atomic.Int32  // that are not dealt with to the end
}

// begin lets finished frames be dealt with, one after the other.
func (o *offers) begin(finish func(check)) {
	o.checks, o.done = make(chan check, maxChecks), make(chan struct{})
	go func() {
		defer close(o.done)
		for c := range o.checks {
			finish(c)
			o.waiting.Add(-1)
		}
	}()
}

// add hands over a frame that a renderer has finished.
func (o *offers) add(c check) {
	o.waiting.Add(1)
	o.checks <- c
}

// end waits until all frames are dealt with; no more may be added.
func (o *offers) end() {
	close(o.checks)
	<-o.done
}

// check is a frame that the renderer has finished.
type check struct {
	launch          int
	frame           int
	path            string
	folder          string // of its launch
	offset          int    // of the renderer's own number of the frame
	warning         string // that makes the frame suspect
	startup, render time.Duration
	fetched         farm.Fetched // before the launch; with its first frame
	memory          int64        // bytes that the launch had at most so far
}

// errStopped is the cause of an order to stop at once.
var errStopped = errors.New("stopped by the service")

// errLetGo is the cause of the end of a node process whose renderers go on.
var errLetGo = errors.New("the node process is restarted")

// maxChecks bounds the frames that wait to be checked while the service is
// away; a renderer that is further ahead waits.
const maxChecks = 4096

// stop ends the lease at once, or when the frame in flight is finished. Renderers
// that may be stopped only at a border finish it in any case, and those that may
// never be stopped end by themselves.
func (w *work) stop(now bool, reason string) {
	w.log.Info("lease is to end", "lease", w.lease.ID, "now", now, "reason", reason, "stop", w.lease.Recipe.Stop)
	if now && w.lease.Recipe.Stop != recipe.StopBorder && w.lease.Recipe.Stop != recipe.StopNever {
		w.stops.stopNow(errStopped)
		return
	}
	w.stops.askBorder()
	if w.status.idle() &&
		w.lease.Recipe.Stop != recipe.StopNever { // no frame is in flight, so there is nothing to wait for
		w.stops.stopNow(errStopped)
	}
}

// run renders the lease to its end and returns when all its processes are gone
// and all frames are reported, with what remains to be told: that the lease
// has ended. The error says that the session is over.
func (w *work) run(ctx context.Context) (wire.Ended, error) {
	rendering, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	w.stops.ctx, w.stops.stopNow, w.stops.stopped = ctx, stop, rendering.Done()
	if w.over {
		stop(errStopped)
	}
	close(w.ready)
	w.offers.begin(w.finish)
	var left frames.Set
	if err := left.UnmarshalText([]byte(w.lease.Frames)); err != nil {
		w.log.Error("the service gave frames that cannot be read", "error", err)
	}
	if w.lease.Bundle != "" && w.host.contents != nil {
		defer w.host.contents.pin(w.lease.Bundle)()
	}
	if err := w.getScene(rendering); err != nil && rendering.Err() == nil {
		w.log.Error("the scene of a lease", "lease", w.lease.ID, "error", err)
		w.launch++
		w.failed(w.launch, left.First(), sceneCause(err), (&noScene{err}).Error())
		w.offers.end()
		return wire.Ended{Lease: w.lease.ID, Message: "could not get the scene"}, w.stops.err()
	}
	if left = w.renderOwning(rendering, left); !left.Empty() {
		w.log.Info("frames go back", "lease", w.lease.ID, "frames", left)
	}
	w.status.set(func(n *moment) { n.frame, n.phase = nil, "verifying" })
	w.offers.end()
	if w.lost() {
		return wire.Ended{}, launcher.ErrLost
	}
	if err := w.stops.err(); err != nil {
		return wire.Ended{}, err
	}
	if ctx.Err() != nil {
		return wire.Ended{}, ctx.Err()
	}
	why := "has finished its frames"
	if cause := context.Cause(rendering); cause != nil {
		why = "was told to stop at once"
	} else if w.stops.bordered() {
		why = "stopped between two frames"
	}
	return wire.Ended{Lease: w.lease.ID, Message: why}, nil
}

// sceneFolder is the folder of a lease's scene in its staging folder, where it does not
// stand in its place.
const sceneFolder = "scene"

// unpackScene writes down a scene that came with the lease.
func (w *work) unpackScene() error {
	if w.lease.SceneText == "" {
		return nil
	}
	folder := filepath.Join(w.staging, sceneFolder)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return fmt.Errorf("making its folder: %w", err)
	}
	w.lease.SceneRoot, w.lease.Scene = folder, filepath.Base(filepath.FromSlash(w.lease.Scene))
	if err := os.WriteFile(filepath.Join(folder, w.lease.Scene), []byte(w.lease.SceneText), 0o644); err != nil {
		return fmt.Errorf("writing it: %w", err)
	}
	return nil
}

// renderOwning renders once what the lease owns is free, and gives it back when
// all processes are gone.
func (w *work) renderOwning(ctx context.Context, left frames.Set) frames.Set {
	if w.host.owned != nil {
		if w.host.owned.take(ctx, w.lease.ID, w.host.share(), w.diary.again) != nil {
			return left
		}
		defer w.host.owned.giveBack(w.lease.ID)
	}
	return w.render(ctx, left)
}

// clear removes what is kept of the lease, once the service knows that it has
// ended.
func (w *work) clear() {
	w.diary.journal.close()
	if err := os.RemoveAll(w.staging); err != nil {
		w.log.Warn("clearing the folder of a lease", "error", err)
	}
}

// render goes on where an earlier process was, and renders what is left. It
// returns the frames without a result.
func (w *work) render(ctx context.Context, left frames.Set) frames.Set {
	fed := w.lease.Recipe.Mode == "feed"
	var first *launch
	if w.diary.again {
		first, left = w.resume(ctx, left, fed)
	}
	if fed {
		w.feed(ctx, left, first)
		return frames.Set{}
	}
	if first != nil {
		reached := first.goOn(ctx)
		left = left.Minus(frames.Of(frames.Span{First: first.stretch.First, Last: max(reached, first.stretch.First-1)}))
	}
	left = w.stretches(ctx, left)
	for w.lease.Recipe.Mode == "single" && left.Empty() && w.goesOn(ctx) {
		// What is next is asked for while the last frame is still checked.
		w.status.set(func(n *moment) { n.phase, n.frame, n.fraction = "waiting", nil, 0 })
		left = w.more(ctx)
		// The service may not know yet what failed; a further try has a lease of its own.
		left = left.Minus(ask(w.diary, (*journal.Lease).Failed))
		if left.Empty() {
			break
		}
		left = w.stretches(ctx, left)
	}
	return left
}

// goesOn reports whether nothing keeps further frames of the lease from being
// rendered.
func (w *work) goesOn(ctx context.Context) bool {
	return ctx.Err() == nil && !w.stops.bordered() && w.stops.err() == nil && !w.lost()
}

// resume offers what was finished before, and takes up the renderer that still
// runs, if one does.
func (w *work) resume(ctx context.Context, left frames.Set, fed bool) (*launch, frames.Set) {
	unsettled, before := ask(w.diary, (*journal.Lease).Unsettled), ask(w.diary, (*journal.Lease).Running)
	w.launch = ask(w.diary, (*journal.Lease).LastLaunch)
	for _, p := range unsettled {
		left = left.Minus(frames.One(p.Frame))
		w.offers.add(
			check{
				launch: p.Launch, frame: p.Frame, path: filepath.Join(w.staging, p.Path), startup: p.Startup,
				render: p.Render, folder: filepath.Join(w.staging, launchFolder(p.Launch)), offset: p.Offset,
				warning: p.Warning,
			},
		)
	}
	if before == nil {
		return nil, left
	}
	l, err := w.adopt(before, fed)
	if err == nil {
		w.log.Info("a renderer of an earlier node process goes on", "lease", w.lease.ID, "launch", before.Number)
		return l, left
	}
	if w.lost() {
		return nil, left
	}
	w.log.Warn(
		"a renderer of an earlier node process is gone", "lease", w.lease.ID, "launch", before.Number, "error", err,
	)
	w.diary.note(journal.Entry{Do: journal.Over, Launch: before.Number})
	if frame, ok := before.InFlight(); ok && left.Has(frame) && ctx.Err() == nil {
		w.failed(
			before.Number, frame, triage.CauseNodeLost,
			"the renderer ended with the machine or its launcher, in mid frame",
		)
		left = left.Minus(frames.One(frame))
	}
	return nil, left
}

// stretches launches the renderer for each run of consecutive frames, and
// again behind a frame that failed. It returns the frames without a result.
func (w *work) stretches(ctx context.Context, left frames.Set) frames.Set {
	for w.goesOn(ctx) {
		w.waitForRoom(ctx)
		if left = w.diary.withoutGiven(left); left.Empty() || ctx.Err() != nil || w.stops.bordered() {
			break
		}
		set := w.atOnce(left)
		reached := w.newLaunch(set).run(ctx)
		left = left.Minus(set.Intersect(frames.Of(frames.Span{First: set.First(), Last: max(reached, set.First()-1)})))
	}
	return left
}

// atOnce returns which of the frames the next launch gets: the first, those that
// follow on it, or all.
func (w *work) atOnce(left frames.Set) frames.Set {
	switch r := &w.lease.Recipe; {
	case r.Mode == "single":
		return frames.One(left.First())
	case r.TakesLists():
		return left
	}
	for stretch := range left.Spans() {
		return frames.Of(stretch)
	}
	return left
}

// lost reports whether the launcher has ended, and all renderers with it.
func (w *work) lost() bool {
	select {
	case <-w.host.launcher.Lost():
		return true
	default:
		return false
	}
}

// trim answers which of the frames that are wanted back can be given. Asked
// again, it answers the same.
func (w *work) trim(id int64, wanted frames.Set) string {
	var mine, unseen frames.Set
	_ = mine.UnmarshalText([]byte(w.lease.Frames)) // what cannot be read was told when the lease began
	if r := w.lease.Recipe; r.Mode == "range" && (r.Read.Begins == "" || r.Stop == recipe.StopNever) {
		unseen = w.status.launched() // where it is cannot be seen, or it goes on to its end
	} else {
		unseen = w.status.notYetSeen()
	}
	return w.diary.trim(id, wanted, mine, unseen)
}

// failed reports a try that gave no good picture.
func (w *work) failed(launch, frame int, cause, message string) {
	w.diary.note(journal.Entry{Do: journal.Failed, Launch: launch, Frame: frame})
	w.log.Warn("frame failed", "run", w.lease.RunName, "frame", frame, "cause", cause)
	w.report(
		wire.ReportItem{
			Outcome: wire.OutcomeFailed, Lease: w.lease.ID, Launch: launch, Frame: frame, Cause: cause,
			Message: message,
		},
	)
}

// report reports one item. A lost session is noted and ends the work.
func (w *work) report(item wire.ReportItem) wire.Verdict {
	verdicts, err := w.svc.report(w.stops.ctx, item)
	if err != nil {
		w.stops.abandon(err)
		return wire.Verdict{Verdict: wire.VerdictDiscard}
	}
	return verdicts[0]
}

// placeholders returns what a launch of the given frames fills in.
func (w *work) placeholders(l *launch) map[string]string {
	own := func(frame int) string { return fmt.Sprint(frame + l.offset) }
	with := w.settings()
	maps.Copy(with, map[string]string{
		"own_first": own(l.origin.from), "own_last": own(l.stretch.Last), "own_frame": own(l.origin.from),
		"frames_commas": strings.Join(listOf(l.set), ","), "frames_spaces": strings.Join(listOf(l.set), " "),
		"frames_ranges": l.set.String(), "frames_file": filepath.Join(l.folder, framesFile),
		"response_file": filepath.Join(l.folder, responseFile), "staging": l.folder,
		"threads": fmt.Sprint(l.share.threads), "memory_mib": fmt.Sprint(l.share.memory >> 20),
		"cores": coreList(l.share.cores), "devices": strings.Join(l.share.devices, ","),
		"device_numbers": l.share.deviceNumbers(), "first": fmt.Sprint(w.realFrame(l.origin.from)),
		"last": fmt.Sprint(w.realFrame(l.stretch.Last)), "frame": fmt.Sprint(w.realFrame(l.origin.from)),
		"checkpoint": l.origin.file,
		"speed":      fmt.Sprint(w.host.speed * l.share.part), "node": w.host.node,
	})
	w.rectangle(with, l.origin.from)
	if f := w.lease.From; f != nil {
		with["from"], with["from_files"] = f.Folder, filepath.Join(l.folder, filesFile)
		with["from_file"] = fromFile(f, l.origin.from)
	}
	var passes []string
	for _, p := range w.lease.Passes {
		if _, chosen := w.lease.Recipe.Passes[p.Name]; chosen {
			passes = append(passes, p.Name)
		}
	}
	with["passes"] = strings.Join(passes, ",")
	return with
}

// fromFile returns where a frame of the run stands whose frames a lease reads.
func fromFile(f *wire.LeaseFrom, frame int) string {
	name := f.FilePrefix + frames.Name(frame, f.Digits) + f.FileEnding
	return filepath.Join(f.Folder, filepath.FromSlash(name))
}

// settings returns what all launches of the lease fill in.
func (w *work) settings() map[string]string {
	scene := filepath.Join(w.lease.SceneRoot, filepath.FromSlash(w.lease.Scene))
	with := map[string]string{
		"scene": scene, "scene_folder": filepath.Dir(scene), "scene_root": w.lease.SceneRoot,
		"scene_name": strings.TrimSuffix(filepath.Base(scene), filepath.Ext(scene)),
		"width":      fmt.Sprint(w.lease.Width), "height": fmt.Sprint(w.lease.Height),
		"shot_first": fmt.Sprint(w.lease.ShotFirst), "shot_last": fmt.Sprint(w.lease.ShotLast),
		"shot_count": fmt.Sprint(w.lease.ShotLast - w.lease.ShotFirst + 1),
	}
	maps.Copy(with, w.lease.Values)
	return with
}
