package system

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/performance"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"vexillum/internal/testkit/browser"
	"vexillum/internal/wire"
)

// point moves the pointer over what a selector finds and leaves it there.
func (c *console) point(what string) (x, y float64) {
	c.t.Helper()
	at := value[[]float64](
		c,
		fmt.Sprintf(
			`(() => { const r = %s.getBoundingClientRect(); return [r.x + r.width / 2, r.y + r.height / 2]; })()`, what,
		),
	)
	c.do(chromedp.MouseEvent(input.MouseMoved, at[0]+1, at[1]), chromedp.MouseEvent(input.MouseMoved, at[0], at[1]))
	return at[0], at[1]
}

// waitingRows are the names of the runs that wait, in their order.
func (c *console) waitingRows() string {
	return value[string](
		c,
		`[...document.querySelectorAll("[data-still]")].filter(r => /frames?/.test(r.innerText) && r.querySelector("b")).map(r => r.querySelector("b").innerText).join(" ")`,
	)
}

// releaseOf finds the button that releases a run of the list.
func releaseOf(job string) string {
	return fmt.Sprintf(
		`[...document.querySelectorAll("[data-still]")].find(r => r.querySelector("b")?.innerText === %q).querySelector("button")`,
		job,
	)
}

// TestConsoleStaysStill looks that an urgent run moves at once on an open page,
// and that nothing moves under the pointer.
func TestConsoleStaysStill(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("salt.practice", "practice: 1\npicture: salt\n")
	ids := map[string]int64{}
	for _, job := range []string{"salt_1", "salt_2", "salt_3"} {
		ids[job] = f.submit(wire.Submit{Job: job, Scene: "salt.practice", Frames: "1-3", Held: true})
	}
	c := f.open()
	c.signInAs("admin", password)
	c.wait("three wait", func() bool { return c.waitingRows() == "salt_1 salt_2 salt_3" })

	c.do(chromedp.MouseEvent(input.MouseMoved, 40, 600)) // over the rail
	began := time.Now()
	f.patch(fmt.Sprintf("/api/v1/runs/%d", ids["salt_3"]), wire.RunChange{Priority: new("high")})
	c.wait("a changed priority moves at once", func() bool { return c.waitingRows() == "salt_3 salt_1 salt_2" })
	f.submit(wire.Submit{Job: "salt_0", Scene: "salt.practice", Frames: "1-3", Held: true, Priority: "urgent"})
	c.wait("an urgent run comes first at once", func() bool { return c.waitingRows() == "salt_0 salt_3 salt_1 salt_2" })
	t.Logf("both were on screen after %v", time.Since(began))

	// The pointer rests on a button; what comes and goes above it waits.
	time.Sleep(500 * time.Millisecond)
	x, y := c.point(releaseOf("salt_1"))
	f.post(fmt.Sprintf("/api/v1/runs/%d/cancel", ids["salt_3"]))
	f.submit(wire.Submit{Job: "salt_9", Scene: "salt.practice", Frames: "1-3", Held: true, Priority: "urgent"})
	c.sees("2 changes wait while you point here")
	if got := c.waitingRows(); got != "salt_0 salt_3 salt_1 salt_2" {
		t.Errorf("under the pointer the list became %s", got)
	}
	c.do(chromedp.MouseClickXY(x, y))
	c.wait("the run that was pointed at is released", func() bool { return f.run(ids["salt_1"]).State == "queued" })
	c.do(chromedp.MouseEvent(input.MouseMoved, 40, 600))
	c.wait("the list catches up when the pointer leaves", func() bool {
		return strings.HasPrefix(
			c.waitingRows(), "salt_0 salt_9 salt_1 salt_2",
		)
	})

	// A press on what has only just come there does nothing.
	c.sees("No node can take salt_1/final-1 as it is.")
	c.settled()
	at := value[[]float64](
		c,
		fmt.Sprintf(
			`(() => { const r = %s.getBoundingClientRect(); return [r.x + r.width / 2, r.y + r.height / 2]; })()`,
			releaseOf("salt_9"),
		),
	)
	zero := f.runNamed("salt_0")
	before := f.count(`SELECT count(*) FROM run WHERE state = 'held'`) - 1 // without the one that is cancelled
	c.do(chromedp.Evaluate(fmt.Sprintf(`(() => {
		// At once when the list has moved, before anybody can have seen it.
		new MutationObserver((_, observer) => {
			if (document.querySelector("[data-still] b").innerText === "salt_0") return;
			observer.disconnect();
			const hit = document.elementFromPoint(%f, %f);
			hit.dispatchEvent(new PointerEvent("pointerdown", {bubbles: true}));
			hit.click();
			window.pressed = hit.innerText;
		}).observe(document.querySelector("main"), {childList: true, subtree: true, characterData: true});
	})()`, at[0], at[1]), nil))
	f.post(fmt.Sprintf("/api/v1/runs/%d/cancel", zero.ID))
	c.wait("the list has moved and was pressed", func() bool { return value[string](c, `window.pressed ?? ""`) != "" })
	time.Sleep(300 * time.Millisecond)
	if n := f.count(`SELECT count(*) FROM run WHERE state = 'held'`); n != before {
		t.Errorf("a press just after the list had moved released a run: %d are held, %d were", n, before)
	}
	c.sees("Press again")
}

