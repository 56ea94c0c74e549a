package node

import (
	"context"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"vexillum/internal/account"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/protocol/journal"
	"vexillum/internal/core/triage"
	"vexillum/internal/launcher"
	"vexillum/internal/publish"
	"vexillum/internal/recipe"
	"vexillum/internal/wire"
)

// TestMain lets this test program be the renderer, too: with RENDERER set it
// does what the variable says.
func TestMain(m *testing.M) {
	if script := os.Getenv("RENDERER"); script != "" {
		os.Exit(pretend(script))
	}
	os.Exit(m.Run())
}

// pretend is a renderer that follows a script of words.
func pretend(script string) int {
	for word := range strings.FieldsSeq(script) {
		verb, value, _ := strings.Cut(word, ":")
		switch verb {
		case "say":
			fmt.Println(strings.ReplaceAll(value, "_", " "))
		case "draw":
			w, h := 8, 4
			if number, size, ok := strings.Cut(value, "@"); ok {
				value = number
				_, _ = fmt.Sscanf(size, "%dx%d", &w, &h)
			}
			img := image.NewRGBA(image.Rect(0, 0, w, h))
			img.Set(1, 1, color.White)
			file, err := os.Create("f" + value + ".png")
			if err != nil {
				return 9
			}
			_ = png.Encode(file, img)
			_ = file.Close()
		case "write":
			name, text, _ := strings.Cut(value, "=")
			_ = os.MkdirAll(filepath.Dir(name), 0o755)
			_ = os.WriteFile(name, []byte(text), 0o644)
		case "sleep":
			d, _ := time.ParseDuration(value)
			time.Sleep(d)
		case "exit":
			code := 0
			_, _ = fmt.Sscan(value, &code)
			return code
		}
	}
	return 0
}

// fake is a service that notes what it is told.
type fake struct {
	mu      sync.Mutex
	items   []wire.ReportItem
	verdict string
	blind   int // how often it does not see what is delivered
	sent    int // frames that were sent to it
	err     error
	further []frames.Set // what leases are extended by, one after the other
}

func (f *fake) report(_ context.Context, items ...wire.ReportItem) ([]wire.Verdict, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.items = append(f.items, items...)
	if f.err != nil {
		return nil, f.err
	}
	out := make([]wire.Verdict, len(items))
	for i := range out {
		out[i].Verdict = f.verdict
		if f.blind > 0 && items[i].Outcome == wire.OutcomeDelivered {
			f.blind--
			out[i] = wire.Verdict{Verdict: wire.VerdictDeliver, Why: "it is not seen"}
		} else if items[i].Outcome == wire.OutcomeDelivered {
			out[i].Verdict = wire.VerdictNoted
		}
	}
	return out, nil
}

func (f *fake) thumbnail(context.Context, int64, int, []byte) {}

func (f *fake) checkpoint(context.Context, int64, int) (wire.Checkpoint, error) {
	return wire.Checkpoint{}, nil
}

func (f *fake) checkpointFile(context.Context, int64, int, string) error {
	return errors.New("there is none")
}

func (f *fake) upload(_ context.Context, u upload) (publish.Standing, error) {
	if f.blind > 0 || f.sent > 0 {
		f.sent++
		return publish.Standing{Hash: u.hash, Bytes: u.files[0].Bytes}, nil
	}
	return publish.Standing{}, fmt.Errorf("%w: nothing is sent here", publish.ErrNoPlace)
}

func (f *fake) furtherFrames(context.Context, int64) (set frames.Set, err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if len(f.further) > 0 {
		set, f.further = f.further[0], f.further[1:]
	}
	return set, nil
}

// told returns what was told, as "outcome frame cause".
func (f *fake) told() []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	var out []string
	for _, i := range f.items {
		out = append(out, strings.TrimSpace(fmt.Sprintf("%s %d %s", i.Outcome, i.Frame, i.Cause)))
	}
	return out
}

// leaseNumber keeps leases apart: launchers in one process find what a launch
// has left behind by its name.
var leaseNumber atomic.Int64

// newLauncher is a launcher in this process.
func newLauncher(t *testing.T) *launcher.Client {
	t.Helper()
	here, there := net.Pipe()
	go launcher.NewServer(t.TempDir(), slog.New(slog.DiscardHandler)).Attach(there)
	c := launcher.NewClient(here)
	t.Cleanup(c.End)
	return c
}

