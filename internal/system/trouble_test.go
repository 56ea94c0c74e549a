package system

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"vexillum/internal/testkit/browser"
	"vexillum/internal/wire"
)

// TestTroubleIsToldTogether lets frames fail by two causes, and reads on the command line and
// on the page what failed, what became of it and what to do.
func TestTroubleIsToldTogether(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	if out := f.must("trouble"); !strings.Contains(out, "Nothing has failed") {
		t.Error(out)
	}
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 30ms\ntrouble:\n"+
		"  - {frame: 3, does: memory}\n  - {frame: 5, does: error}\n  - {frame: 6, does: error}\n")
	f.join("kiln-01", "--renderers", "practice-single")
	f.join("kiln-02", "--renderers", "practice-single")
	id := f.submit(wire.Submit{Job: "salt", Recipe: "practice-single", Scene: "salt.practice", Frames: "1-8", Tries: 2})
	if run := f.ended(id); run.State != "done with gaps" || run.Sets.Parked != "3,5-6" {
		t.Fatalf("the run is %s, parked %s", run.State, run.Sets.Parked)
	}
	groups := func(query string) (out []wire.TroubleGroup) {
		t.Helper()
		if err := f.admin.Do(t.Context(), "GET", "/api/v1/trouble"+query, nil, &out); err != nil {
			t.Fatal(err)
		}
		return out
	}
	all := groups("")
	if len(all) != 2 || all[0].Key != "crash" || all[0].Frames != 2 || all[0].Parked != 2 || all[0].Tries != 4 ||
		all[1].Key != "out of memory" || all[1].Frames != 1 || all[1].Runs[0].Parked != "3" || all[1].Remedy == "" {
		t.Errorf("%+v", all)
	}
	if all[1].Blame.Kind != "frame on small nodes" || all[1].Blame.Sure < 0.5 || all[1].Blame.Text == "" {
		t.Errorf("to blame for a lack of memory: %+v", all[1].Blame)
	}
	byNode := groups("?by=node")
	if len(byNode) != 4 || len(byNode[0].Causes) != 1 || byNode[0].Blame.Kind == byNode[2].Blame.Kind {
		t.Errorf("%+v", byNode)
	}
	for args, want := range map[string][]string{
		"trouble": {
			"CRASH", "2 frames of salt/final-1 failed on kiln-01 and kiln-02 with crash; 2 are parked",
			"OUT OF MEMORY", "memory>=64GiB", "to blame", "too heavy for small nodes", "vexillum retry salt/final-1",
		},
		"trouble --by run":                  {"SALT/FINAL-1  2 frames of salt/final-1", "SALT/FINAL-1  1 frame of salt/final-1"},
		"trouble salt --cause crash":        {"CRASH"},
		"trouble --node kiln-01 --by cause": {"failed on kiln-01 with crash"},
		"trouble --since 24h":               {"CRASH"},
	} {
		out := f.must(strings.Fields(args)...)
		for _, text := range want {
			if !strings.Contains(out, text) {
				t.Errorf("vexillum %s does not say %q:\n%s", args, text, out)
			}
		}
	}
	for args, says := range map[string]string{
		"trouble --by moon":       "by cause, node, recipe or run",
		"trouble --cause rain":    `"rain" is no cause; they are crash`,
		"trouble --node kiln-99":  "there is no node",
		"trouble --since -3h":     "how long to look back",
		"trouble pepper":          "there is no run",
		"trouble --node= --by=":   "is empty",
		"trouble salt pepper":     "at most 1",
		"trouble --since yonder":  "it takes a time such as",
		"trouble --by run --json": "",
	} {
		if _, stderr, code := f.vexillum(strings.Fields(args)...); says != "" &&
			(code == 0 || !strings.Contains(stderr, says)) {
			t.Errorf("vexillum %s: %d %s", args, code, stderr)
		}
	}

	// What is to be tried again is chosen by what failed it.
	for args, says := range map[string]string{
		"retry --cause crash --dry-run":            "salt/final-1  frames 5-6\n2 frames would be tried again.",
		"retry --node kiln-01 --dry-run":           "frames would be tried again.",
		"retry salt --frames 3,6 --dry-run":        "salt/final-1  frames 3,6\n2 frames would be tried again.",
		"retry salt --frames 3 --cause crash":      "No parked frame fits that",
		"retry salt salt --node kiln-02 --dry-run": "frames would be tried again.",
	} {
		if out := f.must(strings.Fields(args)...); !strings.Contains(out, says) {
			t.Errorf("vexillum %s: %s", args, out)
		}
	}
	for args, says := range map[string]string{
		"retry --frames 3":              "frames are those of one run",
		"retry --cause rain":            `"rain" is no cause`,
		"retry --node kiln-99":          "there is no node",
		"retry --mine --node kiln-01":   "choose whole runs",
		"retry pepper --cause crash":    "there is no run",
		"retry salt --frames a-b":       "not a number at character 1",
		"retry salt --cause= --frames=": "is empty",
	} {
		if _, stderr, code := f.vexillum(strings.Fields(args)...); code == 0 || !strings.Contains(stderr, says) {
			t.Errorf("vexillum %s: %d %s", args, code, stderr)
		}
	}
	if run := f.run(id); run.Sets.Parked != "3,5-6" {
		t.Errorf("what was only asked about is tried again: parked %s", run.Sets.Parked)
	}

	c := f.open()
	c.signInAs("admin", password)
	c.sees("Queue")
	c.goTo("/trouble")
	c.sees("2 frames of salt/final-1 failed on kiln-01 and kiln-02 with crash")
	c.sees("2 not done")
	c.accessible("Trouble")
	c.noSidewaysScroll("Trouble")
	c.do(chromedp.EmulateViewport(390, 800))
	c.noSidewaysScroll("Trouble on a telephone")
	c.do(chromedp.EmulateViewport(browser.Width, browser.Height))
	c.press("node")
	c.sees("failed on kiln-02 with")
	c.press("cause")

	// What is mended is asked for again, and leaves the page once it is done.
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 30ms\n")
	c.click(`//section[@aria-label="out of memory"]//button[normalize-space()="Try all of it again"]`)
	c.sees("1 frame of 1 run tried again.")
	f.wait("one of them is left alone", func() bool { return f.run(id).Sets.Parked == "5-6" })
	c.click(`//section[@aria-label="crash"]//button[normalize-space()="Try again"]`)
	c.sees("tries its parked frames again")
	f.wait("the run has noticed its scene", func() bool {
		return slices.Contains([]string{"held", "done"}, f.run(id).State)
	})
	if f.run(id).State == "held" {
		f.must("release", "salt")
	}
	f.wait("all is done", func() bool { return f.run(id).State == "done" })
	c.sees("Nothing has failed that somebody would have to look at.")
}

