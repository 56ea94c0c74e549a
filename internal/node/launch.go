package node

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"vexillum/internal/core/frames"
	"vexillum/internal/core/protocol/journal"
	"vexillum/internal/core/span"
	"vexillum/internal/core/triage"
	"vexillum/internal/launcher"
	"vexillum/internal/recipe"
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
	proc    *launcher.Process
	before  *journal.Launch // what an earlier process knew of it; nil of a new one
	share   own             // of the machine
	peak    int64           // bytes of main memory that it was seen with at most
	handed  int             // frames handed to a renderer that is fed

	fed     bool // stays up and is handed its frames
	current *int // frame in flight
	since   time.Time
	startup time.Duration // of the launch; told with its first frame
	signOf  time.Time     // of life
	told    float64       // progress of the frame in flight that was told last
	line    string        // that was said last
	now     time.Time     // of what was said last

	bordered *int // last frame before it was stopped at a border
}

func (w *work) newLaunch(stretch frames.Span) *launch {
	w.launch++
	return w.launchOf(w.launch, stretch)
}

func (w *work) launchOf(number int, stretch frames.Span) *launch {
	return &launch{
		w: w, number: number, stretch: stretch, folder: filepath.Join(w.staging, launchFolder(number)),
		marks: make(chan mark, 256),
	}
}

func launchFolder(number int) string { return fmt.Sprintf("launch-%d", number) }

func (l *launch) id() string { return fmt.Sprintf("lease-%d/launch-%d", l.w.lease.ID, l.number) }

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
	l.share = l.w.host.share()
	if err := l.w.admit(l.folder); err != nil {
		return fmt.Errorf("preparing the staging folder: %w", err)
	}
	with := l.w.placeholders(l)
	arguments, environment := r.Launch(with)
	for name, value := range l.w.lease.LaunchSettings.Variables {
		environment = append(environment, name+"="+recipe.Fill(value, with))
	}
	environment = append(environment, l.share.environment()...)
	spec := launcher.Spec{
		ID: l.id(), Program: program, Args: arguments, Env: environment, Dir: l.folder, Input: fed,
		Limits: l.limits(),
	}
	if l.w.host.launched != nil {
		l.w.host.launched(program, arguments, environment)
	}
	l.fed = fed
	l.began, l.signOf = time.Now(), time.Now()
	l.w.status.set(func(n *moment) { n.phase, n.frame, n.fraction, n.stretch = "starting", nil, 0, l.stretch })
	l.w.diary.note(journal.Entry{Do: journal.Launched, Launch: l.number, First: l.stretch.First, Last: l.stretch.Last})
	l.read()
	if l.proc, err = l.w.host.launcher.Start(spec, l.reader); err != nil {
		l.w.diary.note(journal.Entry{Do: journal.Over, Launch: l.number})
		return fmt.Errorf("starting the renderer: %w", err)
	}
	return nil
}

func (l *launch) read() {
	l.reader = newReader(l.w.lease.Recipe.Read, func(m mark) { l.marks <- m })
	l.reader.say, l.reader.understood = l.w.host.say, l.w.host.understood
}

// adopt takes up a renderer that an earlier node process has started. All that
// it has said is read again.
func (w *work) adopt(before *journal.Launch, fed bool) (*launch, error) {
	l := w.launchOf(before.Number, before.Stretch)
	l.before, l.fed = before, fed
	l.began, l.signOf = before.At, time.Now()
	l.read()
	w.status.set(func(n *moment) { n.phase, n.frame, n.fraction, n.stretch = "starting", nil, 0, l.stretch })
	var err error
	l.proc, err = w.host.launcher.Attach(l.id(), l.reader)
	return l, err
}

// over notes that nothing is left to do about a launch.
func (l *launch) over() {
	l.w.diary.note(journal.Entry{Do: journal.Over, Launch: l.number})
	l.proc.Forget()
}

// run renders the stretch and returns the last frame that has a result. A
// frame that was stopped has none.
func (l *launch) run(ctx context.Context) (reached int) {
	if err := l.start(false); err != nil {
		if !l.w.lost() {
			l.w.failed(l.number, l.stretch.First, triage.CauseNoStart, err.Error())
		}
		return l.stretch.First
	}
	return l.goOn(ctx)
}