func newWork(t *testing.T, f *fake, script, set string) *work {
	t.Helper()
	dir := t.TempDir()
	if err := os.Mkdir(filepath.Join(dir, "out"), 0o755); err != nil {
		t.Fatal(err)
	}
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	r := recipe.Recipe{
		Name: "pretend", Mode: "range", Program: recipe.ProgramNamed(self), Picture: "png",
		Grace: recipe.Duration(200 * time.Millisecond), Environment: map[string]string{"RENDERER": script},
		FrameFile: `^f(\d+)\.png$`,
		Read: recipe.Reading{
			Begins:   `^begin (\d+)`,
			Progress: `^(\d+) of (\d+)$`,
			Causes:   []recipe.CauseRule{{Match: "no memory", Cause: "out of memory"}},
		},
	}
	f.verdict = wire.VerdictDeliver
	staging := filepath.Join(dir, "staging")
	if err := os.Mkdir(staging, 0o755); err != nil {
		t.Fatal(err)
	}
	log := slog.New(slog.DiscardHandler)
	book, err := openJournal(staging, log)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(book.close)
	w := &work{
		lease: &leased{
			Recipe: r,
			Lease: wire.Lease{
				ID: leaseNumber.Add(1), Run: 1, RunName: "a/final-1", Recipe: r.Name, Frames: set,
				ShotFirst: 1, ShotLast: 9, OutputRoot: filepath.Join(dir, "out"),
				Output: "a/final-1", FilePrefix: "a.", FileEnding: ".png", Digits: 4, Width: 8,
				Height: 4,
			},
		},
		svc: f, log: log, staging: staging, status: newStatus(func() {}), diary: newDiary(), ready: make(chan struct{}),
		host: machine{
			launcher: newLauncher(t), commands: commandsHere(t), speed: 1, node: "kiln-01", stall: time.Minute,
			share: func() own { return own{whole: true, threads: 1, part: 1} },
		},
	}
	w.diary.journal = book
	return w
}

// finish runs a lease and reports its end, as the agent does.
func finish(ctx context.Context, w *work) error {
	ended, err := w.run(ctx)
	if err == nil {
		_, err = w.svc.report(
			ctx, wire.ReportItem{Outcome: wire.OutcomeEnded, Lease: ended.Lease, Message: ended.Message},
		)
		w.clear()
	}
	return err
}

func TestWhatALaunchTells(t *testing.T) {
	for _, c := range []struct {
		name, script, frames string
		told                 []string
	}{
		{"all well", "say:begin_1 draw:1 say:begin_2 draw:2 exit:0", "1-2",
			[]string{"good 1", "delivered 1", "good 2", "delivered 2", "ended 0"}},
		{"a frame said twice", "say:begin_1 say:begin_1 draw:1 exit:0", "1", []string{"good 1", "delivered 1", "ended 0"}},
		{"nothing said, but drawn", "draw:1 draw:2 exit:0", "1-2", []string{"good 1", "delivered 1", "good 2", "delivered 2", "ended 0"}},
		{"ends well and leaves nothing", "say:begin_1 exit:0", "1", []string{"failed 1 no frame", "ended 0"}},
		{"of another size", "say:begin_1 draw:1@9x4 exit:0", "1", []string{"failed 1 wrong output", "ended 0"}},
		{"fails before the first", "say:no_memory exit:1", "3", []string{"failed 3 out of memory", "ended 0"}},
		{"an unknown error", "say:begin_1 exit:3", "1", []string{"failed 1 crash", "ended 0"}},
		{"a frame of another launch, and a crash", "say:begin_1 exit:3", "5", []string{"failed 5 crash", "ended 0"}},
		{"progress in carriage returns", "say:begin_1 say:1_of_2\r2_of_2 draw:1 exit:0", "1", []string{"good 1", "delivered 1", "ended 0"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := &fake{}
			w := newWork(t, f, c.script, c.frames)
			if err := finish(t.Context(), w); err != nil {
				t.Fatal(err)
			}
			got := f.told()
			slices.Sort(got)
			want := slices.Clone(c.told)
			slices.Sort(want)
			if !slices.Equal(got, want) {
				t.Errorf("told %q, want %q", got, want)
			}
			if _, err := os.Stat(w.staging); !errors.Is(err, os.ErrNotExist) {
				t.Error("the staging folder is left behind")
			}
		})
	}
}