// TestConsoleNodesStayStill announces nodes while the pointer is on a list of
// nodes: as a table, and as cards.
func TestConsoleNodesStayStill(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	announce := func(name string) {
		t.Helper()
		f.mustSaying("name,kind\n"+name+",rack\n", "nodes", "import", "-")
	}
	announce("kiln-05")
	announce("kiln-07")
	c := f.open()
	c.signInAs("admin", password)
	c.sees("kiln-05")
	c.goTo("/nodes")
	names := func() string {
		return value[string](
			c, `[...document.querySelectorAll("main a[href^='/nodes/']")].map(a => a.innerText.trim()).join(" ")`,
		)
	}
	c.wait("both nodes are listed", func() bool { return names() == "kiln-05 kiln-07" })
	for _, list := range []struct{ as, first, before string }{
		{"Table", "kiln-03", "kiln-05 kiln-07"}, {"Cards", "kiln-01", "kiln-03 kiln-05 kiln-07"},
	} {
		c.press(list.as)
		c.wait("the nodes are listed as "+list.as, func() bool { return names() == list.before })
		c.settled()
		x, y := c.point(`[...document.querySelectorAll("main a[href^='/nodes/']")].at(-1)`)
		c.do(chromedp.MouseEvent(input.MouseMoved, x, y))
		announce(list.first)
		c.sees("1 change waits while you point here")
		if got := names(); got != list.before {
			t.Errorf("%s: under the pointer the list became %s", list.as, got)
		}
		c.do(chromedp.MouseEvent(input.MouseMoved, 40, 600))
		c.wait("the list catches up", func() bool { return names() == list.first+" "+list.before })
	}
}

func (f *farm) runNamed(job string) wire.Run {
	f.t.Helper()
	var runs []wire.Run
	if err := f.admin.Do(f.t.Context(), "GET", "/api/v1/runs?name="+job, nil, &runs); err != nil || len(runs) != 1 {
		f.t.Fatalf("%s: %d runs, %v", job, len(runs), err)
	}
	return runs[0]
}