// goOn watches a renderer that runs until it has ended.
func (l *launch) goOn(ctx context.Context) (reached int) {
	stopped := l.watch(ctx, nil)
	if l.w.lost() || errors.Is(context.Cause(ctx), errLetGo) {
		return l.stretch.First - 1
	}
	defer l.over()
	if stopped {
		return l.border() // the lease ends, or what follows was given back
	}
	code, _ := l.proc.Ended()
	words, cause := l.reader.words()
	if code == 0 {
		if l.current != nil {
			if l.before == nil {
				l.now = time.Now()
			}
			l.finished()
		}
		return l.unseen(words)
	}
	frame := l.stretch.First
	if l.current != nil {
		frame = *l.current
	}
	if cause == "" {
		cause = l.crash()
	}
	l.w.failed(l.number, frame, cause, tellEnd(words, l.proc))
	return frame
}

// crash says why a renderer ended that did not say: by its exit code, or because it
// may have met its limit of memory.
func (l *launch) crash() string {
	code, _ := l.proc.Ended()
	if cause := l.w.lease.Recipe.Read.Codes[strconv.Itoa(code)]; cause != "" {
		return cause
	}
	peak, over := l.proc.Peak()
	if over || l.share.limit > 0 && max(peak, l.peak) > l.share.limit-l.share.limit/10 {
		return triage.CauseMemory
	}
	return triage.CauseCrash
}

// border returns the last frame that was finished before the renderer was
// stopped.
func (l *launch) border() int {
	if l.bordered != nil {
		return *l.bordered
	}
	return l.stretch.First - 1
}