// TestSingleLaunchesGoOnInTheirLease extends a lease of single frames twice. A
// frame that has failed in it is not tried in it again.
func TestSingleLaunchesGoOnInTheirLease(t *testing.T) {
	set := func(text string) (s frames.Set) {
		if err := s.UnmarshalText([]byte(text)); err != nil {
			t.Fatal(err)
		}
		return s
	}
	f := &fake{further: []frames.Set{set("1-4"), set("2,4-5")}}
	w := newWork(t, f, "say:begin_1 draw:1 exit:0", "1-2") // it renders nothing but frame 1
	w.lease.Recipe.Mode = "single"
	if err := finish(t.Context(), w); err != nil {
		t.Fatal(err)
	}
	got := f.told()
	slices.Sort(got)
	want := []string{
		"delivered 1", "ended 0", "failed 2 no frame", "failed 3 no frame", "failed 4 no frame", "failed 5 no frame",
		"good 1",
	}
	if !slices.Equal(got, want) {
		t.Errorf("told %q, want %q", got, want)
	}
}

func TestFailureTellsTheLastWords(t *testing.T) {
	f := &fake{}
	w := newWork(t, f, "say:begin_1 say:the_lamp_is_broken exit:3", "1")
	if err := finish(t.Context(), w); err != nil {
		t.Fatal(err)
	}
	if m := f.items[0].Message; !strings.Contains(m, "exit status 3") || !strings.Contains(m, "the lamp is broken") {
		t.Errorf("message %q", m)
	}
}

func TestARendererThatCannotStart(t *testing.T) {
	f := &fake{}
	w := newWork(t, f, "", "1-2")
	w.lease.Recipe.Program = recipe.ProgramNamed("no-such-renderer")
	if err := finish(t.Context(), w); err != nil {
		t.Fatal(err)
	}
	if got := f.told(); !slices.Equal(got, []string{"failed 1 no start", "failed 2 no start", "ended 0"}) {
		t.Errorf("told %q", got)
	}
}

func TestStalledRendererIsEnded(t *testing.T) {
	f := &fake{}
	w := newWork(t, f, "say:begin_1 sleep:1h", "1")
	w.host.stall = 10 * time.Millisecond
	if err := finish(t.Context(), w); err != nil {
		t.Fatal(err)
	}
	if got := f.told(); !slices.Equal(got, []string{"failed 1 stalled", "ended 0"}) {
		t.Errorf("told %q", got)
	}
}

func TestStopAtOnceAndAtTheBorder(t *testing.T) {
	for _, now := range []bool{true, false} {
		f := &fake{}
		w := newWork(t, f, "say:begin_1 sleep:300ms draw:1 say:begin_2 sleep:1h", "1-2")
		ended := make(chan error)
		go func() { ended <- finish(t.Context(), w) }()
		<-w.ready
		for w.status.progress(w.lease.ID).Frame == nil {
			time.Sleep(5 * time.Millisecond)
		}
		w.stop(now, "a test")
		if err := <-ended; err != nil {
			t.Fatal(err)
		}
		want := []string{"good 1", "delivered 1", "ended 0"}
		if now {
			want = []string{"ended 0"}
		}
		if got := f.told(); !slices.Equal(got, want) {
			t.Errorf("now %v: told %q, want %q", now, got, want)
		}
	}
}

// TestWhatIsSaidAgainIsNoSignOfLife lets renderers say the same again and again, or
// go on slowly.
func TestWhatIsSaidAgainIsNoSignOfLife(t *testing.T) {
	for name, c := range map[string]struct {
		script string
		want   []string
	}{
		"no progress": {"say:begin_1" + strings.Repeat(" say:0_of_10 sleep:100ms", 40), []string{"failed 1 stalled", "ended 0"}},
		"one line":    {"say:begin_1" + strings.Repeat(" say:still_here sleep:100ms", 40), []string{"failed 1 stalled", "ended 0"}},
		"it goes on":  {"say:begin_1 say:1_of_10 sleep:1s say:2_of_10 sleep:1s say:3_of_10 sleep:1s draw:1 exit:0", []string{"good 1", "delivered 1", "ended 0"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			f := &fake{}
			w := newWork(t, f, c.script, "1")
			w.host.stall, w.lease.Stall = 0, 2
			if err := finish(t.Context(), w); err != nil {
				t.Fatal(err)
			}
			if got := f.told(); !slices.Equal(got, c.want) {
				t.Errorf("told %q, want %q", got, c.want)
			}
		})
	}
}