// TestEveryCauseForReal lets the practice renderer fail in all the ways in which renderers
// do: each is named, on its way through node, service and command line.
func TestEveryCauseForReal(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	ways := []struct{ does, cause string }{
		{"error", "crash"}, {"crash", "crash"}, {"memory", "out of memory"}, {"licence", "no licence"},
		{"missing file", "missing file"}, {"no plug-in", "no plug-in"}, {"not allowed", "not allowed"},
		{"no file", "no frame"}, {"cut off", "wrong output"},
		{"wrong size", "wrong output"}, {"hang", "stalled"},
	}
	text := "practice: 1\npicture: salt\ncost: 20ms\ntrouble:\n"
	for i, w := range ways {
		text += fmt.Sprintf("  - {frame: %d, does: %s}\n", 2*i+1, w.does)
	}
	blank := 2*len(ways) + 1
	f.scene("salt.practice", text+fmt.Sprintf("  - {frame: %d, does: blank}\n", blank))
	f.join("kiln-01", "--renderers", "practice-single")
	f.join("kiln-02", "--renderers", "practice-single")
	id := f.submit(wire.Submit{
		Job: "salt", Recipe: "practice-single", Scene: "salt.practice", Frames: fmt.Sprintf("1-%d", blank+80), Tries: 1,
		Stall: 2,
	})
	run := f.ended(id)
	for i, w := range ways {
		frame := 2*i + 1
		at := slices.IndexFunc(run.Troubles, func(t wire.FrameTrouble) bool { return t.Frame == frame })
		if at < 0 {
			t.Errorf("%s: frame %d is not in trouble", w.does, frame)
			continue
		}
		for _, a := range run.Troubles[at].Failed {
			if a.Cause != w.cause || a.Message == "" || a.Blame.Kind == "" || a.Blame.Sure <= 0 {
				t.Errorf("%s: %+v, want %s", w.does, a, w.cause)
			}
		}
	}
	if run.State != "done with gaps" || len(run.Troubles) != len(ways) {
		t.Errorf(
			"the run is %s with %d frames in trouble, want %d: %s",
			run.State,
			len(run.Troubles),
			len(ways),
			run.Why,
		)
	}
	if run.Sets.Suspect != fmt.Sprint(blank) {
		t.Errorf("suspect is %q, want the empty frame %d", run.Sets.Suspect, blank)
	}
	// A full disk may be that of the place: what waits for it goes on by the clock.
	f.scene("full.practice", "practice: 1\npicture: salt\ncost: 20ms\ntrouble:\n  - {frame: 1, does: disk full}\n")
	full := f.submit(wire.Submit{Job: "full", Recipe: "practice-single", Scene: "full.practice", Frames: "1-2"})
	f.wait("the full disk is named", func() bool {
		r := f.run(full)
		return len(r.Troubles) == 1 && r.Troubles[0].Failed[0].Cause == "disk full" && r.Troubles[0].Tried == 0
	})
	f.must("cancel", "full", "--yes")
	var nodes []wire.Node
	if err := f.admin.Do(t.Context(), "GET", "/api/v1/nodes", nil, &nodes); err != nil {
		t.Fatal(err)
	}
	for _, n := range nodes {
		if n.Health != "fine" {
			t.Errorf("%s is %s for frames that fail everywhere: %s", n.Name, n.Health, n.Why)
		}
	}
}