// tellEnd says how a launch failed: what the renderer said, if anything, and
// how it ended.
func tellEnd(words string, p *launcher.Process) string {
	end := "the renderer ended without an error"
	if _, how := p.Ended(); how != "" {
		end = "the renderer ended with " + how
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
	times := map[int]time.Duration{}
	if l.current != nil {
		next = *l.current + 1
	} else {
		times = l.timesOfFiles()
	}
	for f := next; f <= l.stretch.Last; f++ {
		if l.w.diary.gave(f) {
			continue
		}
		if path, ok := l.file(f); ok {
			l.check(f, path, times[f])
			continue
		}
		l.w.failed(
			l.number, f, triage.CauseNoFrame,
			"the renderer ended without an error and without beginning this frame\n"+words,
		)
	}
	return l.stretch.Last
}

// timesOfFiles returns what frames took of a launch that does not tell when they
// begin, by the times at which their files were last written. The first has the
// start-up in its time: that is what goes beyond the usual.
func (l *launch) timesOfFiles() map[int]time.Duration {
	type written struct {
		frame int
		at    time.Time
	}
	var files []written
	for f := l.stretch.First; f <= l.stretch.Last; f++ {
		path, ok := l.file(f)
		if !ok {
			continue
		}
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() {
			files = append(files, written{f, info.ModTime()})
		}
	}
	if len(files) == 0 {
		return nil
	}
	slices.SortStableFunc(files, func(a, b written) int { return a.at.Compare(b.at) })
	out := map[int]time.Duration{}
	var others []time.Duration
	for i := 1; i < len(files); i++ {
		took := max(0, files[i].at.Sub(files[i-1].at))
		out[files[i].frame] = took
		others = append(others, took)
	}
	first := max(0, files[0].at.Sub(l.began))
	if len(others) > 0 {
		slices.Sort(others)
		usual := min(first, others[len(others)/2])
		l.startup, first = first-usual, usual
	}
	out[files[0].frame] = first
	return out
}

// watch reads what the renderer says until it has ended. It reports true if
// it was stopped. fed, if not nil, is called for lines of the feed protocol;
// when it returns false the renderer shall end.
func (l *launch) watch(ctx context.Context, fed func(text string) bool) (stopped bool) {
	stall := time.NewTicker(time.Second)
	defer stall.Stop()
	defer l.w.status.used.Store(0)
	stalled := false
	gone := l.proc.Gone()
	done := ctx.Done()
	stop := func() {
		stopped, done = true, nil
		l.proc.Stop(time.Duration(l.w.lease.Recipe.Grace))
	}
	for {
		select {
		case m := <-l.marks:
			if stopped {
				continue
			}
			if l.lives(m) {
				l.signOf = time.Now()
			}
			if l.mark(m) && l.w.lease.Recipe.Stop != recipe.StopNever &&
				(l.w.stops.bordered() || l.current != nil && l.w.diary.gave(*l.current) || l.w.full() != "") {
				last := *l.current - 1
				l.w.diary.note(journal.Entry{Do: journal.Undone, Launch: l.number, Frame: *l.current})
				l.current, l.bordered = nil, &last
				stop()
				continue
			}
			if m.feed != "" && fed != nil && !fed(m.feed) {
				stop()
			}
		case <-done:
			if errors.Is(context.Cause(ctx), errLetGo) {
				return true // the renderer goes on without us
			}
			stop()
		case <-stall.C:
			l.weigh()
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

// lives reports whether what was said is a sign of life: progress, or a line, that
// is not the same as the one before.
func (l *launch) lives(m mark) bool {
	if m.progress != nil {
		same := *m.progress == l.told
		l.told = *m.progress
		return !same
	}
	same := m.text == l.line
	l.line = m.text
	return !same
}

// mark takes in what one line says, and reports true if a frame was finished by
// the beginning of the next.
func (l *launch) mark(m mark) bool {
	now := l.when(m)
	l.now = now
	if m.progress != nil && l.current != nil {
		part := *m.progress
		l.w.status.set(func(n *moment) { n.fraction = part })
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
		l.startup = max(0, now.Sub(l.began))
	}
	l.begin(frame, now)
	return border
}

// begin notes that a frame begins, or has begun when an earlier process
// watched.
func (l *launch) begin(frame int, now time.Time) {
	known := false
	if l.before != nil {
		for _, b := range l.before.Begun {
			if b.Frame == frame {
				now, known = b.At, true
			}
		}
	}
	if !known {
		l.w.diary.note(journal.Entry{Do: journal.Began, Launch: l.number, Frame: frame})
	}
	l.current, l.since, l.told = &frame, now, 0
	l.w.status.set(func(n *moment) { n.phase, n.frame, n.fraction = "rendering", &frame, 0 })
}

// finished hands the frame in flight to be checked.
func (l *launch) finished() {
	path, ok := l.file(*l.current)
	if !ok {
		path = filepath.Join(l.folder, fmt.Sprintf("frame %d is missing", *l.current))
	}
	l.check(*l.current, path, max(0, l.now.Sub(l.since)))
}

// when returns the time of what a renderer has said. Of one that was taken up
// it may have been said long before it was heard.
func (l *launch) when(m mark) time.Time {
	if l.before != nil {
		return m.at
	}
	return time.Now()
}

func (l *launch) check(frame int, path string, render time.Duration) {
	if l.before != nil {
		if _, known := l.before.Done[frame]; known { // it is being dealt with already
			return
		}
	}
	inside, err := filepath.Rel(l.w.staging, path)
	if err == nil {
		l.w.diary.note(
			journal.Entry{
				Do: journal.Finished, Launch: l.number, Frame: frame, Path: inside, Startup: l.startup,
				Render: render,
			},
		)
	}
	l.w.diary.took(render)
	l.w.offers.add(
		check{launch: l.number, frame: frame, path: path, startup: l.startup, render: render, memory: l.weigh()},
	)
	l.startup = 0 // told once
}

// weigh looks how much main memory the renderer has, and returns the most that
// was seen so far.
func (l *launch) weigh() int64 {
	now := l.proc.Memory()
	select {
	case <-l.proc.Gone():
		peak, _ := l.proc.Peak()
		l.peak = max(l.peak, peak)
	default:
		l.w.status.used.Store(now)
	}
	l.peak = max(l.peak, now)
	return l.peak
}

// file finds the picture of a frame in staging.
func (l *launch) file(frame int) (string, bool) {
	return fileOf(l.folder, l.w.lease.Recipe.FrameFile, frame, frame == l.stretch.First)
}

// fileOf finds a file of a frame by its recipe's pattern. A file without a
// number may be that of the first frame of a launch.
func fileOf(folder, pattern string, frame int, first bool) (string, bool) {
	names := regexp.MustCompile(pattern)
	entries, err := os.ReadDir(folder)
	if err != nil {
		return "", false
	}
	for _, e := range entries {
		m := names.FindStringSubmatch(e.Name())
		if m == nil {
			continue
		}
		if n, err := strconv.Atoi(m[1]); err == nil && n == frame || m[1] == "" && first {
			return filepath.Join(folder, e.Name()), true
		}
	}
	return "", false
}

// stallLimit is how long a renderer may give no sign of life: as the node process
// was told, else as the lease says, and longer where frames took longer than was
// expected when it was given.
func (w *work) stallLimit() time.Duration {
	limit := w.host.stall
	if limit == 0 {
		limit = span.Of(w.lease.Stall)
	}
	if limit <= 0 {
		limit = defaultStall
	}
	return max(limit, 10*w.diary.longest())
}

// stalled ends a renderer that gives no sign of life; its exit is then told
// as a failure of the frame in flight.
func (l *launch) stalled(limit time.Duration) {
	l.reader.stalled(fmt.Sprintf("no sign of life for %v", limit.Round(time.Second)))
	l.proc.Stop(time.Duration(l.w.lease.Recipe.Grace))
}