// TestWhenARendererMayBeStopped orders leases to end at once whose renderers may
// be stopped at borders only, or never.
func TestWhenARendererMayBeStopped(t *testing.T) {
	for stop, want := range map[recipe.Stop][]string{
		recipe.StopBorder: {"good 1", "delivered 1", "ended 0"},
		recipe.StopNever:  {"good 1", "delivered 1", "good 2", "delivered 2", "ended 0"},
		recipe.StopKill:   {"ended 0"},
	} {
		t.Run(string(stop), func(t *testing.T) {
			t.Parallel()
			f := &fake{}
			w := newWork(t, f, "say:begin_1 sleep:300ms draw:1 say:begin_2 sleep:300ms draw:2 exit:0", "1-2")
			w.lease.Recipe.Stop = stop
			ended := make(chan error)
			go func() { ended <- finish(t.Context(), w) }()
			<-w.ready
			for w.status.progress(w.lease.ID).Frame == nil {
				time.Sleep(5 * time.Millisecond)
			}
			w.stop(true, "a test")
			if err := <-ended; err != nil {
				t.Fatal(err)
			}
			if got := f.told(); !slices.Equal(got, want) {
				t.Errorf("told %q, want %q", got, want)
			}
		})
	}
}

// TestTimesFromFiles learns what frames take of a renderer that does not tell when
// they begin.
func TestTimesFromFiles(t *testing.T) {
	var wrong []string
	for range 4 { // a machine that is busy for a moment stretches what the renderer sleeps
		f := &fake{}
		w := newWork(t, f, "sleep:600ms draw:1 sleep:200ms draw:2 sleep:200ms draw:3 exit:0", "1-3")
		w.lease.Recipe.Read.Begins = ""
		if err := finish(t.Context(), w); err != nil {
			t.Fatal(err)
		}
		wrong = nil
		for _, item := range f.items {
			if item.Outcome != wire.OutcomeGood {
				continue
			}
			first := item.Frame == 1
			if item.RenderSeconds < 0.1 || item.RenderSeconds > 0.5 || first != (item.StartupSeconds > 0.2) {
				wrong = append(wrong, fmt.Sprintf(
					"frame %d took %.2f s, after %.2f s to start", item.Frame, item.RenderSeconds, item.StartupSeconds,
				))
			}
		}
		if len(wrong) == 0 {
			return
		}
	}
	t.Errorf("%q", wrong)
}

// TestAPictureThatEndsTheProcessIsSetAside plays what a journal reports after the node
// process has ended twice while it looked at a picture.
func TestAPictureThatEndsTheProcessIsSetAside(t *testing.T) {
	f := &fake{}
	w := newWork(t, f, "say:begin_1 draw:1 exit:0", "1")
	w.stops.ctx = t.Context()
	folder := filepath.Join(w.staging, "launch-1")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	c := check{launch: 1, frame: 1, path: filepath.Join(folder, "f1.png")}
	if err := os.WriteFile(c.path, []byte("a deadly picture"), 0o644); err != nil {
		t.Fatal(err)
	}
	w.diary.held.Note(journal.Entry{Do: journal.Launched, Launch: 1, First: 1, Last: 1})
	w.diary.held.Note(journal.Entry{Do: journal.Finished, Launch: 1, Frame: 1, Path: "launch-1/f1.png"})
	w.diary.held.Note(journal.Entry{Do: journal.Looked, Launch: 1, Frame: 1})
	w.diary.held.Note(
		journal.Entry{Do: journal.Seen, Launch: 1, Frame: 1},
	) // a look that did no harm counts for nothing
	for range 2 {
		w.diary.held.Note(journal.Entry{Do: journal.Looked, Launch: 1, Frame: 1})
	}
	w.finish(c)
	if got := f.told(); !slices.Equal(got, []string{"failed 1 wrong output"}) || !strings.Contains(
		f.items[0].Message, "has ended the node process twice",
	) {
		t.Errorf("told %q: %+v", got, f.items)
	}
	aside, _ := filepath.Glob(filepath.Join(filepath.Dir(w.staging), "aside", "*f1.png"))
	if _, err := os.Stat(c.path); err == nil || len(aside) != 1 {
		t.Errorf("the picture is set aside as %v, %v", aside, err)
	}
}