// TestConsoleAwkwardly opens pages while the line is down, signs out elsewhere,
// keeps a form after an error, and looks from another time zone.
func TestConsoleAwkwardly(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 300ms\n")
	f.join("kiln-10", "--renderers", "practice")
	f.join("kiln-2", "--renderers", "none")
	id := f.submit(wire.Submit{Job: "salt_010", Scene: "salt.practice", Frames: "1-900"})
	other := f.submit(wire.Submit{Job: "salt_020", Scene: "salt.practice", Frames: "1-900", Priority: "low"})
	c := f.open()
	c.do(emulation.SetTimezoneOverride("Asia/Tokyo"))
	c.signInAs("admin", password)
	c.sees("All times are in Asia/Tokyo (UTC+9).")

	// The theme is there before anything is drawn.
	c.do(chromedp.Evaluate(`localStorage.setItem("vexillum-theme", "day")`, nil), chromedp.ActionFunc(onNewDocument(
		`document.addEventListener("DOMContentLoaded", () => { window.themeAtFirst = document.documentElement.dataset.theme + getComputedStyle(document.documentElement).getPropertyValue("--color-base-100").trim() })`,
	)))
	c.goTo("/")
	c.sees("salt_010")
	if got := value[string](c, `window.themeAtFirst`); !strings.HasPrefix(got, "day") {
		t.Errorf("the page was first drawn as %q", got)
	}

	// What an idle node says first is its own reason; a node that was stopped is away.
	if why := f.node("kiln-2").Why; !strings.Contains(why, "none of the recipes finds its renderer there") {
		t.Errorf("kiln-2 %s", why)
	}

	// A change says what it does to the run and to others before it is made.
	c.goTo(fmt.Sprintf("/runs/%d", other))
	c.press("Change")
	c.sees("Nothing is changed yet.")
	c.wait("a frame is done, by which the farm forecasts", func() bool { return f.run(id).Forecast.Known })
	time.Sleep(3 * time.Second)
	c.pick(`dialog select`, "high")
	c.sees("Priority high instead of low.")
	c.sees("When it is ready is not known: no frame is finished yet.")
	c.wait("it tells of the other run", func() bool { return strings.Contains(c.text(), "alt_010/final-1 is ready") })
	f.post(fmt.Sprintf("/api/v1/runs/%d/cancel", other))
	c.wait("the run has ended meanwhile", func() bool { return f.run(other).EndedAt != nil })
	c.confirm("Change it")
	c.sees("salt_020/final-1 is cancelled; there is nothing to change")
	if got := value[string](c, `document.querySelector("dialog select").value`); got != "high" {
		t.Errorf("after the error the form holds %q", got)
	}
	c.press("Leave it")

	c.goTo(fmt.Sprintf("/runs/%d", id))
	c.press("Change")
	c.fill(`dialog input[placeholder=none]`, "1")
	c.wait("it tells of the finish", func() bool { return strings.Contains(c.text(), "It is ready about") })
	c.press("Leave it")

	// The chosen frame stands in the address; Back leads to where one came from.
	c.goTo("/nodes")
	c.waitRows("nodes as people read their names", "kiln-2", "kiln-10")
	c.fill(`[data-search]`, "N-1")
	c.waitRows("by part of the name", "kiln-10")
	c.follow(fmt.Sprintf("/nodes/%d", f.node("kiln-10").ID))
	c.sees("as its node process reports it")
	c.back()
	c.waitRows("the filter is kept", "kiln-10")
	c.goTo(fmt.Sprintf("/runs/%d?frame=7", id))
	c.sees("frame 7 ·")
	c.do(chromedp.KeyEvent(kb.ArrowRight))
	c.wait("the address names the frame", func() bool { return strings.HasSuffix(c.address(), "frame=8") })
	c.goTo(fmt.Sprintf("/runs/%d?frame=5000", id))
	c.sees("salt_010/final-1 has no frame 5000")
	c.comesBackWhereItWas(id)
}

// onNewDocument runs a script before all others of a page.
func onNewDocument(script string) func(ctx context.Context) error {
	return func(ctx context.Context) error {
		_, err := page.AddScriptToEvaluateOnNewDocument(script).Do(ctx)
		return err
	}
}

