package system

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"vexillum/internal/wire"
)

// hands returns what needs a hand.
func (f *farm) hands() (list []wire.NeedHand) {
	f.t.Helper()
	if err := f.admin.Do(f.t.Context(), http.MethodGet, "/api/v1/hands", nil, &list); err != nil {
		f.t.Fatal(err)
	}
	return list
}

// TestHandsAreTakenPutOffAndResolved follows what needs a hand on the command line, on the
// page, and over a service that is killed.
func TestHandsAreTakenPutOffAndResolved(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	if out := f.must("hands"); out != "Nothing needs a hand.\n" {
		t.Error(out)
	}
	if out := f.must("hands", "history"); out != "Nothing has needed a hand.\n" {
		t.Error(out)
	}
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 20ms\ntrouble:\n"+
		"  - {frame: 3, does: error}\n  - {frame: 5, does: error}\n")
	f.scene("tidal.practice", "practice: 1\npicture: salt\ncost: 20ms\ntrouble:\n  - {frame: 2, does: error}\n")
	f.join("kiln-01", "--renderers", "practice-single")
	submit := wire.Submit{Job: "salt", Recipe: "practice-single", Scene: "salt.practice", Frames: "1-8", Tries: 1}
	f.ended(f.submit(submit))
	submit.Job, submit.Scene = "tidal", "tidal.practice"
	f.ended(f.submit(submit))
	f.wait("both have numbers", func() bool {
		list := f.hands()
		return len(list) == 2 && list[0].ID > 0 && list[1].ID > 0
	})
	list := f.hands()
	slices.SortFunc(list, func(a, b wire.NeedHand) int { return cmp.Compare(a.Run, b.Run) })
	if list[0].Cost.Frames != 2 || list[1].Cost.Frames != 1 {
		t.Errorf("what they cost: %+v", list)
	}
	first, second := fmt.Sprint(list[0].ID), fmt.Sprint(list[1].ID)
	for _, c := range []struct {
		args string
		says []string
	}{
		{"hands", []string{"#" + first, "salt/final-1: 2 frames are parked: 3,5.", "Holds up 2 frames"}},
		{"hands take --dry-run " + first, []string{"salt/final-1: 2 frames",
			"#" + first + " would be taken; nothing is"}},
		{"hands take " + first, []string{"#" + first + " is taken."}},
		{"hands take " + first + " #" + second, []string{"#" + first + " and #" + second + " are taken."}},
		{"hands", []string{"admin sees to it"}},
		{"hands leave " + second, []string{"is left."}},
		{"hands snooze " + second + " --until +2h", []string{"is put off."}},
		{"hands", []string{"1 is put off: vexillum hands --all."}},
		{"hands --all", []string{"tidal/final-1 is done with a gap", "put off by admin until"}},
		{"hands history", []string{"salt/final-1", "tidal/final-1", "taken by admin"}},
	} {
		out := f.must(strings.Fields(c.args)...)
		for _, text := range c.says {
			if !strings.Contains(out, text) {
				t.Errorf("vexillum %s does not say %q:\n%s", c.args, text, out)
			}
		}
	}
	for args, says := range map[string]string{
		"hands take":                       "needs the numbers",
		"hands take salt":                  "not a number",
		"hands take 0":                     "not a number",
		"hands take 4711":                  "nothing needs a hand by the number 4711",
		"hands resolve " + first + " 4711": "nothing needs a hand by the number 4711",
		"hands snooze " + first:            "say until when",
		"hands snooze " + first + " --until yesterday": "not a time",
		"hands resolve " + first + " --note=":          "is empty",
		"hands history --limit 0":                      "limit",
	} {
		if _, stderr, code := f.vexillum(strings.Fields(args)...); code == 0 || !strings.Contains(stderr, says) {
			t.Errorf("vexillum %s: %d %s", args, code, stderr)
		}
	}
	past := time.Now().Add(-time.Hour)
	for _, in := range []wire.HandAct{{Do: "snooze", Until: &past}, {Do: "snooze"}, {Do: "eat"}, {Do: "take",
		Note: "x"}} {
		in.Hands = []int64{list[0].ID}
		if err := f.admin.Do(t.Context(), http.MethodPost, "/api/v1/hand-acts", in, nil); err == nil {
			t.Errorf("%+v is taken", in)
		}
	}
	f.service.end(syscall.SIGKILL)
	f.serve()
	f.wait("it is known who sees to what", func() bool {
		list = f.hands()

		slices.SortFunc(list, func(a, b wire.NeedHand) int { return cmp.Compare(a.Run, b.Run) })
		return len(list) == 2 && list[0].TakenBy == "admin" && list[1].SnoozedBy == "admin" &&
			fmt.Sprint(list[0].ID) == first
	})

	c := f.open()
	c.signInAs("admin", password)
	c.sees("admin sees to it")
	c.sees("1 put off")
	c.click(`//div[@data-still][contains(., "salt/final-1")]//button[normalize-space()="Leave"]`)
	c.sees("Nobody sees to it now.")
	c.click(`//div[@data-still][contains(., "salt/final-1")]//button[normalize-space()="Later"]`)
	c.sees("Put it off until when?")
	c.accessible("the question until when")
	c.press("4 hours")
	c.press("Put it off")
	c.sees("2 put off")
	c.press("2 put off")
	c.sees("put off by admin until")
	c.do(chromedp.Sleep(time.Second)) // what has only just come takes no press
	c.click(`//div[@data-still][contains(., "salt/final-1")]//button[normalize-space()="Now after all"]`)
	c.sees("It is back on the list.")
	c.sees("1 put off")
	c.click(`//div[@data-still][contains(., "salt/final-1")]//button[normalize-space()="Resolved"]`)
	c.fill(`dialog[open] input[type="text"]`, "cut from the film")
	c.press("Resolve it")
	c.sees("Resolved.")
	f.wait("it is off the list", func() bool { return len(f.hands()) == 1 })
	c.click(`//a[normalize-space()="History"]`)
	c.sees("Resolved by admin: cut from the film")
	c.accessible("what needed a hand")
	c.do(chromedp.EmulateViewport(390, 800))
	c.noSidewaysScroll("what needed a hand, on a telephone")

	// A person resolves it, and it comes again once there is more.
	if out := f.must("hands", "reopen", first); !strings.Contains(out, "is open again") {
		t.Error(out)
	}
	f.must("hands", "resolve", first, "--note", "cut")
	f.must("retry", "salt")
	f.wait("it has ended, and come again", func() bool {
		for _, h := range f.hands() {
			if fmt.Sprint(h.ID) == first && h.Count > list[0].Count {
				return true
			}
		}
		return false
	})
}