func TestALostSessionEndsTheWork(t *testing.T) {
	f := &fake{err: ErrSuperseded}
	w := newWork(t, f, "say:begin_1 draw:1 say:begin_2 sleep:1h", "1-2")
	if err := finish(t.Context(), w); !errors.Is(err, ErrSuperseded) {
		t.Errorf("it ended with %v", err)
	}
}

// TestWhatTheServiceDoesNotSeeIsNotDone delivers a frame that the service does
// not see at first, and then one that it never sees until it is sent.
func TestWhatTheServiceDoesNotSeeIsNotDone(t *testing.T) {
	for _, c := range []struct{ blind, sent int }{{1, 0}, {3, 2}} {
		f := &fake{blind: c.blind}
		w := newWork(t, f, "say:begin_1 draw:1 exit:0", "1")
		if err := finish(t.Context(), w); err != nil {
			t.Fatal(err)
		}
		want := []string{"good 1"}
		for range c.blind + 1 {
			want = append(want, "delivered 1")
		}
		if got := f.told(); !slices.Equal(got, append(want, "ended 0")) || f.sent != c.sent {
			t.Errorf("not seen %d times: told %q, sent %d times, want %d", c.blind, got, f.sent, c.sent)
		}
	}
}

func TestUnwantedFrameIsNotDelivered(t *testing.T) {
	f := &fake{}
	w := newWork(t, f, "say:begin_1 draw:1 exit:0", "1")
	f.verdict = wire.VerdictDiscard
	if err := finish(t.Context(), w); err != nil {
		t.Fatal(err)
	}
	if got := f.told(); !slices.Equal(got, []string{"good 1", "ended 0"}) {
		t.Errorf("told %q", got)
	}
	if entries, _ := os.ReadDir(w.lease.OutputRoot); len(entries) != 0 {
		t.Errorf("%d things were delivered", len(entries))
	}
}

func TestReaderTakesAnyChunks(t *testing.T) {
	text := "begin 1\n\r\n10 of 20\r20 of 20\rno memory left\nvx done 1\nbegin 2\n"
	for size := 1; size < len(text); size++ {
		var got []string
		var first saidOf
		r := newReader(
			recipe.Reading{
				Begins:   `^begin (\d+)`,
				Progress: `^(\d+) of (\d+)$`,
				Causes:   []recipe.CauseRule{{Match: "no memory", Cause: "out of memory"}},
			},
			func(m mark) {
				switch {
				case m.begins != nil:
					got = append(got, fmt.Sprint("begin ", *m.begins))
				case m.progress != nil:
					got = append(got, fmt.Sprint("progress ", *m.progress))
				case m.feed != "":
					got = append(got, m.feed)
				}
				if m.last != nil {
					first = *m.last
				}
			},
		)
		for at := 0; at < len(text); at += size {
			r.Said(1, []byte(text[at:min(at+size, len(text))]), time.Now())
		}
		if want := []string{"begin 1", "progress 0.5", "progress 1", "done 1", "begin 2"}; !slices.Equal(got, want) {
			t.Fatalf("in pieces of %d: %q", size, got)
		}
		if first.cause != "out of memory" || strings.Contains(first.words, "of 20") {
			t.Errorf("of the first frame %+v was said", first)
		}
		if words, cause := r.words(); cause != "" || strings.Contains(words, "memory") {
			t.Errorf("of the second frame %q is said, cause %q", words, cause)
		}
	}
}

// commandsHere runs commands of recipes as this test does.
func commandsHere(t *testing.T) *commands {
	t.Helper()
	policy, err := account.Open(account.Options{AsSelf: true})
	if err != nil {
		t.Fatal(err)
	}
	return &commands{launcher: newLauncher(t), accounts: policy, staging: t.TempDir()}
}

// TestExitCodesNameCauses ends renderers that have said nothing of what is wrong.
func TestExitCodesNameCauses(t *testing.T) {
	for code, want := range map[string]string{"7": "failed 1 missing file", "8": "failed 1 crash"} {
		f := &fake{}
		w := newWork(t, f, "say:begin_1 exit:"+code, "1")
		w.lease.Recipe.Read.Codes = map[string]string{"7": triage.CauseMissingFile}
		if err := finish(t.Context(), w); err != nil {
			t.Fatal(err)
		}
		if got := f.told(); len(got) == 0 || got[0] != want {
			t.Errorf("exit %s: told %q, want %q", code, got, want)
		}
	}
}