// TestConsoleHands looks what needs a hand, and that many of those never push
// what renders off the page.
func TestConsoleHands(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 200ms\n")
	f.scene("orb.pov", "sphere { 0, 1 }\n")
	node := f.join("kiln-01", "--renderers", "practice")
	f.submit(wire.Submit{Job: "salt_010", Scene: "salt.practice", Frames: "1-900"})
	out, _, code := f.vexillumSignedIn("submit", "--project", "salt-clock", "--frames", "1-2", "orb.pov")
	if code != 0 || !strings.Contains(out, "No node can take it as it is: no node has povray") {
		t.Errorf("the receipt of what nobody can take: %d\n%s", code, out)
	}
	c := f.open()
	c.signInAs("admin", password)
	c.sees("No node can take orb/final-1 as it is.")
	c.sees("No node has povray")
	for i := range 9 {
		f.submit(wire.Submit{
			Job: fmt.Sprintf("tidal_%d", i+1), Scene: "salt.practice", Frames: "1-2", Needs: "big-memory",
		})
	}
	c.sees("10 runs can be taken by no node")
	c.sees("salt_010")
	if y := value[float64](
		c,
		`[...document.querySelectorAll("h3")].find(h => h.innerText.startsWith("salt_010")).getBoundingClientRect().bottom`,
	); y > browser.Height {
		t.Errorf("what renders is at %.0f pixels, below the window", y)
	}
	c.press("Show them")
	c.sees("needs big-memory, which kiln-01 does not fulfil")
	c.accessible("Needs a hand")
	c.do(chromedp.EmulateViewport(390, 800))
	c.noSidewaysScroll("Needs a hand on a telephone")
	if cut := value[[]string](c, `[...document.querySelectorAll('section[aria-label="Needs a hand"] *')]
		.filter(e => e.checkVisibility() && e.scrollHeight > e.clientHeight + 2 && getComputedStyle(e).overflowY !== "visible")
		.map(e => e.innerText.slice(0, 60))`); len(cut) > 0 {
		t.Errorf("on a telephone these are cut: %q", cut)
	}
	c.do(chromedp.EmulateViewport(browser.Width, browser.Height))
	f.buttonsStandOut(c)

	// A frame place that is away is told on the page, and by why.
	f.moveAway("frames")
	c.do(chromedp.MouseEvent(input.MouseMoved, 40, 600))
	c.sees("The place frames is away")
	f.wait("why tells that frames cannot be delivered", func() bool {
		return strings.Contains(f.must("why", "salt_010"), "cannot deliver")
	})
	f.moveBack("frames")
	c.wait("the place is back", func() bool { return !strings.Contains(c.text(), "The place frames is away") })

	// A node process that is stopped properly is away: it needs no hand.
	node.end(syscall.SIGTERM)
	f.wait("it is away", func() bool { return f.node("kiln-01").State == "away" })
	c.wait(
		"the page does not ask for a hand",
		func() bool { return !strings.Contains(c.text(), "kiln-01 has been silent") },
	)
}

// vexillumSignedIn runs a command as admin.
func (f *farm) vexillumSignedIn(args ...string) (stdout, stderr string, code int) {
	f.t.Helper()
	f.signIn()
	return f.vexillum(args...)
}

// moveAway takes a folder of the farm away, as if its storage were not mounted;
// moveBack puts it back.
func (f *farm) moveAway(name string) { f.move(name, name+"-away") }
func (f *farm) moveBack(name string) { f.move(name+"-away", name) }

func (f *farm) move(from, to string) {
	f.t.Helper()
	if err := os.Rename(filepath.Join(f.dir, from), filepath.Join(f.dir, to)); err != nil {
		f.t.Fatal(err)
	}
}

