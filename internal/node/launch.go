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
	set     frames.Set  // to be rendered
	stretch frames.Span // from the first to the last of them
	offset  int         // of the renderer's own numbers of frames
	folder  string      // staging folder of its own
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
	ended   time.Time     // a frame, as the renderer said; zero: none yet
	told    float64       // progress of the frame in flight that was told last
	line    string        // that was said last
	now     time.Time     // of what was said last

	// what was said of the frame in flight
	seconds           float64 // that it took; 0: nothing
	warning           string
	spoiled, spoiling string // cause for which it has failed, and the line

	rendered map[int]bool // frames that were handed to be checked, or have failed
	bordered *int         // last frame before it was stopped at a border
}

func (w *work) newLaunch(set frames.Set) *launch {
	w.launch++
	return w.launchOf(w.launch, set)
}

func (w *work) launchOf(number int, set frames.Set) *launch {
	stretch := frames.Span{First: set.First(), Last: set.Last()}
	return &launch{
		w: w, number: number, set: set, stretch: stretch, folder: filepath.Join(w.staging, launchFolder(number)),
		offset: w.lease.Recipe.Offset(w.lease.ShotFirst, stretch.First), marks: make(chan mark, 256),
		rendered: map[int]bool{},
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
	if err := l.w.stillTheScene(); err != nil {
		return err
	}
	if l.number > 1 && l.w.lease.Bundle != "" { // somebody may have spoilt what it has
		if err := l.w.getScene(l.w.stops.ctx); err != nil {
			return &noScene{err}
		}
	}
	r := l.w.lease.Recipe
	program, err := programPath(r.Program)
	if err != nil {
		return fmt.Errorf("finding the renderer: %w", err)
	}
	l.share = l.w.host.share()
	if r.Threads > 0 {
		l.share.threads = min(l.share.threads, r.Threads)
	}
	if err := l.w.admit(l.folder); err != nil {
		return fmt.Errorf("preparing the staging folder: %w", err)
	}
	with := l.w.placeholders(l)
	arguments, environment := r.Launch(with, l.set)
	if arguments, err = l.writeFiles(with, arguments); err != nil {
		return err
	}
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

// Files of a launch that tell the renderer what to do.
const (
	framesFile   = "frames.txt"
	responseFile = "arguments.txt"
)

// writeFiles writes the files that arguments name, and returns the arguments that
// are left for the command line.
func (l *launch) writeFiles(with map[string]string, arguments []string) ([]string, error) {
	write := func(name string, text []byte) error {
		if err := os.WriteFile(filepath.Join(l.folder, name), text, 0o644); err != nil {
			return fmt.Errorf("writing %s for the renderer: %w", name, err)
		}
		return nil
	}
	if l.w.lease.Recipe.TakesLists() {
		if err := write(framesFile, []byte(strings.Join(listOf(l.set), "\n")+"\n")); err != nil {
			return nil, err
		}
	}
	f := l.w.lease.Recipe.ResponseFile
	if f == nil {
		return arguments, nil
	}
	return []string{recipe.Fill(f.Argument, with)}, write(responseFile, f.Response(arguments))
}

func listOf(set frames.Set) (out []string) {
	for f := range set.All() {
		out = append(out, strconv.Itoa(f))
	}
	return out
}

func (l *launch) read() {
	l.reader = newReader(l.w.lease.Recipe.Read, func(m mark) { l.marks <- m })
	l.reader.say, l.reader.understood = l.w.host.say, l.w.host.understood
}

// adopt takes up a renderer that an earlier node process has started. All that
// it has said is read again.
func (w *work) adopt(before *journal.Launch, fed bool) (*launch, error) {
	var mine frames.Set
	_ = mine.UnmarshalText([]byte(w.lease.Frames)) // what cannot be read was told when the lease began
	if mine = mine.Intersect(frames.Of(before.Stretch)); mine.Empty() || !w.lease.Recipe.TakesLists() {
		mine = frames.Of(before.Stretch)
	}
	l := w.launchOf(before.Number, mine)
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
		l.w.noStart(l.number, l.stretch.First, err)
		return l.stretch.First
	}
	return l.goOn(ctx)
}

// noStart reports that a renderer could not be started, or may not be.
func (w *work) noStart(launch, frame int, err error) {
	var changed *changedScene
	var gone *noScene
	switch {
	case w.lost():
	case errors.As(err, &gone):
		w.failed(launch, frame, sceneCause(gone.err), gone.Error())
	case errors.As(err, &changed):
		w.diary.note(journal.Entry{Do: journal.Failed, Launch: launch, Frame: frame})
		w.sceneGone(launch, frame, changed)
	default:
		w.failed(launch, frame, triage.CauseNoStart, err.Error())
	}
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
	frame := l.next()
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

// next returns the frame in flight, or the first that was not handed to be checked.
func (l *launch) next() int {
	if l.current != nil {
		return *l.current
	}
	for f := range l.set.All() {
		if !l.rendered[f] {
			return f
		}
	}
	return l.stretch.Last
}

// unseen fails the frames of the launch that the renderer, ending well, has
// neither begun nor left a file of.
func (l *launch) unseen(words string) (reached int) {
	times := map[int]time.Duration{}
	if len(l.rendered) == 0 {
		times = l.timesOfFiles()
	}
	for f := range l.set.All() {
		if l.rendered[f] || l.w.diary.gave(f) {
			continue
		}
		path, ok := l.file(f)
		switch {
		case l.spoiled != "": // it said so of no frame by name
			l.spoil(f)
		case ok:
			l.check(f, path, l.tookOf(f, times))
		default:
			l.w.failed(
				l.number, f, triage.CauseNoFrame,
				"the renderer ended without an error and without beginning this frame\n"+words,
			)
		}
	}
	return l.stretch.Last
}

// tookOf returns what a frame took that no line has told of: as the renderer says of
// the only one of its launch, else by the times of files.
func (l *launch) tookOf(frame int, times map[int]time.Duration) time.Duration {
	took := times[frame]
	if l.seconds > 0 && l.set.Len() == 1 {
		said := time.Duration(l.seconds * float64(time.Second))
		l.startup = max(0, took+l.startup-said)
		return said
	}
	return took
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
	for f := range l.set.All() {
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
				(l.w.stops.bordered() || l.w.diary.gave(l.next()) || l.w.full() != "") {
				l.stopAtBorder()
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
			if why := l.overdue(); !stopped && !stalled && why != "" {
				stalled = true
				l.stalled(why)
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

// stopAtBorder notes how far the renderer has come that is stopped between two
// frames.
func (l *launch) stopAtBorder() {
	last := l.next() - 1
	if l.current != nil {
		l.w.diary.note(journal.Entry{Do: journal.Undone, Launch: l.number, Frame: *l.current})
	}
	l.current, l.bordered = nil, &last
}

// mark takes in what one line says, and reports true if a frame was finished: it
// says so, or the next begins.
func (l *launch) mark(m mark) bool {
	now := l.when(m)
	l.now = now
	l.said(m)
	if l.fed { // what is fed begins when it is handed over
		return false
	}
	border := l.begins(m, now)
	return l.ends(m, now) || border
}

// said notes what a line says of the frame in flight.
func (l *launch) said(m mark) {
	if m.progress != nil && l.current != nil {
		part := *m.progress
		l.w.status.set(func(n *moment) { n.fraction = part })
	}
	l.peak = max(l.peak, m.memory)
	if m.seconds > 0 {
		l.seconds = m.seconds
	}
	if m.warning && l.warning == "" {
		l.warning = strings.TrimSpace(m.text)
	}
	if m.fails != "" && l.spoiled == "" {
		l.spoiled, l.spoiling = m.fails, strings.TrimSpace(m.text)
	}
}

// begins takes in that a frame begins, and reports true if that has finished the
// one before.
func (l *launch) begins(m mark, now time.Time) bool {
	if m.begins == nil && !m.unnamed {
		return false
	}
	frame := l.stretch.First
	if m.begins != nil {
		frame = *m.begins - l.offset
	}
	if l.current != nil && *l.current == frame || l.rendered[frame] { // some say it twice
		return false
	}
	if !l.set.Has(frame) { // not of this launch: it counts for nothing
		return false
	}
	border := l.current != nil
	if border {
		l.finished()
	} else if len(l.rendered) == 0 {
		l.startup = max(0, now.Sub(l.began))
	}
	l.begin(frame, now)
	return border
}

// ends takes in that a frame is finished, and reports true if it is.
func (l *launch) ends(m mark, now time.Time) bool {
	if m.ends == nil && !m.ended {
		return false
	}
	if l.current == nil { // it says when frames end, not when they begin
		frame := l.next()
		if m.ends != nil {
			frame = *m.ends - l.offset
		}
		if !l.set.Has(frame) || l.rendered[frame] {
			return false
		}
		l.begin(frame, l.lastEnd())
	}
	if m.ends != nil && *m.ends-l.offset != *l.current {
		return false
	}
	l.finished()
	l.current, l.ended = nil, now
	return true
}

// lastEnd returns when the frame before was finished, or the launch began.
func (l *launch) lastEnd() time.Time {
	if l.ended.IsZero() {
		return l.began
	}
	return l.ended
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

// finished hands the frame in flight to be checked, or fails it for what was said of
// it.
func (l *launch) finished() {
	frame := *l.current
	if l.spoiled != "" {
		l.spoil(frame)
		return
	}
	path, ok := l.file(frame)
	if !ok {
		path = filepath.Join(l.folder, fmt.Sprintf("frame %d is missing", frame))
	}
	took := max(0, l.now.Sub(l.since))
	if l.seconds > 0 {
		took = time.Duration(l.seconds * float64(time.Second))
	}
	l.check(frame, path, took)
}

// spoil fails a frame for what was said of it, however the renderer ends.
func (l *launch) spoil(frame int) {
	words, _ := l.reader.words()
	l.w.failed(l.number, frame, l.spoiled, l.spoiling+"\n"+words)
	l.rendered[frame] = true
	l.forget()
}

// forget forgets what was said of the frame that was in flight.
func (l *launch) forget() { l.seconds, l.warning, l.spoiled, l.spoiling = 0, "", "", "" }

// when returns the time of what a renderer has said. Of one that was taken up
// it may have been said long before it was heard.
func (l *launch) when(m mark) time.Time {
	if l.before != nil {
		return m.at
	}
	return time.Now()
}

func (l *launch) check(frame int, path string, render time.Duration) {
	l.rendered[frame] = true
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
				Render: render, Offset: l.offset, Warning: l.warning,
			},
		)
	}
	l.w.diary.took(render)
	l.w.offers.add(check{
		launch: l.number, frame: frame, path: path, folder: l.folder, offset: l.offset, startup: l.startup,
		render: render, memory: l.weigh(), warning: l.warning,
	})
	l.startup = 0 // told once
	l.forget()
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
	r := &l.w.lease.Recipe
	return l.w.fileOf(l.folder, r.FrameFile, r.FrameName, frame, l.offset, frame == l.stretch.First)
}

// fileOf finds a file of a frame by its recipe's pattern or name.
func (w *work) fileOf(folder, pattern, name string, frame, offset int, first bool) (path string, found bool) {
	if name == "" {
		return matchingFile(folder, pattern, frame+offset, first)
	}
	with := w.settings()
	with["frame"], with["own_frame"] = strconv.Itoa(frame), strconv.Itoa(frame+offset)
	name = filepath.FromSlash(recipe.Fill(recipe.Fill(name, with), with)) // a job may choose a name that has some, too
	if !filepath.IsLocal(name) {
		return "", false
	}
	path = filepath.Join(folder, name)
	_, err := os.Lstat(path)
	return path, err == nil
}

// Bounds of the folders that a renderer makes below its own.
const (
	mostDeep  = 8
	mostFiles = 1 << 20
)

// matchingFile finds a file of a frame by its recipe's pattern and the renderer's number
// of it. A file without a number may be that of the first frame of a launch.
// A pattern with a slash is one of paths in the folder.
func matchingFile(folder, pattern string, number int, first bool) (path string, found bool) {
	names := regexp.MustCompile(pattern)
	is := func(name string) bool {
		m := names.FindStringSubmatch(name)
		if m == nil {
			return false
		}
		n, err := strconv.Atoi(m[1])
		return err == nil && n == number || m[1] == "" && first
	}
	if !strings.Contains(pattern, "/") {
		entries, err := os.ReadDir(folder)
		if err != nil {
			return "", false
		}
		i := slices.IndexFunc(entries, func(e os.DirEntry) bool { return is(e.Name()) })
		if i < 0 {
			return "", false
		}
		return filepath.Join(folder, entries[i].Name()), true
	}
	seen := 0
	err := filepath.WalkDir(folder, func(at string, entry os.DirEntry, err error) error {
		inside, outside := filepath.Rel(folder, at)
		switch seen++; {
		case err != nil || outside != nil:
			return err
		case seen > mostFiles:
			return filepath.SkipAll
		case entry.IsDir() && strings.Count(filepath.ToSlash(inside), "/") >= mostDeep:
			return filepath.SkipDir
		case !entry.IsDir() && is(filepath.ToSlash(inside)):
			path, found = at, true
			return filepath.SkipAll
		}
		return nil
	})
	return path, found && err == nil
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

// overdue says why the renderer is to be ended: it gives no sign of life, or takes
// longer for a frame than its recipe allows.
func (l *launch) overdue() string {
	if limit := l.w.stallLimit(); time.Since(l.signOf) > limit {
		return fmt.Sprintf("no sign of life for %v", limit.Round(time.Second))
	}
	most := time.Duration(l.w.lease.Recipe.FrameTime)
	since := l.since
	if l.current == nil {
		since = l.lastEnd()
		if l.set.Len() > 1 && l.w.lease.Recipe.Read.Ends == "" { // it may be any of them
			return ""
		}
	}
	if most > 0 && time.Since(since) > most {
		return fmt.Sprintf("the frame takes longer than %v, the most that the recipe allows", most)
	}
	return ""
}

// stalled ends a renderer that hangs; its exit is then told as a failure of the frame
// in flight.
func (l *launch) stalled(why string) {
	l.reader.stalled(why)
	l.proc.Stop(time.Duration(l.w.lease.Recipe.Grace))
}
