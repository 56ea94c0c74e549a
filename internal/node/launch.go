package node

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	"vexillum/internal/core/frames"
	"vexillum/internal/core/triage"
)

// launch is one start of the renderer.
type launch struct {
	w       *work
	number  int
	stretch frames.Span
	folder  string // staging folder of its own
	began   time.Time
	marks   chan mark
	reader  *reader
	proc    *process
	input   io.WriteCloser

	fed     bool // stays up and is handed its frames
	current *int // frame in flight
	since   time.Time
	startup time.Duration // of the launch; told with its first frame
	signOf  time.Time     // of life
}

func (w *work) newLaunch(stretch frames.Span) *launch {
	w.launch++
	return &launch{w: w, number: w.launch, stretch: stretch, folder: filepath.Join(w.staging, fmt.Sprintf("launch-%d", w.launch)), marks: make(chan mark, 256)}
}

// start starts the renderer. An error is told as the failure of the first
// frame.
func (l *launch) start(fed bool) error {
	if err := os.MkdirAll(l.folder, 0o755); err != nil {
		return fmt.Errorf("making the staging folder: %w", err)
	}
	r := l.w.lease.Recipe
	program, err := programPath(r.Program)
	if err != nil {
		return fmt.Errorf("finding the renderer: %w", err)
	}
	arguments, environment := r.Launch(l.w.placeholders(l))
	cmd := exec.Command(program, arguments...)
	cmd.Dir = l.folder
	cmd.Env = append(os.Environ(), environment...)
	cmd.WaitDelay = 2 * time.Second
	l.reader = newReader(r.Read, func(m mark) { l.marks <- m })
	cmd.Stdout, cmd.Stderr = l.reader.stream(1), l.reader.stream(2)
	l.fed = fed
	if fed {
		if l.input, err = cmd.StdinPipe(); err != nil {
			return fmt.Errorf("opening the renderer's input: %w", err)
		}
	}
	l.began, l.signOf = time.Now(), time.Now()
	l.w.set(func() { l.w.phase, l.w.frame, l.w.fraction = "starting", nil, 0 })
	if l.proc, err = startProcess(cmd); err != nil {
		return fmt.Errorf("starting the renderer: %w", err)
	}
	return nil
}

// run renders the stretch and returns the last frame that has a result. A
// frame that was stopped has none.
func (l *launch) run(ctx context.Context) (reached int) {
	if err := l.start(false); err != nil {
		l.w.failed(l.number, l.stretch.First, triage.CauseNoStart, err.Error())
		return l.stretch.First
	}
	stopped := l.watch(ctx, nil)
	if stopped {
		return l.stretch.First - 1 // the lease ends; what is left goes back
	}
	code := l.proc.exitCode()
	words, cause := l.reader.words()
	if code == 0 {
		if l.current != nil {
			l.finished()
		}
		return l.unseen(words)
	}
	frame := l.stretch.First
	if l.current != nil {
		frame = *l.current
	}
	if cause == "" {
		cause = triage.CauseCrash
	}
	l.w.failed(l.number, frame, cause, tellEnd(words, l.proc))
	return frame
}

// tellEnd says how a launch failed: what the renderer said, if anything, and
// how it ended.
func tellEnd(words string, p *process) string {
	end := "the renderer ended well"
	if p.err != nil {
		end = "the renderer ended with " + p.err.Error()
	}
	if words == "" {
		return end
	}
	telling, rest, _ := strings.Cut(words, "\n")
	return telling + "\n" + end + "\n" + rest
}

// unseen fails the frames of the stretch that the renderer, ending well, has
// neither begun nor left a file of.
func (l *launch) unseen(words string) (reached int) {
	next := l.stretch.First
	if l.current != nil {
		next = *l.current + 1
	}
	for f := next; f <= l.stretch.Last; f++ {
		if path, ok := l.file(f); ok {
			l.check(f, path, 0)
			continue
		}
		l.w.failed(l.number, f, triage.CauseNoFrame, "the renderer ended well without beginning this frame\n"+words)
	}
	return l.stretch.Last
}

// watch reads what the renderer says until it has ended. It reports true if
// it was stopped. fed, if not nil, is called for lines of the feed protocol;
// when it returns false the renderer shall end.
func (l *launch) watch(ctx context.Context, fed func(text string) bool) (stopped bool) {
	stall := time.NewTicker(time.Second)
	defer stall.Stop()
	stalled := false
	gone := l.proc.gone
	done := ctx.Done()
	stop := func() {
		stopped, done = true, nil
		go l.proc.stop(time.Duration(l.w.lease.Recipe.Grace))
	}
	for {
		select {
		case m := <-l.marks:
			if stopped {
				continue
			}
			l.signOf = time.Now()
			if l.mark(m) && l.w.bordered() {
				l.current = nil
				stop()
				continue
			}
			if m.feed != "" && fed != nil && !fed(m.feed) {
				stop()
			}
		case <-done:
			stop()
		case <-stall.C:
			if limit := l.w.stallLimit(); !stopped && !stalled && time.Since(l.signOf) > limit {
				stalled = true
				l.stalled(limit)
			}
		case <-gone:
			for { // what it said last
				select {
				case m := <-l.marks:
					if !stopped {
						l.mark(m)
						if m.feed != "" && fed != nil {
							fed(m.feed)
						}
					}
					continue
				default:
				}
				return stopped
			}
		}
	}
}

