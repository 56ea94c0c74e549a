package system

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"

	"vexillum/internal/testkit/browser"
	"vexillum/internal/wire"
)

// value evaluates an expression in the page.
func value[T any](c *console, expression string) (out T) {
	c.t.Helper()
	c.do(chromedp.Evaluate(expression, &out))
	return out
}

// goTo opens an address of the console as somebody would who types it.
func (c *console) goTo(path string) {
	c.t.Helper()
	c.do(chromedp.Navigate("http://" + c.listen + path))
}

// follow clicks the link that leads there, inside the page.
func (c *console) follow(path string) {
	c.t.Helper()
	c.click(fmt.Sprintf(`a[href=%q]`, path))
}

// back goes back as with the browser's button.
func (c *console) back() {
	c.t.Helper()
	c.do(chromedp.Evaluate(`history.back()`, nil))
}

// rows returns the names of the runs or nodes in the table.
func (c *console) rows() []string {
	return value[[]string](
		c, `[...document.querySelectorAll("tbody a[data-row]")].map(a => a.innerText.replace(/\s+/g, " ").trim())`,
	)
}

func (c *console) waitRows(what string, want ...string) {
	c.t.Helper()
	var got []string
	defer func() {
		if c.t.Failed() {
			c.t.Logf("%s: the rows are %v, want %v", what, got, want)
		}
	}()
	c.wait(what, func() bool { got = c.rows(); return strings.Join(got, ";") == strings.Join(want, ";") })
}

// address is where the page is, without the host.
func (c *console) address() string { return value[string](c, `location.pathname + location.search`) }

// TestConsoleQueue finds runs among all that there ever were, turns pages, picks
// many and steers them, and comes back to where it was.
func TestConsoleQueue(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.patch("/api/v1/people/tobin", wire.PersonChange{Role: "artist", Password: password})
	f.patch("/api/v1/projects/gannet", wire.ProjectChange{Title: new("Gannet"), Scenes: "scenes", Frames: "frames"})
	f.scene("salt.practice", "practice: 1\npicture: salt\n")
	for i := range 58 { // more than the newest hundred that the farm's view tells, with those below
		id := f.submit(wire.Submit{Job: fmt.Sprintf("salt_%d", i+1), Scene: "salt.practice", Frames: "1-3", Held: true})
		if i < 54 {
			f.post(fmt.Sprintf("/api/v1/runs/%d/cancel", id))
		}
	}
	for range 60 {
		id := f.submit(wire.Submit{
			Job: "gannet_open", Project: "gannet", Scene: "salt.practice", Frames: "1-3", Held: true,
		})
		f.post(fmt.Sprintf("/api/v1/runs/%d/cancel?reason=the+cut+has+changed", id))
	}
	tobins, _, err := f.admin.SignIn(t.Context(), "tobin", password, "test")
	if err != nil {
		t.Fatal(err)
	}
	if err := tobins.Do(
		t.Context(), http.MethodPost, "/api/v1/runs",
		wire.Submit{
			Job: "tidal_floor", Project: "salt-clock", Scene: "salt.practice", Frames: "1-3", Held: true,
			Priority: "high", Due: "2099-03-04T18:00:00Z",
		},
		nil,
	); err != nil {
		t.Fatal(err)
	}
	c := f.open()
	c.signInAs("admin", password)
	c.do(chromedp.WaitVisible(`nav`), chromedp.KeyEvent("g"), chromedp.KeyEvent("q"))
	c.sees("119 runs, page 1 of 3")
	if got := value[string](c, `document.title`); got != "Queue – Vexillum" {
		t.Errorf("the title is %q", got)
	}
	c.sees("4 Mar 2099") // a due time far away has its year
	c.accessible("Queue")
	c.noSidewaysScroll("Queue")
	if first := c.rows()[0]; first != "tidal_floor final 1" {
		t.Errorf("the most urgent run is not first, but %s", first)
	}

	// Pages, to the oldest run.
	c.press("Next page")
	c.sees("page 2 of 3")
	c.press("Next page")
	c.sees("salt_1 final 1")
	c.sees("page 3 of 3")

	choose := func(field, option string) {
		c.pick(
			fmt.Sprintf(
				`label:has(> select):nth-of-type(%d) select`,
				map[string]int{"project": 2, "state": 3, "owner": 4, "due": 5}[field],
			),
			option,
		)
	}
	c.searchesTheQueue(choose)

	c.comesBackToItsPlace(choose)
	c.steersMany(choose)

	// A telephone, and an address that nobody can read.
	c.do(chromedp.EmulateViewport(390, 800))
	c.noSidewaysScroll("Queue on a telephone")
	c.do(chromedp.EmulateViewport(browser.Width, browser.Height))
	c.goTo("/queue?state=asleep")
	c.sees(`"asleep" is not a state of a run`)
	c.goTo("/quue")
	c.sees("Nothing is at /quue")
	c.goTo("/runs/abc")
	c.sees("abc is not the number of a run")
	c.goTo("/nodes/7777")
	c.sees("There is no node 7777")
}