// buttonsStandOut looks that the outline of every button is told from its
// ground, 3 to 1, in both themes.
func (f *farm) buttonsStandOut(c *console) {
	f.t.Helper()
	for _, theme := range []string{"day", "night"} {
		weak := value[[]string](c, fmt.Sprintf(`(() => {
			document.documentElement.dataset.theme = %q;
			const probe = document.createElement("canvas").getContext("2d", {willReadFrequently: true});
			const lum = colour => {
				probe.fillStyle = colour; probe.fillRect(0, 0, 1, 1);
				const [r, g, b] = [...probe.getImageData(0, 0, 1, 1).data].map(v => v / 255).map(v => v <= 0.03928 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4);
				return 0.2126 * r + 0.7152 * g + 0.0722 * b;
			};
			const ground = e => { for (e = e.parentElement; e; e = e.parentElement) { const b = getComputedStyle(e).backgroundColor; if (b !== "rgba(0, 0, 0, 0)") return b; } return getComputedStyle(document.body).backgroundColor; };
			const ratio = (a, b) => (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05);
			return [...document.querySelectorAll(".btn:not(.btn-ghost)")].filter(b => {
				const s = getComputedStyle(b), g = lum(ground(b));
				return Math.max(ratio(lum(s.borderTopColor), g), ratio(lum(s.backgroundColor), g)) < 3;
			}).map(b => b.innerText);
		})()`, theme))
		if len(weak) > 0 {
			f.t.Errorf("by %s these do not look like buttons: %v", theme, weak)
		}
	}
}

// TestConsoleOnATelephone looks at every page 390 pixels wide, with the longest
// names that there may be.
func TestConsoleOnATelephone(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	long := "salt_clock_shot_" + strings.Repeat("x", 48)
	f.patch(
		"/api/v1/projects/salt-clock",
		wire.ProjectChange{Title: new("The Salt Clock of Pellmarsh " + strings.Repeat("w", 70))},
	)
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 300ms\n")
	machine := "kiln-" + strings.Repeat("m", 55)
	f.join(machine, "--renderers", "practice")
	id := f.submit(wire.Submit{Job: long, Scene: "salt.practice", Frames: "1-400"})
	f.submit(wire.Submit{Job: long + "y", Scene: "salt.practice", Frames: "1-400", Held: true})
	f.submit(wire.Submit{Job: long + "z", Scene: "salt.practice", Frames: "1-400", Needs: "big-memory"})
	c := f.open()
	c.do(chromedp.EmulateViewport(390, 800))
	c.signInAs("admin", password)
	c.do(chromedp.WaitVisible(`nav`))
	node := f.node(machine).ID
	for _, path := range []string{
		"/", "/queue", "/nodes", fmt.Sprintf("/nodes/%d", node), fmt.Sprintf("/runs/%d", id), "/keys", "/setup",
		"/nowhere", "/hands", "/night", "/notices", "/trouble", "/submit", "/submit?scene=salt.practice",
		"/setup/recipes/practice", "/setup/new-recipe",
	} {
		c.goTo(path)
		c.do(chromedp.WaitVisible(`nav a[href="/queue"]`))
		c.settled()
		c.noSidewaysScroll(path + " on a telephone")
		if got := value[float64](
			c, `document.querySelector('nav[aria-label="Pages"]').getBoundingClientRect().bottom`,
		); got > 800.5 || got < 700 {
			t.Errorf("%s: the pages are at %.0f pixels", path, got)
		}
		// Nothing is printed over anything else: no text runs out of its own row.
		over := value[[]string](
			c,
			`[...document.querySelectorAll("main a, main b, main h1, main h3, main span")].filter(e => e.children.length === 0 && e.innerText && e.getBoundingClientRect().right > innerWidth + 1 && !e.closest("table, .overflow-x-auto, .overflow-auto, .truncate")).map(e => e.innerText.slice(0, 30))`,
		)
		if len(over) > 0 {
			t.Errorf("%s: these run off the screen: %v", path, over)
		}
		c.targets(path, 44)
		c.do(chromedp.EmulateViewport(390, 6000)) // so that the row of pages covers nothing
		c.accessible(path + " on a telephone")
		c.do(chromedp.EmulateViewport(390, 800))
	}
	// A window of 1280 pixels whose owner reads at twice the size.
	c.do(chromedp.EmulateViewport(640, 400))
	for _, path := range []string{
		"/", "/queue", "/nodes", fmt.Sprintf("/nodes/%d", node), fmt.Sprintf("/runs/%d", id), "/setup", "/submit?scene=salt.practice",
	} {
		c.goTo(path)
		c.do(chromedp.WaitVisible(`nav a[href="/queue"]`))
		c.settled()
		c.noSidewaysScroll(path + " at 200 %")
		c.accessible(path + " at 200 %")
	}
	// Each page at the desk, too.
	c.do(chromedp.EmulateViewport(browser.Width, browser.Height))
	for _, path := range []string{
		"/", "/queue", "/nodes", fmt.Sprintf("/nodes/%d", node), fmt.Sprintf("/runs/%d", id), "/setup",
	} {
		c.goTo(path)
		c.do(chromedp.WaitVisible(`nav a[href="/queue"]`))
		c.settled()
		c.noSidewaysScroll(path + " with long names")
		c.targets(path, 24)
	}
}

