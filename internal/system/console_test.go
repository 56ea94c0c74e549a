package system

import (
	"context"
	"fmt"
	"os"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"vexillum/internal/testkit/browser"
	"vexillum/internal/wire"
)

// console is a browser in front of a farm.
type console struct {
	*farm
	ctx    context.Context
	silent error // why the page said nothing when last asked
}

func (f *farm) open() *console {
	f.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Minute)
	f.t.Cleanup(cancel)
	dir, err := os.MkdirTemp("", "vexillum-browser-")
	if err != nil {
		f.t.Fatal(err)
	}
	f.t.Cleanup(func() { _ = os.RemoveAll(dir) })
	ctx, stop, err := browser.Start(ctx, dir)
	if err != nil {
		f.t.Fatalf("starting Chromium: %v", err)
	}
	f.t.Cleanup(stop)
	if err := chromedp.Run(ctx); err != nil { // the browser lives as long as the context of this first call
		f.t.Fatalf("starting Chromium: %v", err)
	}
	c := &console{farm: f, ctx: ctx}
	c.do(chromedp.EmulateViewport(browser.Width, browser.Height),
		chromedp.ActionFunc(func(ctx context.Context) error {
			_, err := page.AddScriptToEvaluateOnNewDocument(`window.blocked = []; addEventListener("securitypolicyviolation", e => window.blocked.push(e.violatedDirective + " " + e.blockedURI + " " + e.sourceFile));
				// Colours and places are looked at when they are as they stay.
				const still = new CSSStyleSheet();
				still.replaceSync("*, *::before, *::after { transition: none !important; animation: none !important }");
				document.adoptedStyleSheets = [still];`).
				Do(ctx)
			return err
		}),
		chromedp.Navigate("http://"+f.listen))
	return c
}

// do runs browser actions; each is waited for.
func (c *console) do(actions ...chromedp.Action) {
	c.t.Helper()
	ctx, cancel := context.WithTimeout(c.ctx, 60*time.Second)
	defer cancel()
	if err := chromedp.Run(ctx, actions...); err != nil {
		text := ""
		_ = chromedp.Run(c.ctx, chromedp.Text("body", &text))
		c.t.Fatalf("%v; the page shows:\n%s", err, text)
	}
}

// text returns what the page shows, or nothing while it changes to another.
func (c *console) text() string {
	c.t.Helper()
	ctx, cancel := context.WithTimeout(c.ctx, 20*time.Second)
	defer cancel()
	text := ""
	if c.silent = chromedp.Run(ctx, chromedp.Evaluate(`document.body?.innerText ?? ""`, &text)); c.silent != nil {
		return ""
	}
	return text
}

// wait is the farm's, and says what the page shows if it waits in vain.
func (c *console) wait(what string, holds func() bool) {
	c.t.Helper()
	met := false
	defer func() {
		if !met {
			c.t.Logf("the page shows (%v):\n%s", c.silent, c.text())
		}
	}()
	c.farm.wait(what, holds)
	met = true
}

func (c *console) sees(what string) {
	c.t.Helper()
	c.wait("the page shows "+what, func() bool { return strings.Contains(c.text(), what) })
}

// press clicks the button of that name.
func (c *console) press(name string) {
	c.t.Helper()
	c.click(fmt.Sprintf(`//button[normalize-space()=%q]`, name))
}

// confirm clicks the button of that name in the dialog that asks once more, and
// waits until that has closed or told what is wrong.
func (c *console) confirm(name string) {
	c.t.Helper()
	c.click(fmt.Sprintf(`//dialog//button[normalize-space()=%q]`, name))
	c.wait("the dialog is answered", func() bool {
		return value[bool](
			c, `!document.querySelector("dialog[open]") || !!document.querySelector("dialog [role=alert]")`,
		)
	})
}