// mark takes what one line tells. It reports true if a frame was finished by
// the beginning of the next.
func (l *launch) mark(m mark) bool {
	now := time.Now()
	if m.progress != nil && l.current != nil {
		part := *m.progress
		l.w.set(func() { l.w.fraction = part })
	}
	if m.begins == nil && !m.unnamed || l.fed { // what is fed begins when it is handed over
		return false
	}
	frame := l.stretch.First
	if m.begins != nil {
		frame = *m.begins
	}
	if l.current != nil && *l.current == frame { // some say it twice
		return false
	}
	if frame < l.stretch.First || frame > l.stretch.Last { // not of this launch: it counts for nothing
		return false
	}
	border := l.current != nil
	if border {
		l.finished()
	} else {
		l.startup = now.Sub(l.began)
	}
	l.begin(frame, now)
	return border
}

func (l *launch) begin(frame int, now time.Time) {
	l.current, l.since = &frame, now
	l.w.set(func() { l.w.phase, l.w.frame, l.w.fraction = "rendering", &frame, 0 })
}

// finished hands the frame in flight to be checked.
func (l *launch) finished() {
	path, ok := l.file(*l.current)
	if !ok {
		path = filepath.Join(l.folder, fmt.Sprintf("frame %d is missing", *l.current))
	}
	l.check(*l.current, path, time.Since(l.since))
}

func (l *launch) check(frame int, path string, render time.Duration) {
	l.w.mu.Lock()
	l.w.slowest = max(l.w.slowest, render)
	l.w.mu.Unlock()
	l.w.checks <- check{launch: l.number, frame: frame, path: path, startup: l.startup, render: render}
	l.startup = 0 // told once
}

// file finds the file of a frame in staging.
func (l *launch) file(frame int) (string, bool) {
	pattern := regexp.MustCompile(l.w.lease.Recipe.FrameFile)
	entries, err := os.ReadDir(l.folder)
	if err != nil {
		return "", false
	}
	for _, e := range entries {
		m := pattern.FindStringSubmatch(e.Name())
		if m == nil {
			continue
		}
		if n, err := strconv.Atoi(m[1]); err == nil && n == frame || m[1] == "" && frame == l.stretch.First {
			return filepath.Join(l.folder, e.Name()), true
		}
	}
	return "", false
}

// stallLimit is how long a renderer may give no sign of life: long, and
// longer where frames are.
func (w *work) stallLimit() time.Duration {
	w.mu.Lock()
	defer w.mu.Unlock()
	return max(w.stall, 10*w.slowest)
}

// stalled ends a renderer that gives no sign of life; its exit is then told
// as a failure of the frame in flight.
func (l *launch) stalled(limit time.Duration) {
	l.reader.stalled(fmt.Sprintf("no sign of life for %v", limit.Round(time.Second)))
	go l.proc.stop(time.Duration(l.w.lease.Recipe.Grace))
}

// feed keeps one renderer up and hands it one frame after the other, also
// those of later extensions of the lease.
func (w *work) feed(ctx context.Context, left frames.Set) {
	for ctx.Err() == nil && !w.bordered() && w.ok() {
		if left.Empty() {
			if left = w.more(ctx); left.Empty() {
				return
			}
		}
		l := w.newLaunch(frames.Span{First: left.First(), Last: left.Last()})
		left = l.feed(ctx, left)
	}
}

// more asks for more frames on the lease. The answer names all that have no
// result yet; those that are still being checked are not rendered again.
func (w *work) more(ctx context.Context) frames.Set {
	more, err := w.svc.more(ctx, w.lease.ID)
	if err != nil {
		return frames.Set{}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	return more.Minus(w.handed)
}

// feed runs one renderer until nothing is left to hand to it, it fails or it
// is stopped. It returns the frames that have no result yet.
func (l *launch) feed(ctx context.Context, left frames.Set) frames.Set {
	if err := l.start(true); err != nil {
		l.w.failed(l.number, left.First(), triage.CauseNoStart, err.Error())
		return left.Minus(frames.One(left.First()))
	}
	defer l.input.Close()
	ended := false
	next := func() bool {
		if l.w.bordered() {
			return false
		}
		if left.Empty() {
			l.w.set(func() { l.w.phase, l.w.frame, l.w.fraction = "waiting", nil, 0 })
			left = l.w.more(ctx)
		}
		if left.Empty() {
			ended = true
			_, _ = io.WriteString(l.input, "end\n")
			_ = l.input.Close()
			return true
		}
		f := left.First()
		l.w.mu.Lock()
		l.w.handed = l.w.handed.Union(frames.One(f))
		l.w.mu.Unlock()
		l.begin(f, time.Now())
		if _, err := fmt.Fprintf(l.input, "frame %d\n", f); err != nil {
			l.w.log.Warn("the renderer takes no more frames", "error", err)
		}
		return true
	}
	stopped := l.watch(ctx, func(text string) bool {
		word, rest, _ := strings.Cut(text, " ")
		switch word {
		case "ready":
			l.startup = time.Since(l.began)
			return next()
		case "done":
			if l.current == nil || rest != strconv.Itoa(*l.current) {
				return true
			}
			l.finished()
			left = left.Minus(frames.One(*l.current))
			l.current = nil
			return next()
		}
		return true
	})
	if stopped || ended {
		return left
	}
	words, cause := l.reader.words()
	if cause == "" {
		cause = triage.CauseCrash
	}
	if left.Empty() {
		return left
	}
	l.w.failed(l.number, left.First(), cause, tellEnd(words, l.proc))
	return left.Minus(frames.One(left.First()))
}
