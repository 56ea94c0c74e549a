package system

import (
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/chromedp/chromedp"

	"vexillum/internal/standin"
	"vexillum/internal/testkit/browser"
	"vexillum/internal/wire"
)

// told returns the titles of all that has arrived by webhook.
func told(t *testing.T, r *standin.Receiver) (titles []string) {
	t.Helper()
	for _, m := range r.Messages() {
		if m.HTML != "" {
			continue
		}
		var body struct {
			Type string `json:"type"`
			Data struct {
				Title   string `json:"title"`
				Notices []struct {
					Title string `json:"title"`
				} `json:"notices"`
			} `json:"data"`
		}
		if err := json.Unmarshal([]byte(m.Text), &body); err != nil || !m.Genuine || body.Type == "" {
			t.Errorf("%v: %+v", err, m)
		}
		if body.Data.Title != "" {
			titles = append(titles, body.Data.Title)
		}
		for _, n := range body.Data.Notices {
			titles = append(titles, n.Title)
		}
	}
	return titles
}

// newFarmThatTells is a farm whose notices go to stand-ins.
func newFarmThatTells(t *testing.T, serving ...string) (*farm, *standin.Receiver) {
	t.Helper()
	r, err := standin.Start(nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(r.Stop)
	f := newFarm(t)
	f.service.end(syscall.SIGTERM)
	f.serving = append(serving, "--notices-inward", "127.0.0.1")
	if len(serving) > 0 {
		f.serving = append(f.serving, "--mail", "smtp+plain://"+r.Mail())
	}
	f.serve()
	f.signIn()
	return f, r
}

// TestNoticesArrive sends notices to stand-ins that are well, out of order, and silent, over a
// service that is killed: each arrives, and none is told twice.
func TestNoticesArrive(t *testing.T) {
	t.Parallel()
	f, r := newFarmThatTells(
		t, "--mail-from", "farm@pellmarsh.example", "--url", "https://farm.pellmarsh.example", "--hurry-notices", "200",
	)
	f.patch("/api/v1/people/nadia", wire.PersonChange{Role: "wrangler", Password: password})
	if out := f.must("notices"); !strings.Contains(out, "Nobody is told of anything yet") {
		t.Error(out)
	}
	out := f.must("notices", "set", "chat", "--webhook", r.Hook())
	secret := regexp.MustCompile(`whsec_\S+`).FindString(out)
	if secret == "" {
		t.Fatalf("no secret: %s", out)
	}
	r.Expect(secret)
	if out := f.must("notices", "set", "chat", "--webhook", r.Hook()); strings.Contains(out, "whsec_") {
		t.Errorf("the secret is told twice: %s", out)
	}
	f.must(
		"notices", "set", "nadia", "--mail", "nadia@pellmarsh.example", "--for", "nadia", "--events", "done,failed",
		"--project", "salt-clock", "--zone", "Europe/Dublin",
	)
	for args, says := range map[string]string{
		"set x":                                         "either --webhook URL or --mail",
		"set x --webhook http://10.0.0.1":               "inward",
		"set x --webhook ftp://a.example":               "such as https://",
		"set x --mail nobody":                           "not an e-mail address",
		"set x --mail a@b.example --events lunch":       "nothing that notices are about",
		"set x --mail a@b.example --for nobody":         "nobody called",
		"set x --mail a@b.example --on-call":            "whose channel it is",
		"set x --mail a@b.example --project pepper":     "no project",
		"set x --mail a@b.example --quiet midnight":     "22:00-07:00",
		"set x --mail a@b.example --quiet 25:00-07:00":  "quiet hours are",
		"set x --mail a@b.example --quiet 7:00-7:00":    "never end",
		"set x --mail= --webhook https://chat.example/": "is empty",
		"drop x":                     "no channel",
		"try x":                      "no channel",
		"sent --channel x":           "no channel",
		"again 4711":                 "no notice 4711",
		"set a/b --mail a@b.example": "channel",
	} {
		if _, stderr, code := f.vexillum(append([]string{"notices"}, strings.Fields(args)...)...); code == 0 ||
			!strings.Contains(stderr, says) {
			t.Errorf("vexillum notices %s: %d %s", args, code, stderr)
		}
	}
	for _, c := range []struct{ args, says string }{ // what is not given stays
		{"set nadia --quiet 22:00-07:00 --zone Europe/Dublin", "nadia tells nadia@pellmarsh.example of done, failed."},
		{"set nadia --events all", "of all"},
		{"set nadia --events done,failed --quiet none", "of done, failed."},
	} {
		if out := f.must(append([]string{"notices"}, strings.Fields(c.args)...)...); !strings.Contains(out, c.says) {
			t.Errorf("vexillum notices %s: %s", c.args, out)
		}
	}
	if out := f.must("notices"); !strings.Contains(out, "salt-clock") || strings.Contains(out, "22:00") {
		t.Error(out)
	}
	f.must("notices", "try", "chat")
	f.wait(
		"the trial has arrived",
		func() bool { return slices.Contains(told(t, r), "This is a trial of the channel chat.") },
	)

	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 20ms\n")
	f.scene("bad.practice", "practice: 1\npicture: salt\ncost: 20ms\ntrouble:\n  - {frame: 2, does: error}\n")
	f.join("kiln-01", "--renderers", "practice-single")
	run := wire.Submit{Job: "salt", Recipe: "practice-single", Scene: "salt.practice", Frames: "1-3", Tries: 1}
	f.ended(f.submit(run))
	f.wait("the run that is done is told by mail, with a picture", func() bool {
		return slices.ContainsFunc(r.Messages(), func(m standin.Message) bool {
			return m.Title == "salt/final-1 is done" && strings.Contains(m.Text, "All 3 frames are done.") &&
				strings.Contains(m.HTML, "https://farm.pellmarsh.example/runs/1") && m.Picture > 0
		})
	})
	r.Behave(standin.Failing)
	run.Job, run.Scene = "bad", "bad.practice"
	f.ended(f.submit(run))
	f.wait("it was tried in vain", func() bool {
		return strings.Contains(
			f.must("notices", "sent", "--channel", "chat"),
			"500 Internal Server Error: out of order",
		)
	})
	f.service.end(syscall.SIGKILL)
	f.serve()
	r.Behave(standin.Well)
	t.Cleanup(func() {
		if t.Failed() {
			t.Logf("told: %q", told(t, r))
		}
	})
	f.wait("all is told", func() bool {
		titles := told(t, r)
		return slices.Contains(titles, "bad/final-1 is done with gaps.") &&
			// as the farm has looked before the run has ended, or after
			(slices.Contains(titles, "bad/final-1 is done with a gap: frame 2 is parked.") ||
				slices.Contains(titles, "bad/final-1: frame 2 is parked, the rest goes on."))
	})
	if titles := told(t, r); len(titles) != len(slices.Compact(slices.Sorted(slices.Values(titles)))) {
		t.Errorf("something is told twice: %q", titles)
	}
	for _, m := range r.Messages() {
		if m.HTML != "" && strings.Contains(m.Title, "bad") {
			t.Errorf("nadia is told what she does not want: %s", m.Title)
		}
	}

	// What arrives again by hand, and a receiver that wants nothing more.
	var sent wire.SentNotices
	if err := f.admin.Do(t.Context(), http.MethodGet, "/api/v1/notices?channel=chat", nil, &sent); err != nil {
		t.Fatal(err)
	}
	before := len(told(t, r))
	f.must("notices", "again", jsonNumber(sent.Notices[0].ID))
	f.wait("it has arrived once more", func() bool { return len(told(t, r)) == before+1 })
	r.Behave(standin.Leaving)
	f.must("notices", "try", "chat")
	f.wait("the channel is off", func() bool { return strings.Contains(f.must("notices"), "(off: it answered 410") })
	if _, stderr, code := f.vexillum("notices", "try", "chat"); code == 0 || !strings.Contains(stderr, "switched off") {
		t.Errorf("%d %s", code, stderr)
	}
	f.must("notices", "drop", "chat")
	if out := f.must("notices"); strings.Contains(out, "chat ") || strings.Contains(out, "whsec") {
		t.Error(out)
	}
}

// TestConsoleOfNotices makes a channel on the page, tries it, and looks at the night.
func TestConsoleOfNotices(t *testing.T) {
	t.Parallel()
	f, r := newFarmThatTells(t)
	f.patch("/api/v1/people/ines", wire.PersonChange{Role: "viewer", Password: password})
	f.scene("bad.practice", "practice: 1\npicture: salt\ncost: 20ms\ntrouble:\n  - {frame: 2, does: error}\n")
	f.join("kiln-01", "--renderers", "practice-single")
	f.ended(
		f.submit(wire.Submit{Job: "bad", Recipe: "practice-single", Scene: "bad.practice", Frames: "1-3", Tries: 2}),
	)
	c := f.open()
	c.signInAs("ines", password)
	c.sees("Queue")
	c.click(`//button[contains(., "ines")]`)
	c.click(`//a[normalize-space()="Notices"]`)
	c.sees("Nobody is told of anything yet.")
	c.press("New channel")
	c.sees("Tells of (none chosen: all)")
	c.accessible("the dialog of a channel")
	c.fill(`dialog[open] input`, "mine")
	c.fill(`dialog[open] input[placeholder^="https"]`, "http://10.0.0.1/x")
	c.press("Make it")
	c.sees("it points inward")
	c.fill(`dialog[open] input[placeholder^="https"]`, r.Hook())
	c.press("Make it")
	c.sees("whsec_")
	r.Expect(value[string](c, `document.querySelector("dialog[open] p.num").innerText`))
	c.press("I have it")
	c.sees("of ines")
	c.press("Try it")
	c.sees("delivered")
	c.sees("There is no calendar")
	if titles := told(t, r); !slices.Contains(titles, "This is a trial of the channel mine.") {
		t.Errorf("%q", titles)
	}
	c.accessible("notices")
	c.do(chromedp.EmulateViewport(390, 800))
	c.noSidewaysScroll("notices on a telephone")
	c.goTo("/night?from=00:00&to=23:59")
	c.sees("crash")
	c.sees("bad/final-1 is done with a gap: frame 2 is parked.")
	c.noSidewaysScroll("the night on a telephone")
	c.do(chromedp.EmulateViewport(browser.Width, browser.Height))
	c.accessible("the night")
	if out := f.must("night", "--from", "00:00", "--to", "23:59"); !strings.Contains(out, "1 run ended:") || !strings.Contains(out, "bad/final-1  done with gaps") ||
		!strings.Contains(out, "2 tries failed") ||
		!strings.Contains(out, "Waiting for a person:") {
		t.Error(out)
	}
	for args, says := range map[string]string{
		"--from noon": "time of day", "--day yesterday": "not a date", "--day 2131-03-04": "not begun",
		"--zone nowhere": "time zone",
	} {
		if _, stderr, code := f.vexillum(append([]string{"night"}, strings.Fields(args)...)...); code == 0 ||
			!strings.Contains(stderr, says) {
			t.Errorf("vexillum night %s: %d %s", args, code, stderr)
		}
	}
}

func jsonNumber(n int64) string {
	text, _ := json.Marshal(n)
	return string(text)
}

// TestWhoIsOnCallIsTold sets a calendar, and looks who is told.
func TestWhoIsOnCallIsTold(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.patch("/api/v1/people/nadia", wire.PersonChange{Role: "wrangler", Password: password})
	if out := f.must("on-call"); !strings.Contains(out, "There is no calendar") {
		t.Error(out)
	}
	file := filepath.Join(f.dir, "oncall.ics")
	text := "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTAMP:20200101T000000Z\r\n" +
		"SUMMARY:Nadia\r\nDTSTART:20200101T000000Z\r\nDTEND:20200102T000000Z\r\nRRULE:FREQ=DAILY\r\nEND:VEVENT\r\n" +
		"END:VCALENDAR\r\n"
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	if out := f.must("on-call", "set", file); !strings.Contains(out, "nadia is on call now.") {
		t.Error(out)
	}
	f.service.end(syscall.SIGKILL)
	f.serve()
	if out := f.must("on-call"); !strings.Contains(out, "nadia is on call now.") || !strings.Contains(out, "until") {
		t.Error(out)
	}
	if err := os.WriteFile(file, []byte("hello"), 0o600); err != nil {
		t.Fatal(err)
	}
	for args, says := range map[string]string{
		"set " + file: "not an iCalendar file", "set /nowhere": "no file /nowhere",
		"set /dev/null": "not a regular file", "set": "iCalendar file",
	} {
		if _, stderr, code := f.vexillum(append([]string{"on-call"}, strings.Fields(args)...)...); code == 0 ||
			!strings.Contains(stderr, says) {
			t.Errorf("vexillum on-call %s: %d %s", args, code, stderr)
		}
	}
	if out := f.must("on-call", "drop"); !strings.Contains(out, "no calendar any more") {
		t.Error(out)
	}
}