// click clicks what a CSS selector or an XPath finds first, once that stands
// still and nothing lies over it, as a person would. What moves away between
// the look and the click, because the page is live, is clicked again.
func (c *console) click(what string) {
	c.t.Helper()
	const find = `(what => what.startsWith("/")
		? document.evaluate(what, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE).singleNodeValue
		: document.querySelector(what))`
	missed := false
	for range 5 {
		var at []float64
		c.wait("a click can reach "+what, func() bool {
			c.do(chromedp.Evaluate(fmt.Sprintf(`(async what => {
				const found = %[2]s(what);
				if (!found || found.disabled) return [];
				found.scrollIntoView({block: "center", behavior: "instant"});
				const before = found.getBoundingClientRect();
				await new Promise(done => setTimeout(done, 100));
				const now = found.getBoundingClientRect();
				if (%[2]s(what) !== found || before.x !== now.x || before.y !== now.y || now.width === 0) return [];
				const x = now.x + now.width / 2, y = now.y + now.height / 2;
				if (!found.contains(document.elementFromPoint(x, y))) return [];
				window.missed = true;
				addEventListener("mousedown", e => { window.missed = !%[2]s(what)?.contains(e.target) },
					{capture: true, once: true});
				return [x, y];
			})(%[1]q)`, what, find), &at, awaitPromise))
			return len(at) == 2
		})
		c.do(chromedp.MouseClickXY(at[0], at[1]))
		// A page that the click has left knows nothing of it any more, or cannot be asked.
		ctx, cancel := context.WithTimeout(c.ctx, 20*time.Second)
		err := chromedp.Run(ctx, chromedp.Evaluate(`window.missed === true`, &missed))
		cancel()
		if err != nil || !missed {
			return
		}
	}
	c.t.Fatalf("%s moves away from every click", what)
}

// settled waits until what is loaded piece by piece moves nothing any more, so
// that a click lands where it was aimed.
func (c *console) settled() {
	c.t.Helper()
	height, calm := 0, 0
	c.wait("the page stands still", func() bool {
		before := height
		c.do(chromedp.Evaluate(`document.documentElement.scrollHeight`, &height), chromedp.Sleep(100*time.Millisecond))
		if calm++; before != height {
			calm = 0
		}
		return calm >= 5
	})
}

func (c *console) signInAs(name, word string) {
	c.t.Helper()
	c.do(chromedp.WaitVisible(`input[name=name]`), chromedp.Evaluate(`document.querySelector("form").reset()`, nil),
		chromedp.SendKeys(`input[name=name]`, name), chromedp.SendKeys(`input[name=password]`, word+kb.Enter))
}

// accessible runs axe-core on the page.
func (c *console) accessible(name string) {
	c.t.Helper()
	script, err := os.ReadFile("../../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		c.t.Fatalf("axe-core is missing; run make build: %v", err)
	}
	c.do(chromedp.Evaluate(string(script), nil))
	for _, theme := range []string{"day", "night"} {
		c.accessibleIn(name, theme)
	}
}

func (c *console) accessibleIn(name, theme string) {
	c.t.Helper()
	var found []string
	c.do(
		chromedp.Evaluate(fmt.Sprintf(`document.documentElement.dataset.theme = %q`, theme), nil),
		chromedp.Sleep(400*time.Millisecond),
	) // colours fade over
	c.do(
		chromedp.Evaluate(
			`axe.run(document, {runOnly: ["wcag2a", "wcag2aa", "wcag21aa", "wcag22aa"]}).then(r => r.violations.map(v => v.id + ": " + v.help + " " + v.nodes.slice(0, 3).map(n => n.html.slice(0, 160)).join(" | ")))`,
			&found,
			chromedp.EvalAsValue,
			awaitPromise,
		),
	)
	for _, violation := range found {
		c.t.Errorf("%s by %s: %s", name, theme, violation)
	}
}

// noSidewaysScroll looks that the page fits its width.
func (c *console) noSidewaysScroll(name string) {
	c.t.Helper()
	var over int
	// what is drawn follows the window a moment later
	for deadline := time.Now().Add(5 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		c.do(chromedp.Evaluate(`document.documentElement.scrollWidth - window.innerWidth`, &over))
		if over <= 0 || time.Now().After(deadline) {
			break
		}
	}
	if over > 0 {
		c.t.Errorf("%s is %d pixels too wide: %v", name, over, value[[]string](c, `[...document.querySelectorAll("body *")]
			.filter(e => e.getBoundingClientRect().right > innerWidth + 1).slice(0, 4).map(e => e.outerHTML.slice(0, 120))`))
	}
}