// targets looks that what is to be hit is so many pixels wide and high, or so far
// from all others that a finger of that size hits nothing else.
func (c *console) targets(name string, least int) {
	c.t.Helper()
	small := value[[]string](c, fmt.Sprintf(`(() => {
		const least = %d, all = [...document.querySelectorAll("main button, main select, main input, main a.btn, nav a, nav button")].filter(e => e.checkVisibility());
		const box = e => (e.type === "checkbox" && e.closest("label") || e).getBoundingClientRect();
		return all.filter(e => {
			const r = box(e);
			if (r.width >= least && r.height >= least || r.width === 0 || e.closest(".modal-backdrop")) return false;
			const x = r.x + r.width / 2, y = r.y + r.height / 2;
			return all.some(o => { if (o === e || o.contains(e) || e.contains(o)) return false; const b = box(o); return b.width > 0 && Math.max(b.left - x, x - b.right, 0) ** 2 + Math.max(b.top - y, y - b.bottom, 0) ** 2 < (least / 2) ** 2; });
		}).map(e => (e.getAttribute("aria-label") || e.innerText || e.placeholder).slice(0, 40) + " " + Math.round(box(e).width) + "x" + Math.round(box(e).height));
	})()`, least))
	if len(small) > 0 {
		c.t.Errorf("%s: too small and too near to others: %v", name, small)
	}
}

// TestConsoleByKeyboard goes through pages without a pointer, and reads what a
// screen reader would be told.
func TestConsoleByKeyboard(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("salt.practice", "practice: 1\npicture: salt\n")
	f.join("kiln-01", "--renderers", "practice")
	id := f.submit(wire.Submit{Job: "salt_010", Scene: "salt.practice", Frames: "1-40"})
	f.ended(id)
	c := f.open()
	c.signInAs("admin", password)
	c.sees("salt_010")
	keys := c.keys
	focused := func() string {
		return value[string](c, `document.activeElement.innerText ?? document.activeElement.tagName`)
	}
	// The keys of the help work on every page.
	for _, p := range []struct{ key, path string }{
		{"q", "/queue"}, {"n", "/nodes"}, {"e", "/keys"}, {"s", "/setup"}, {"w", "/"},
	} {
		keys("g", p.key)
		c.wait("g "+p.key+" leads to "+p.path, func() bool { return c.address() == p.path })
		c.settled()
		keys("?")
		c.sees("this list")
		keys(kb.Escape)
		c.wait("the list is gone", func() bool { return !strings.Contains(c.text(), "this list") })
	}
	c.settled()
	keys("j")
	if !strings.Contains(focused(), "salt_010") {
		t.Errorf("j leads to %q", focused())
	}
	keys(kb.Enter)
	c.do(chromedp.WaitVisible(`section[aria-label="Frame map"]`))
	c.settled()

	// The map is a slider: arrows move, and each place is told in words.
	told := func() string {
		return value[string](c, `document.querySelector("canvas[role=slider]").getAttribute("aria-valuetext")`)
	}
	c.do(chromedp.Focus(`canvas[role=slider]`))
	keys(kb.Home)
	c.wait("Home is the first frame", func() bool { return strings.HasPrefix(told(), "frame 1 · done · kiln-01") })
	keys(kb.ArrowRight)
	c.wait("an arrow goes on", func() bool { return strings.HasPrefix(told(), "frame 2 · done") })
	keys(kb.End)
	c.wait("End is the last", func() bool { return strings.HasPrefix(told(), "frame 40 · done") })
	if n := value[int](c, `document.querySelectorAll("section[aria-label='Frame map'] [aria-live]").length`); n != 0 {
		t.Errorf("%d places of the map are read out whenever they change", n)
	}
	// The contact sheet is one stop for Tab; arrows go on inside it.
	if n := value[int](
		c,
		`[...document.querySelectorAll("button[aria-label^='Frame ']")].filter(b => b.tabIndex === 0 && !/Frame (before|after)/.test(b.ariaLabel)).length`,
	); n != 1 {
		t.Errorf("the contact sheet has %d stops", n)
	}
	c.do(chromedp.Focus(`button[aria-label="Frame 40, done"]`))
	keys(kb.ArrowLeft)
	c.wait("an arrow goes to the frame before", func() bool {
		return value[string](c, `document.activeElement.ariaLabel`) == "Frame 39, done" &&
			strings.HasSuffix(c.address(), "frame=39")
	})
	c.setsANodeByKeyboard()
}

// TestConsoleIsLight measures what an open page costs on a busy farm: what comes
// over the line, and how long the page of a node keeps its thread.
func TestConsoleIsLight(t *testing.T) {
	f := newFarm(t)
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 1s\n")
	for i := range 4 {
		f.join(fmt.Sprintf("kiln-%02d", i+1), "--renderers", "practice")
	}
	id := f.submit(wire.Submit{Job: "salt_010", Scene: "salt.practice", Frames: "1-2000"})
	c := f.open()
	c.signInAs("admin", password)
	c.do(chromedp.WaitVisible(`nav`))
	c.goTo(fmt.Sprintf("/runs/%d", id))
	c.do(chromedp.WaitVisible(`section[aria-label="Frame map"]`))
	f.done(id, 8)
	loaded := func() float64 {
		return value[float64](
			c,
			`performance.getEntriesByType("resource").filter(e => /timings|results|\/log/.test(e.name)).reduce((n, e) => n + e.encodedBodySize, 0)`,
		)
	}
	time.Sleep(2 * time.Second)
	before := loaded()
	time.Sleep(15 * time.Second)
	perSecond := (loaded() - before) / 15
	t.Logf("the page of a run loads %.0f bytes a second beside its stream", perSecond)
	if perSecond > 4000 {
		t.Errorf("the page of a run loads %.0f bytes a second, more than 4000", perSecond)
	}
	c.goTo(fmt.Sprintf("/nodes/%d", f.node("kiln-01").ID))
	c.do(chromedp.WaitVisible(`section[aria-label="Usage"] canvas`))
	time.Sleep(3 * time.Second)
	busy := c.busy(8 * time.Second)
	t.Logf("the page of a node keeps its thread for %.0f %% of the time", 100*busy)
	if busy > 0.25 {
		t.Errorf("the page of a node keeps its thread for %.0f %% of the time, more than 25 %%", 100*busy)
	}
}

// busy returns which part of a while the thread of the page had a processor: what it waited for
// one on a busy machine does not count.
func (c *console) busy(during time.Duration) float64 {
	c.t.Helper()
	task := func() (seconds float64) {
		c.do(performance.Enable().WithTimeDomain(performance.EnableTimeDomainThreadTicks), chromedp.ActionFunc(func(ctx context.Context) error {
			metrics, err := performance.GetMetrics().Do(ctx)
			for _, m := range metrics {
				if m.Name == "TaskDuration" {
					seconds = m.Value
				}
			}
			return err
		}))
		return seconds
	}
	before := task()
	time.Sleep(during)
	return (task() - before) / during.Seconds()
}