// TestWhatIsGoneIsWaitedFor: where a place cannot be reached, its runs wait and say so once;
// one frame tries whether it is back, and nobody is set aside.
func TestWhatIsGoneIsWaitedFor(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.join("kiln-01", "--renderers", "practice-single")
	f.join("kiln-02", "--renderers", "practice-single")
	back := time.Now().Add(12 * time.Second) // from when on nodes are there, however long that took
	f.scene("salt.practice", fmt.Sprintf(
		"practice: 1\npicture: salt\ncost: 20ms\ntrouble:\n  - {frames: 1-30, does: place gone, until: %s}\n",
		back.UTC().Format(time.RFC3339),
	))
	id := f.submit(wire.Submit{Job: "salt", Recipe: "practice-single", Scene: "salt.practice", Frames: "1-30"})
	var farm wire.Farm
	f.wait("it is said that all wait", func() bool {
		if err := f.admin.Do(t.Context(), "GET", "/api/v1/farm", nil, &farm); err != nil {
			return false
		}
		return slices.ContainsFunc(farm.Hands, func(h wire.NeedHand) bool {
			return h.Kind == "waiting" && strings.Contains(h.Sentence, "1 run waits") &&
				strings.Contains(h.Evidence, "place gone")
		})
	})
	if out := f.must("why", "salt"); !strings.Contains(out, "waits for the place") {
		t.Error(out)
	}
	f.service.end(syscall.SIGKILL)
	f.serve()
	run := f.ended(id)
	if run.State != "done" {
		t.Errorf("the run is %s: %s", run.State, run.Why)
	}
	f.wait("nothing waits any more", func() bool {
		return f.admin.Do(t.Context(), "GET", "/api/v1/farm", nil, &farm) == nil &&
			!slices.ContainsFunc(
				farm.Hands,
				func(h wire.NeedHand) bool { return h.Kind == "waiting" || h.Kind == "sidelined" },
			)
	})
}