// TestConsole signs in, watches a run progress live, opens it, holds and
// releases it, all in a real browser.
func TestConsole(t *testing.T) {
	f := newFarm(t)
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 400ms\n")
	f.join("kiln-01", "--renderers", "practice")
	id := f.submit(wire.Submit{Job: "salt_010", Scene: "salt.practice", Frames: "1-400", Width: 160, Height: 90})
	f.submit(wire.Submit{Job: "salt_020", Scene: "salt.practice", Frames: "1-9", Held: true})
	c := f.open()

	c.accessible("sign-in")
	c.signInAs("admin", "not-the-password")
	c.sees("name or password is wrong")
	c.signInAs("admin", password)
	c.sees("Rendering")
	c.sees("salt_010")
	c.sees("of 400 frames")
	c.sees("release it to start")

	doneOnPage := func() (n int) {
		_, after, _ := strings.Cut(strings.ReplaceAll(c.text(), "\n", " "), "salt_010 final 1")
		for _, word := range strings.Fields(after) {
			if _, err := fmt.Sscanf(word, "%d", &n); err == nil &&
				strings.Contains(after, fmt.Sprintf("%d of 400 frames", n)) {
				return n
			}
		}
		return -1
	}
	first := doneOnPage()
	c.wait("the page moves on by itself", func() bool { return doneOnPage() > first })
	c.accessible("Watch")
	c.noSidewaysScroll("Watch")

	// The run's page: a picture arrives, and the contact sheet fills up.
	c.click(`//a[contains(@href, "/runs/") and contains(., "salt_010")]`)
	c.do(chromedp.WaitVisible(`section[aria-label="Frame map"]`))
	pictures := func() (n int) {
		c.do(
			chromedp.Evaluate(
				`[...document.querySelectorAll('button[aria-label^="Frame "] img')].filter(i => i.complete && i.naturalWidth > 0).length`,
				&n,
			),
		)
		return n
	}
	c.wait("thumbnails are shown", func() bool { return pictures() > 0 })
	had := pictures()
	c.wait("more thumbnails arrive by themselves", func() bool { return pictures() > had })
	c.wait("the newest frame is shown large", func() bool {
		var width int
		c.do(
			chromedp.Evaluate(
				`(document.querySelector('section[aria-label="Picture"] img[alt^="Frame"]') ?? {naturalWidth: 0}).naturalWidth`,
				&width,
			),
		)
		return width == 160
	})
	c.accessible("Run")
	c.noSidewaysScroll("Run")
	var blocked []string
	c.do(chromedp.Evaluate(`window.blocked ?? []`, &blocked))
	if len(blocked) > 0 {
		t.Errorf("the content security policy blocked %v", blocked)
	}
	c.do(chromedp.EmulateViewport(390, 800))
	c.noSidewaysScroll("Run on a telephone")
	c.do(chromedp.EmulateViewport(browser.Width, browser.Height))

	// Hold says before what will happen, and after that it has.
	c.wait("a frame is in flight", func() bool { return f.run(id).Sets.Rendering != "" })
	c.press("Hold")
	c.sees("1 frame in flight will finish first")
	c.press("Hold it")
	c.sees("salt_010/final-1 is held.")
	c.wait("the run is held", func() bool { return f.run(id).State == "held" })
	c.press("Release")
	c.sees("salt_010/final-1 goes on.")
	c.wait("the run goes on", func() bool { return f.run(id).State == "rendering" })

	// What may be changed of a run is changed, what that does told first.
	c.press("Change")
	c.sees("Nothing is changed yet.")
	c.pick(`dialog select`, "high")
	c.fill(`dialog input[placeholder=none]`, "x")
	c.sees("is not a ceiling: use a number of nodes")
	c.fill(`dialog input[placeholder=none]`, "2")
	c.sees("Priority high instead of normal.")
	c.sees("Ceiling 2 instead of none.")
	c.accessible("Change")
	c.confirm("Change it")
	c.wait("the run is changed", func() bool { return f.run(id).Priority == "high" && f.run(id).Ceiling == "2" })
	c.pick(`select[aria-label="Ask about one node"]`, f.run(id).Nodes[0])
	c.sees("works on it")

	// Licences are counted on the page of the setup.
	c.do(chromedp.KeyEvent("g"), chromedp.KeyEvent("s"), chromedp.WaitVisible(`section[aria-label="Licences"]`))
	c.fill(`input[aria-label="Name of a licence"]`, "tidal")
	c.press("Count it")
	c.sees("Licence tidal is counted: there is 1.")
	count := `input[aria-label="How many licences tidal there are"]`
	c.fill(count, "4")
	c.do(chromedp.SendKeys(count, kb.Enter))
	c.wait("there are four", func() bool { return f.count(`SELECT count FROM licence WHERE name = 'tidal'`) == 4 })
	loads := `input[aria-label="Launches that may load from scenes at once"]`
	c.fill(loads, "2")
	c.do(chromedp.SendKeys(loads, kb.Enter))
	c.wait("two may load at once", func() bool { return f.count(`SELECT loads FROM place WHERE name = 'scenes'`) == 2 })
	c.accessible("Setup")
	c.noSidewaysScroll("Setup")
	c.do(
		chromedp.Navigate(fmt.Sprintf("http://%s/runs/%d", f.listen, id)),
		chromedp.WaitVisible(`section[aria-label="Frame map"]`),
	)

	// The service goes away and comes back; the page says so and catches up.
	f.service.end(syscall.SIGKILL)
	c.sees("The line to the service is lost")
	f.serve()
	c.wait("the page is live again", func() bool { return !strings.Contains(c.text(), "line to the service is lost") })
	before := f.run(id).DoneCount
	c.wait("the page has caught up", func() bool {
		shown := regexp.MustCompile(`(\d+)\s+of\s+400\s+frames done`).FindStringSubmatch(c.text())
		if shown == nil {
			return false
		}
		n, err := strconv.Atoi(shown[1])
		return err == nil && n > before
	})

	c.press("Cancel run")
	c.sees("A cancelled run cannot be resumed")
	c.confirm("Cancel the run")
	c.sees("cancelled by admin")
	c.do(chromedp.KeyEvent("g"), chromedp.KeyEvent("w"), chromedp.WaitVisible(`ul[aria-label="Nodes"]`))
	c.press("admin") // whose menu opens
	c.sees("Theme")
	c.press("Sign out")
	c.sees("Sign in to the farm.")
}