// TestProgressIsReadInBothForms reads progress as done of all and as a per cent.
func TestProgressIsReadInBothForms(t *testing.T) {
	for _, c := range []struct {
		reading recipe.Reading
		line    string
		want    float64 // below 0: it reports nothing
	}{
		{recipe.Reading{Progress: `(\S+) of (\S+)`}, "3 of 4", 0.75},
		{recipe.Reading{Progress: `(\S+) of (\S+)`}, "3 of none", -1},
		{recipe.Reading{Percent: `([\d.]+) ?%`}, "rendering: 12.5 %", 0.125},
		{recipe.Reading{Percent: `([\d.]+) ?%`}, "250%", 1},
		{recipe.Reading{Percent: `(\S+)%`}, "NaN%", -1},
		{recipe.Reading{Progress: `(\S+) of (\S+)`, Percent: `([\d.]+)%`}, "50%", 0.5},
	} {
		got := -1.0
		r := newReader(c.reading, func(m mark) {
			if m.progress != nil {
				got = *m.progress
			}
		})
		r.Said(1, []byte(c.line+"\n"), time.Now())
		if got != c.want {
			t.Errorf("%q: %v, want %v", c.line, got, c.want)
		}
	}
}

// TestATrialTellsHowLinesAreUnderstood tries a recipe by hand, whose renderer says
// something of each sort.
func TestATrialTellsHowLinesAreUnderstood(t *testing.T) {
	script := "say:begin_1 say:1_of_4 say:2_of_4 say:3_of_4 say:4_of_4 say:hello draw:1 say:begin_2 say:no_space " +
		"say:1_of_4 say:1_of_4 say:1_of_4 say:2_of_4 say:2_of_4 exit:3"
	r := newWork(t, &fake{}, script, "1-2").lease.Recipe
	r.Read.Causes = []recipe.CauseRule{{Match: "no space", Cause: triage.CauseDiskFull}}
	r.Probe = recipe.Probe{NoVersion: true}
	scene := filepath.Join(t.TempDir(), "a.pretend")
	if err := os.WriteFile(scene, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	var launched, heard []string
	trial := Trial{
		Recipe: &r, Scene: scene, Frames: frames.Span{First: 1, Last: 2}, Shot: frames.Span{First: 1, Last: 2}, Width: 8,
		Height: 4, Folder: t.TempDir(),
		Launched: func(program string, _, _ []string) { launched = append(launched, program) },
		Heard:    func(line, meaning string) { heard = append(heard, line+" = "+meaning) },
	}
	report, err := Try(t.Context(), trial)
	if err != nil {
		t.Fatal(err)
	}
	want := []string{
		r.Program.Here()[0] + " = probe",
		"begin 1 = frame 1 begins", "1 of 4 = 25 % of the frame", "2 of 4 = 50 % of the frame",
		"3 of 4 = 75 % of the frame", "… 1 more line of progress … = ", "hello = ", "begin 2 = frame 2 begins",
		"no space = names the cause: disk full", "1 of 4 = 25 % of the frame", "1 of 4 = 25 % of the frame",
		"1 of 4 = 25 % of the frame", "… 2 more lines of progress … = ",
	}
	if !slices.Equal(heard, want) || len(launched) != 1 {
		t.Errorf("heard %q, want %q; launched %q", heard, want, launched)
	}
	if f := report.Frames; len(f) != 2 || !f[0].Good || f[1].Good || f[1].Cause != triage.CauseDiskFull {
		t.Errorf("it came to %+v", f)
	}
	if _, err := os.Stat(filepath.Join(trial.Folder, "launch-1", "f1.png")); err != nil {
		t.Errorf("the picture is not kept: %v", err)
	}
	r.Read.Begins, r.Read.Progress = "^never (\\d+)", ""
	trial.Folder, trial.Heard = t.TempDir(), nil
	if report, err = Try(t.Context(), trial); err != nil || len(report.Missing) != 2 ||
		!strings.Contains(report.Missing[0], "no line told that a frame begins") ||
		!strings.Contains(report.Missing[1], "reads no progress") {
		t.Errorf("missing: %q, %v", report.Missing, err)
	}
}