// TestSilenceIsToldBeforeItIsEnded: a renderer that hangs is warned of with when it will be
// ended, and its frame is tried again.
func TestSilenceIsToldBeforeItIsEnded(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 20ms\ntrouble:\n  - {frame: 2, does: hang}\n")
	f.join("kiln-01", "--renderers", "practice-single", "--stall", "8s")
	id := f.submit(wire.Submit{Job: "salt", Recipe: "practice-single", Scene: "salt.practice", Frames: "1-3", Tries: 1})
	f.wait("it is told that the renderer is silent", func() bool {
		return strings.Contains(f.must("nodes"), "without a sign of life for") &&
			strings.Contains(
				f.must("why", "salt", "--frame", "2"),
				"and idle; it is ended after 8s and tried elsewhere",
			)
	})
	if run := f.ended(id); run.Sets.Parked != "2" || run.State != "done with gaps" {
		t.Errorf("%s, parked %s", run.State, run.Sets.Parked)
	}
	if out := f.must("nodes"); strings.Contains(out, "sign of life") {
		t.Errorf("the warning stays: %s", out)
	}
}

// TestWhoComputesMayBeSilentForLonger: a frame that is merely heavier than was foreseen goes on
// as long as its renderer computes, unless the job has said how long it may be silent.
func TestWhoComputesMayBeSilentForLonger(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 20ms\ntrouble:\n  - {frame: 2, does: brood}\n")
	f.join("kiln-01", "--renderers", "practice-single", "--stall", "4s")
	submit := wire.Submit{Job: "salt", Recipe: "practice-single", Scene: "salt.practice", Frames: "1-3", Tries: 1}
	id := f.submit(submit)
	f.wait("it is told that the renderer is at work", func() bool {
		return strings.Contains(f.must("nodes"), "but at work; it is ended after 16s")
	})
	if run := f.ended(id); run.State != "done" {
		t.Errorf("it is %s: %+v", run.State, run.Troubles)
	}
	submit.Job, submit.Stall = "bound", 4
	if run := f.ended(f.submit(submit)); run.Sets.Parked != "2" {
		t.Errorf("with a limit that the job has set it is %s, parked %s", run.State, run.Sets.Parked)
	}
}

// TestFramesAreGivenUpAndAccepted: parked frames are skipped with a note, suspect ones are
// accepted, and neither asks for anybody any more, after a restart either.
func TestFramesAreGivenUpAndAccepted(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 20ms\ntrouble:\n"+
		"  - {frame: 3, does: error}\n  - {frame: 5, does: error}\n  - {frame: 7, does: blank}\n")
	f.join("kiln-01", "--renderers", "practice-single")
	id := f.submit(wire.Submit{Job: "salt", Recipe: "practice-single", Scene: "salt.practice", Frames: "1-8", Tries: 1})
	if run := f.ended(id); run.State != "done with gaps" || run.Sets.Parked != "3,5" || run.Sets.Suspect != "7" {
		t.Fatalf("the run is %s, parked %s, suspect %s", run.State, run.Sets.Parked, run.Sets.Suspect)
	}
	hands := func() (kinds []string) {
		var farm wire.Farm
		if err := f.admin.Do(t.Context(), "GET", "/api/v1/farm", nil, &farm); err != nil {
			t.Fatal(err)
		}
		for _, h := range farm.Hands {
			kinds = append(kinds, h.Kind)
		}
		return kinds
	}
	if !slices.Contains(hands(), "parked") {
		t.Errorf("nobody is asked for parked frames: %v", hands())
	}
	// What is suspect is there, and comes along.
	to := t.TempDir()
	if out := f.must("fetch", "salt", "--to", to); !strings.Contains(out, "6 frames") || !strings.Contains(out, "suspect") {
		t.Errorf("fetch says %s", out)
	}
	if _, err := os.Stat(filepath.Join(to, "salt.0007.png")); err != nil {
		t.Errorf("the suspect frame is not fetched: %v", err)
	}
	for _, c := range []struct{ args, says string }{
		{"skip salt --dry-run", "salt/final-1: frames 3,5 would be skipped."},
		{"skip salt --frames 3 --note cut", "salt/final-1: frame 3 is skipped."},
		{"accept salt --dry-run", "frame 7 would be accepted."},
		{"accept salt", "frame 7 is accepted."},
	} {
		if out := f.must(strings.Fields(c.args)...); !strings.Contains(out, c.says) {
			t.Errorf("vexillum %s: %s", c.args, out)
		}
	}
	for args, says := range map[string]string{
		"skip salt --frames 1":     "cannot be skipped",
		"skip salt --frames 1-":    "character",
		"skip salt --frames= ":     "is empty",
		"accept salt":              "no frame of salt/final-1 is suspect",
		"accept salt --frames 3":   "not suspect",
		"accept pepper":            "there is no run",
		"skip salt --note a\nb":    "",
		"skip salt pepper":         "the name of a run",
		"skip --frames 3 --note x": "the name of a run",
	} {
		if _, stderr, code := f.vexillum(strings.Fields(args)...); says != "" &&
			(code == 0 || !strings.Contains(stderr, says)) {
			t.Errorf("vexillum %s: %d %s", args, code, stderr)
		}
	}
	f.must("skip", "salt", "--note", "cut from the film")
	c := f.open()
	c.signInAs("admin", password)
	c.sees("Queue")
	c.goTo(fmt.Sprintf("/runs/%d", id))
	c.sees("is skipped: cut from the film")
	c.accessible("a run with frames that are given up")
	c.click(`//li[contains(., "frame 3")]//button[normalize-space()="Try again"]`)
	c.sees("Frame 3 of salt/final-1 will be tried again.")
	c.sees("is parked and waits for a person")
	f.wait(
		"frame 3 has failed again",
		func() bool { r := f.run(id); return r.EndedAt != nil && r.Sets.Parked == "3" && r.Sets.Skipped == "5" },
	)
	c.click(`//li[contains(., "frame 3")]//button[normalize-space()="Give up"]`)
	c.sees("Frame 3 of salt/final-1 is given up.")
	if kinds := hands(); slices.Contains(kinds, "parked") {
		t.Errorf("somebody is still asked for what was given up: %v", kinds)
	}
	f.service.end(syscall.SIGKILL)
	f.serve()
	if kinds := hands(); slices.Contains(kinds, "parked") {
		t.Errorf("after a restart somebody is asked for what was given up: %v", kinds)
	}
	if run := f.run(id); run.Sets.Suspect != "" || run.Sets.Skipped != "3,5" || run.Sets.Parked != "" {
		t.Errorf("after a restart %+v", run.Sets)
	}
	if _, stderr, code := f.vexillum("retry", "salt", "--yes"); code == 0 ||
		!strings.Contains(stderr, "but frames 3,5, which somebody has given up") {
		t.Errorf("retry of what is skipped: %d %s", code, stderr)
	}
	f.must("retry", "salt", "--frames", "3,5", "--yes")
	held := f.submit(wire.Submit{
		Job: "pepper", Recipe: "practice-single", Scene: "salt.practice", Frames: "1-8", Tries: 1, Held: true,
	})
	for args, says := range map[string]string{
		"park pepper":              "name the frames",
		"park pepper --frames 9":   "cannot be parked",
		"park pepper --frames 1-8": "that is all that is left of pepper/final-1",
		"park salt --frames 1":     "park",
		"park pepper --frames= -x": "unknown",
	} {
		if _, stderr, code := f.vexillum(strings.Fields(args)...); code == 0 || !strings.Contains(stderr, says) {
			t.Errorf("vexillum %s: %d %s", args, code, stderr)
		}
	}
	f.must("park", "pepper", "--frames", "2,4-6", "--note", "simulated anew")
	if run := f.run(held); run.Sets.Parked != "2,4-6" || run.ParkedCount != 4 {
		t.Errorf("parked are %s", run.Sets.Parked)
	}
	f.must("retry", "pepper", "--yes")
	if run := f.run(held); run.Sets.Parked != "" || run.Sets.ToDo != "1-8" {
		t.Errorf("parked are %s, to do %s", run.Sets.Parked, run.Sets.ToDo)
	}
	f.wait("both have failed again", func() bool { r := f.run(id); return r.EndedAt != nil && r.Sets.Parked == "3,5" })
	if !slices.Contains(hands(), "parked") {
		t.Error("nobody is asked for frames that were tried again and failed")
	}
}
