package node

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"vexillum/internal/core/frames"
	"vexillum/internal/core/triage"
	"vexillum/internal/picture"
	"vexillum/internal/wire"
)

// service is what work on a lease needs of the service. Its calls go on
// trying while the service is away.
type service interface {
	report(ctx context.Context, items ...wire.ReportItem) ([]wire.Verdict, error)
	thumbnail(ctx context.Context, run int64, frame int, jpeg []byte)
	more(ctx context.Context, lease int64) (frames.Set, error) // for a renderer that stays up
}

// work is one lease in the hands of this node.
type work struct {
	lease   *wire.Lease
	svc     service
	log     *slog.Logger
	staging string // folder of the lease's own
	speed   float64
	node    string
	threads int
	stall   time.Duration
	changed func()        // progress has changed
	ready   chan struct{} // closed when orders to stop can be taken

	ctx        context.Context // of the session: reports outlive an order to stop
	stopNow    context.CancelCauseFunc
	mu         sync.Mutex
	atBorder   bool
	phase      string
	frame      *int
	fraction   float64
	verifying  map[int]bool
	launch     int
	handed     frames.Set // to a renderer that stays up, without a failure since
	slowest    time.Duration
	checks     chan check
	abandoned  error // the session is over: nothing may be reported any more
	checksDone chan struct{}
}

// check is a frame that the renderer has finished.
type check struct {
	launch          int
	frame           int
	path            string
	startup, render time.Duration
}

// errStopped is the cause of an order to stop at once.
var errStopped = errors.New("stopped by the service")

// maxChecks bounds the frames that wait to be checked while the service is
// away; a renderer that is further ahead waits.
const maxChecks = 4096

// progress tells how far the lease is.
func (w *work) progress() wire.Progress {
	w.mu.Lock()
	defer w.mu.Unlock()
	p := wire.Progress{Lease: w.lease.ID, Frame: w.frame, Phase: w.phase, Fraction: w.fraction}
	for f := range w.verifying {
		p.Verifying = append(p.Verifying, f)
	}
	return p
}

func (w *work) set(change func()) {
	w.mu.Lock()
	change()
	w.mu.Unlock()
	w.changed()
}

// stop ends the lease at once, or when the frame in flight is finished.
func (w *work) stop(now bool, reason string) {
	w.log.Info("lease shall end", "lease", w.lease.ID, "now", now, "reason", reason)
	if now {
		w.stopNow(errStopped)
		return
	}
	w.mu.Lock()
	w.atBorder = true
	idle := w.frame == nil && w.phase == "starting"
	w.mu.Unlock()
	if idle { // no frame is in flight, so there is nothing to wait for
		w.stopNow(errStopped)
	}
}

func (w *work) bordered() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.atBorder
}

// run renders the lease to its end and returns when all its processes are
// gone and everything is reported. The error says that the session is over.
func (w *work) run(ctx context.Context) error {
	rendering, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	w.ctx, w.stopNow = ctx, stop
	close(w.ready)
	w.checks, w.checksDone = make(chan check, maxChecks), make(chan struct{})
	go func() {
		defer close(w.checksDone)
		for c := range w.checks {
			w.finish(c)
		}
	}()
	defer os.RemoveAll(w.staging)
	var left frames.Set
	if err := left.UnmarshalText([]byte(w.lease.Frames)); err != nil {
		w.log.Error("the service gave frames that cannot be read", "error", err)
	}
	if w.lease.Recipe.Mode == "feed" {
		w.feed(rendering, left)
	} else {
		w.stretches(rendering, left)
	}
	close(w.checks)
	w.set(func() { w.frame, w.phase = nil, "verifying" })
	<-w.checksDone
	if w.abandoned != nil {
		return w.abandoned
	}
	why := "has finished its frames"
	if cause := context.Cause(rendering); cause != nil {
		why = "was told to stop at once"
	} else if w.bordered() {
		why = "stopped at a frame border"
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	_, err := w.svc.report(ctx, wire.ReportItem{Outcome: wire.OutcomeEnded, Lease: w.lease.ID, Message: why})
	return err
}

// stretches launches the renderer for each run of consecutive frames, and
// again behind a frame that failed.
func (w *work) stretches(ctx context.Context, left frames.Set) {
	for !left.Empty() && ctx.Err() == nil && !w.bordered() && w.ok() {
		var stretch frames.Span
		for sp := range left.Spans() {
			stretch = sp
			break
		}
		if w.lease.Recipe.Mode == "single" {
			stretch.Last = stretch.First
		}
		l := w.newLaunch(stretch)
		reached := l.run(ctx)
		left = left.Minus(frames.Of(frames.Span{First: stretch.First, Last: reached}))
	}
}

func (w *work) ok() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.abandoned == nil
}

// failed reports a try that gave no good picture.
func (w *work) failed(launch, frame int, cause, message string) {
	w.mu.Lock()
	w.handed = w.handed.Minus(frames.One(frame)) // it may come again
	w.mu.Unlock()
	w.log.Warn("frame failed", "run", w.lease.RunName, "frame", frame, "cause", cause)
	w.report(wire.ReportItem{Outcome: wire.OutcomeFailed, Lease: w.lease.ID, Launch: launch, Frame: frame, Cause: cause, Message: message})
}

// report reports one item. A lost session is noted and ends the work.
func (w *work) report(item wire.ReportItem) wire.Verdict {
	verdicts, err := w.svc.report(w.ctx, item)
	if err != nil {
		w.mu.Lock()
		w.abandoned = err
		w.mu.Unlock()
		w.stopNow(err)
		return wire.Verdict{Verdict: wire.VerdictDiscard}
	}
	return verdicts[0]
}

// finish verifies a frame, offers it, and delivers it if it is accepted.
func (w *work) finish(c check) {
	defer os.Remove(c.path)
	if w.ctx.Err() != nil || !w.ok() {
		return
	}
	w.set(func() { w.verifying[c.frame] = true })
	defer w.set(func() { delete(w.verifying, c.frame) })
	begin := time.Now()
	good, err := picture.Verify(c.path, w.lease.Recipe.Picture, w.lease.Width, w.lease.Height)
	if err != nil {
		cause := triage.CauseWrongOutput
		var fault *picture.FaultError
		if errors.As(err, &fault) && fault.Missing {
			cause = triage.CauseNoFrame
		}
		w.failed(c.launch, c.frame, cause, err.Error())
		return
	}
	item := wire.ReportItem{
		Outcome: wire.OutcomeGood, Lease: w.lease.ID, Launch: c.launch, Frame: c.frame, Hash: good.Hash, Bytes: good.Bytes,
		StartupSeconds: c.startup.Seconds(), RenderSeconds: c.render.Seconds(), CheckSeconds: time.Since(begin).Seconds(),
	}
	verdict := w.report(item)
	if verdict.Verdict != wire.VerdictDeliver {
		w.log.Info("frame not wanted", "run", w.lease.RunName, "frame", c.frame, "why", verdict.Why)
		return
	}
	if small, err := picture.Thumbnail(good.Image); err == nil {
		w.svc.thumbnail(w.ctx, w.lease.Run, c.frame, small)
	}
	file := w.lease.FilePrefix + frames.Name(c.frame, w.lease.Digits) + w.lease.FileEnding
	hash, err := w.deliverPatiently(c.path, file, good.Hash, verdict.Adopt)
	if err != nil {
		item.Outcome, item.Cause, item.Message = wire.OutcomeFailed, deliveryCause(err), err.Error()
		w.log.Warn("frame not delivered", "run", w.lease.RunName, "frame", c.frame, "error", err)
		w.report(item)
		return
	}
	item.Outcome, item.Hash = wire.OutcomeDelivered, hash
	w.report(item)
}

// deliveryTries is how often a delivery is tried before the frame is given
// back; a place that is gone for a moment comes back in between.
const deliveryTries = 4

func (w *work) deliverPatiently(path, file, hash string, adopt []string) (string, error) {
	for try := 1; ; try++ {
		standing, err := deliver(path, w.lease, file, hash, adopt)
		if err == nil || errors.Is(err, errForeign) || try >= deliveryTries {
			return standing, err
		}
		select {
		case <-w.ctx.Done():
			return "", err
		case <-time.After(time.Duration(try) * 500 * time.Millisecond):
		}
	}
}

func deliveryCause(err error) string {
	switch {
	case errors.Is(err, errForeign):
		return triage.CauseOutput
	case errors.Is(err, syscall.ENOSPC):
		return triage.CauseDiskFull
	}
	return triage.CauseDelivery
}

// placeholders returns what a launch of the given frames fills in.
func (w *work) placeholders(l *launch) map[string]string {
	scene := filepath.Join(w.lease.SceneRoot, filepath.FromSlash(w.lease.Scene))
	with := map[string]string{
		"scene": scene, "scene_folder": filepath.Dir(scene), "scene_root": w.lease.SceneRoot, "staging": l.folder,
		"threads": fmt.Sprint(w.threads), "width": fmt.Sprint(w.lease.Width), "height": fmt.Sprint(w.lease.Height),
		"first": fmt.Sprint(l.stretch.First), "last": fmt.Sprint(l.stretch.Last), "frame": fmt.Sprint(l.stretch.First),
		"range_first": fmt.Sprint(w.lease.RangeFirst), "range_last": fmt.Sprint(w.lease.RangeLast),
		"speed": fmt.Sprint(w.speed), "node": w.node,
	}
	for name, value := range w.lease.Values {
		with[name] = value
	}
	return with
}