// comesBackWhereItWas opens a page while the line is down, and ends a sign-in
// from elsewhere.
func (c *console) comesBackWhereItWas(id int64) {
	c.t.Helper()
	t, f := c.t, c.farm
	// A page that is opened while the line is down loads when it is back.
	c.goTo("/")
	c.sees("salt_010")
	f.service.end(syscall.SIGKILL)
	c.sees("The line to the service is lost")
	c.do(chromedp.KeyEvent("g"), chromedp.KeyEvent("q"))
	c.sees("The service does not answer")
	f.serve()
	c.sees("2 runs")
	if strings.Contains(c.text(), "does not answer") {
		t.Error("the page still says that the service does not answer")
	}

	// A sign-in that has ended leads to the sign-in, and back to the page.
	c.goTo(fmt.Sprintf("/runs/%d?frame=3", id))
	c.sees("frame 3 ·")
	var tokens []wire.Token
	if err := f.admin.Do(t.Context(), "GET", "/api/v1/tokens", nil, &tokens); err != nil {
		t.Fatal(err)
	}
	for _, token := range tokens {
		if token.Kind == "session" {
			if err := f.admin.Do(t.Context(), "DELETE", "/api/v1/tokens/"+token.ID, nil, nil); err != nil {
				t.Fatal(err)
			}
		}
	}
	c.sees("Your sign-in has ended")
	c.signInAs("admin", password)
	c.sees("frame 3 ·")
	if got := c.address(); got != fmt.Sprintf("/runs/%d?frame=3", id) {
		t.Errorf("after signing in the page is %s", got)
	}
}

// setsANodeByKeyboard paints hours, writes them, and holds the node for a reason.
func (c *console) setsANodeByKeyboard() {
	c.t.Helper()
	t, f := c.t, c.farm
	keys := c.keys
	// Hours are painted by keyboard, or written.
	c.goTo(fmt.Sprintf("/nodes/%d", f.node("kiln-01").ID))
	c.do(chromedp.WaitVisible(`table[role=grid]`))
	c.settled()
	c.do(chromedp.Focus(`[data-cell="0-0"]`))
	keys(kb.ArrowDown, kb.End, " ")
	if got := value[string](c, `document.activeElement.ariaLabel`); got != "Tuesday 23:30 to 00:00, off duty" {
		t.Errorf("the grid tells %q", got)
	}
	if n := value[int](c, `document.querySelectorAll("[role=gridcell][tabindex='0']").length`); n != 1 {
		t.Errorf("the grid has %d stops", n)
	}
	words := `section[aria-label="Duty hours"] input[aria-describedby]`
	c.fill(words, "mon-fri 9-5")
	c.sees("is no stretch of time")
	// The node is on duty now, whenever the test runs: the hour off duty is half a day away.
	off := (time.Now().Hour() + 12) % 24
	var stretches []string
	if off > 0 {
		stretches = append(stretches, fmt.Sprintf("00:00-%02d:00", off))
	}
	if off < 23 {
		stretches = append(stretches, fmt.Sprintf("%02d:00-24:00", off+1))
	}
	week := "mon-fri " + strings.Join(stretches, ",") + "; sat,sun 00:00-24:00"
	slices.Reverse(stretches)
	c.fill(words, "mon-fri "+strings.Join(stretches, ",")+"; sat,sun 00:00-24:00")
	c.press("Keep these hours")
	c.confirm("Keep these hours")
	c.wait("the written hours are kept", func() bool {
		h := f.node("kiln-01").Settings.Hours
		return h != nil && h.Week == week
	})

	// A cap beyond the machine is warned of; so is one that leaves nothing.
	c.settled()
	c.fill(`section[aria-label="Caps"] input`, "64")
	c.sees("a cap of 64 has no effect")

	// Nodes are held with a reason.
	c.press("Hold")
	c.do(chromedp.WaitVisible(`dialog input`))
	c.fill(`dialog input`, "its fan is loud")
	c.confirm("Hold")
	c.wait("it is held for that reason", func() bool {
		return strings.Contains(
			f.node("kiln-01").Why, "its fan is loud",
		)
	})
}

// keys presses keys, one after the other.
func (c *console) keys(all ...string) {
	c.t.Helper()
	for _, k := range all {
		c.do(chromedp.KeyEvent(k))
	}
}