// pick chooses from a list.
func (c *console) pick(field, option string) {
	c.t.Helper()
	c.do(chromedp.WaitVisible(field), chromedp.Evaluate(fmt.Sprintf(`(() => {
		const field = document.querySelector(%q);
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(field, %q);
		field.dispatchEvent(new Event("change", {bubbles: true}));
	})()`, field, option), nil))
}

// fill replaces what a field holds, as typing would.
func (c *console) fill(field, text string) {
	c.t.Helper()
	c.do(chromedp.Evaluate(fmt.Sprintf(`(() => {
		const field = document.querySelector(%q);
		Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(field, %q);
		field.dispatchEvent(new Event("input", {bubbles: true}));
	})()`, field, text), nil))
}

// TestConsoleOfNodes picks nodes by an expression, drains and releases them,
// paints duty hours and makes a key.
func TestConsoleOfNodes(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	for _, name := range []string{"kiln-01", "kiln-02", "desk-tobin"} {
		args := []string{"--renderers", "practice", "--speed", "1"}
		if name == "kiln-02" {
			args[1] = "none"
		}
		if name == "desk-tobin" {
			args = append(args, "--kind", "desk")
		}
		f.join(name, args...)
	}
	f.signIn()
	f.put("/api/v1/pools/graphics", wire.NewPool{Projects: []string{}})
	c := f.open()
	c.signInAs("admin", password)
	c.do(
		chromedp.WaitVisible(`ul[aria-label="Nodes"]`),
		chromedp.KeyEvent("g"), chromedp.KeyEvent("n"),
		chromedp.WaitVisible(`main table thead`),
	)
	c.sees("3 nodes")
	c.accessible("Nodes")
	c.noSidewaysScroll("Nodes")
	find := `input[placeholder^=gpu]`
	c.do(chromedp.SendKeys(find, "rack & practice"))
	c.sees("write && at character 6")
	c.sees("No node is listed until that can be read.")
	if strings.Contains(c.text(), "kiln-01") {
		t.Error("a filter that cannot be read lists nodes")
	}
	c.fill(find, "rack && !laptob")
	c.sees("2 of 3 nodes; no node has the trait laptob")
	c.click(`th input[type=checkbox]`)
	c.sees("2 picked")
	c.press("Drain")
	c.sees("2 nodes would be draining.")
	c.confirm("Drain")
	c.sees("2 nodes are draining.")
	c.wait(
		"the nodes have drained",
		func() bool { return f.node("kiln-01").Duty == "held" && f.node("kiln-02").Duty == "held" },
	)
	c.press("Undo")
	c.wait("they are released again", func() bool { return f.node("kiln-01").Duty == "on duty" })
	c.press("Pick none")
	c.press("Cards")
	c.accessible("Nodes as cards")
	c.do(chromedp.EmulateViewport(390, 800))
	c.noSidewaysScroll("Nodes on a telephone")
	c.do(chromedp.EmulateViewport(browser.Width, browser.Height))

	// Hours are painted with the pointer and by keyboard.
	desk := f.node("desk-tobin").ID
	c.do(chromedp.Navigate(fmt.Sprintf("http://%s/nodes/%d", f.listen, desk)), chromedp.WaitVisible(`table[role=grid]`))
	c.settled()
	c.click(`[data-cell="2-20"]`)
	c.do(
		chromedp.WaitVisible(`[data-cell="2-20"][aria-selected=false]`),
		chromedp.Focus(`[data-cell="2-20"]`),
		chromedp.KeyEvent(kb.ArrowRight, chromedp.KeyModifiers(input.ModifierShift)), chromedp.KeyEvent(kb.ArrowDown),
		chromedp.KeyEvent(" "),
	)
	c.press("Keep these hours")
	c.sees("wed 00:00-10:00,11:00-24:00")
	c.confirm("Keep these hours")
	c.wait("the hours are kept", func() bool {
		h := f.node("desk-tobin").Settings.Hours
		return h != nil &&
			h.Week == "mon,tue 00:00-24:00; wed 00:00-10:00,11:00-24:00; thu 00:00-10:30,11:00-24:00; fri-sun 00:00-24:00"
	})
	c.do(chromedp.SendKeys(`input[aria-label="Give a trait"]`, "big-memory"+kb.Enter))
	c.confirm("Give it")
	c.sees("trait big-memory is added")

	// Its caps are changed and applied to others, the differences shown first.
	c.fill(`section[aria-label="Caps"] input`, "1")
	c.do(chromedp.SendKeys(`section[aria-label="Caps"] input`, kb.Enter))
	c.sees("cores: 1 instead of all")
	c.confirm("Keep these caps")
	c.wait("the caps are kept", func() bool { return f.node("desk-tobin").Settings.Caps.Cores == 1 })
	c.fill(`section[aria-label="Apply to others"] input.input`, "rack")
	c.do(chromedp.SendKeys(`section[aria-label="Apply to others"] input.input`, kb.Enter))
	c.sees("kiln-02")
	c.sees("cores: 1 instead of all")
	if f.node("kiln-01").Settings.Caps.Cores != 0 {
		t.Error("showing the differences has changed a node")
	}
	c.confirm("Apply them")
	c.wait("the caps are applied", func() bool {
		return f.node("kiln-01").Settings.Caps.Cores == 1 && f.node("kiln-02").Settings.Caps.Cores == 1
	})

	// A node tests itself; what it measures is drawn, and what it says is there.
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 1s\n")
	f.submit(wire.Submit{Job: "salt", Recipe: "practice", Scene: "salt.practice", Frames: "1-300"})
	c.do(
		chromedp.Navigate(fmt.Sprintf("http://%s/nodes/%d", f.listen, f.node("kiln-01").ID)),
		chromedp.WaitVisible(`section[aria-label="Usage"] canvas`),
	)
	c.sees("busiest core")
	c.sees("vx begin")
	c.sees("salt/final-1")
	c.fill(`section[aria-label="Log"] input`, "nobody says this")
	c.sees("No line on record contains this.")
	c.fill(`section[aria-label="Log"] input`, "SESSION OPEN")
	c.sees("session open")
	c.accessible("Node with plots")
	c.noSidewaysScroll("Node with plots")
	c.do(chromedp.EmulateViewport(390, 800))
	c.noSidewaysScroll("Node on a telephone")
	c.do(chromedp.EmulateViewport(browser.Width, browser.Height))
	if _, stderr, code := f.vexillum("cancel", "salt"); code != 0 {
		t.Fatal(stderr)
	}
	c.press("Test now")
	c.sees("its picture is the same, pixel for pixel")

	// A pool is held as a whole, and what is held wants a hand.
	if _, stderr, code := f.vexillum("nodes", "set", "kiln-01", "--add-pool", "graphics"); code != 0 {
		t.Fatal(stderr)
	}
	c.do(chromedp.Navigate("http://"+f.listen+"/nodes"), chromedp.WaitVisible(`main ul li`))
	c.click(`//label[contains(., "by pool")]`)
	c.press("Hold the pool")
	c.sees("nothing is in flight")
	c.confirm("Hold it")
	c.sees("Release the pool")
	c.do(chromedp.Navigate("http://"+f.listen+"/"), chromedp.WaitVisible(`section[aria-label="Needs a hand"]`))
	c.sees("The pool graphics is held by admin.")
	c.press("Release")
	c.wait(
		"the pool is released",
		func() bool { return f.count(`SELECT count(*) FROM stay WHERE (stay->>'held')::boolean`) == 0 },
	)

	// What is wrong with a machine is told, and keeps nobody from steering it.
	c.do(chromedp.Navigate(fmt.Sprintf("http://%s/nodes/%d", f.listen, f.node("kiln-02").ID)))
	c.sees("kiln-02 has no renderer that a recipe knows.")
	c.sees("Sideline")
	if strings.Contains(c.text(), "Release") {
		t.Error("a node that is merely warned is offered to be released")
	}

	c.do(chromedp.Navigate("http://" + f.listen + "/keys"))
	c.sees("Enrol machines")
	c.press("Make a key")
	c.sees("vexillum join http://" + f.listen + " --key vxk_")
	c.accessible("Keys")
	c.press("Revoke")
	c.sees("cannot be restored")
	c.confirm("Revoke it")
	c.sees("lets nobody in any more")
}

// TestConsoleForAViewer looks that somebody who may not steer sees no button
// for it.
func TestConsoleForAViewer(t *testing.T) {
	f := newFarm(t)
	f.patch("/api/v1/people/ines", wire.PersonChange{Role: "viewer", Password: password})
	f.scene("salt.practice", "practice: 1\npicture: salt\n")
	id := f.submit(wire.Submit{Job: "salt_010", Scene: "salt.practice", Frames: "1-4", Held: true})
	c := f.open()
	c.signInAs("ines", password)
	c.sees("salt_010")
	if strings.Contains(c.text(), "Release") {
		t.Error("a viewer is offered to release a run")
	}
	c.do(
		chromedp.Navigate(fmt.Sprintf("http://%s/runs/%d", f.listen, id)),
		chromedp.WaitVisible(`section[aria-label="Frame map"]`),
	)
	if text := c.text(); strings.Contains(text, "Cancel run") || strings.Contains(text, "Release") {
		t.Error("a viewer is offered to steer a run")
	}
	c.do(chromedp.Navigate(fmt.Sprintf("http://%s/runs/999", f.listen)))
	c.sees("There is no run 999")
}

// awaitPromise waits for the value of a promise.
func awaitPromise(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }
