package node

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"vexillum/internal/core/frames"
	"vexillum/internal/core/protocol/journal"
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
	origin  origin      // where it begins
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
	warned  string        // that there was none for long; empty: it is not
	use     float64       // of cores or a device since then, on average
	sensed  time.Time     // the sign since which that is counted
	senseAt time.Time     // from when on
	// processor time that was used by then
	usedThen time.Duration
	ended    time.Time // a frame, as the renderer said; zero: none yet
	told     float64   // progress of the frame in flight that was told last
	line     string    // that was said last
	now      time.Time // of what was said last

	// what was said of the frame in flight
	seconds           float64 // that it took; 0: nothing
	warning           string
	spoiled, spoiling string // cause for which it has failed, and the line
	last              saidOf // all of it, once the frame is over

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
		offset: w.offsetOf(stretch.First), marks: make(chan mark, 256),
		rendered: map[int]bool{}, origin: origin{from: stretch.First},
	}
}

func launchFolder(number int) string { return fmt.Sprintf("launch-%d", number) }

func (l *launch) id() string {
	if l.w.trial { // its lease is made up
		return fmt.Sprintf("%s/launch-%d", filepath.Base(l.w.staging), l.number)
	}
	return fmt.Sprintf("lease-%d/launch-%d", l.w.lease.ID, l.number)
}

// start starts the renderer. An error is told as the failure of the first
// frame.
func (l *launch) start(fed bool) error {
	if err := os.MkdirAll(l.folder, 0o700); err != nil {
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
	l.origin = l.w.originFor(l.stretch.First)
	l.offset = l.w.offsetOf(l.origin.from)
	with := l.w.placeholders(l)
	arguments, environment := r.Launch(with, l.set)
	if arguments, err = l.writeFiles(with, arguments); err != nil {
		return err
	}
	who, err := l.w.whoRenders()
	if err != nil {
		return fmt.Errorf("choosing the account of the renderer: %w", err)
	}
	if err := letIn(l.folder, who); err != nil {
		return fmt.Errorf("preparing the staging folder: %w", err)
	}
	for name, value := range l.w.lease.LaunchSettings.Variables {
		environment = append(environment, name+"="+recipe.Fill(value, with))
	}
	environment = append(environment, l.share.environment()...)
	spec := launcher.Spec{
		ID: l.id(), Program: program, Args: arguments, Env: environment, Dir: l.folder, Input: fed,
		Bound: l.w.trial, Limits: l.limits(who),
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
	filesFile    = "files.txt" // of the run whose frames it reads
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
	if from := l.w.lease.From; from != nil && l.w.lease.Recipe.TakesFiles() {
		set, err := frames.Parse(from.Frames)
		if err != nil {
			return nil, fmt.Errorf("reading which frames there are: %w", err)
		}
		var list strings.Builder
		for f := range set.All() {
			fmt.Fprintf(&list, "%d\t%s\n", f, fromFile(from, f))
		}
		if err := write(filesFile, []byte(list.String())); err != nil {
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
		l.last = saidOf{words, cause}
		if l.current != nil {
			if l.before == nil {
				l.now = time.Now()
			}
			l.finished()
		}
		return l.unseen(words)
	}
	if l.current == nil && l.allRendered() { // it ended badly after all was said to be finished
		l.w.log.Warn("a renderer ended with an error after its last frame", "lease", l.w.lease.ID, "said", words)
		return l.stretch.Last
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

// tellEnd describes how a launch failed: its signal or exit status first, then the most telling
// line that the renderer printed, then the others.
func tellEnd(words string, p *launcher.Process) string {
	_, how := p.Ended()
	return endText(words, how)
}

func endText(words, how string) string {
	end := "no error"
	if how != "" {
		end = how
	}
	if words == "" {
		return end + ", and the renderer printed nothing"
	}
	telling, rest, _ := strings.Cut(words, "\n")
	return strings.TrimRight(end+": "+telling+"\n"+rest, "\n")
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