// searchesTheQueue looks for runs by words and filters, alone and together.
func (c *console) searchesTheQueue(choose func(field, option string)) {
	c.t.Helper()
	t := c.t
	// Search and filters, alone and together; what is chosen stands in the address.
	c.do(chromedp.KeyEvent("/"))
	if !value[bool](c, `document.activeElement.matches("[data-search]")`) {
		t.Error("/ does not lead to the search")
	}
	c.fill(`[data-search]`, "SALT_5")
	c.sees("10 runs found") // salt_5 and salt_50 to salt_58
	c.fill(`[data-search]`, "SALT_5 asleep")
	c.sees("No run matches")
	c.fill(`[data-search]`, "cut has")
	c.sees("60 runs found")
	c.fill(`[data-search]`, "")
	c.sees("119 runs, page 1 of 3")
	c.pick(`label:has(> select) select`, "gannet")
	c.sees("60 runs found, page 1 of 2")
	c.press("Show all")
	choose("state", "held")
	c.waitRows(
		"held runs in their turn", "tidal_floor final 1", "salt_55 final 1", "salt_56 final 1", "salt_57 final 1",
		"salt_58 final 1",
	)
	choose("owner", "tobin")
	c.waitRows("held runs of tobin", "tidal_floor final 1")
	choose("due", "none")
	c.sees("No run matches")
	choose("due", "any")
	c.waitRows("with a due time", "tidal_floor final 1")
	choose("owner", "")
	choose("due", "")
	c.press("run") // by name, as people read names
	c.waitRows(
		"by name", "salt_55 final 1", "salt_56 final 1", "salt_57 final 1", "salt_58 final 1", "tidal_floor final 1",
	)
	if got := c.address(); !strings.Contains(got, "state=held") || !strings.Contains(got, "sort=name") {
		t.Errorf("the address is %s", got)
	}
	c.do(chromedp.Reload())
	c.waitRows(
		"the same after a reload", "salt_55 final 1", "salt_56 final 1", "salt_57 final 1", "salt_58 final 1",
		"tidal_floor final 1",
	)
}

// steersMany picks runs with Shift, and steers them together.
func (c *console) steersMany(choose func(field, option string)) {
	c.t.Helper()
	f := c.farm
	// Many are picked with Shift, and held runs released and held again with a reason.
	choose("state", "held")
	c.waitRows(
		"held again", "salt_55 final 1", "salt_56 final 1", "salt_57 final 1", "salt_58 final 1", "tidal_floor final 1",
	)
	c.click(`input[aria-label="Pick salt_55/final-1"]`)
	at := value[[]float64](
		c,
		`(() => { const r = document.querySelector('input[aria-label="Pick salt_58/final-1"]').getBoundingClientRect(); return [r.x + r.width / 2, r.y + r.height / 2]; })()`,
	)
	c.do(chromedp.MouseClickXY(at[0], at[1], chromedp.ButtonModifiers(input.ModifierShift)))
	c.sees("4 picked")
	c.press("Release 4")
	c.wait("they are released", func() bool { return f.count(`SELECT count(*) FROM run WHERE state = 'held'`) == 1 })
	choose("state", "open")
	c.click(`//button[starts-with(normalize-space(), "Hold ")]`)
	c.sees("Hold 4 runs?")
	c.fill(`dialog input`, "waits for the new textures")
	c.press("Hold them")
	c.wait("they are held for a reason", func() bool {
		return f.count(
			`SELECT count(*) FROM run WHERE state = 'held' AND reason = 'held by admin: waits for the new textures'`,
		) == 4
	})
	c.sees("waits for the new textures")
}

// comesBackToItsPlace opens a run from the middle of a page, and goes back.
func (c *console) comesBackToItsPlace(choose func(field, option string)) {
	c.t.Helper()
	t := c.t
	// Back comes to the same place of the same page.
	choose("state", "cancelled")
	c.sees("114 runs found")
	c.wait("the page is long enough to be scrolled", func() bool {
		c.do(chromedp.Evaluate(`window.scrollTo(0, 900)`, nil))
		return value[float64](c, `window.scrollY`) > 800
	})
	c.do(
		chromedp.Sleep(300*1e6),
		chromedp.Evaluate(
			`(() => { const links = [...document.querySelectorAll("tbody a[data-row]")]; links[25].click(); })()`, nil,
		),
	)
	c.sees("What happened, and why")
	if y := value[float64](c, `window.scrollY`); y != 0 {
		t.Errorf("another page begins at %v", y)
	}
	c.back()
	c.wait("back is at the same place", func() bool {
		return strings.Contains(c.address(), "state=cancelled") && value[float64](c, `window.scrollY`) > 800
	})
}
