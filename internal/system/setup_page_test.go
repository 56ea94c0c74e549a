package system

import (
	"fmt"
	"testing"

	"vexillum/internal/wire"
)

// TestTheFarmIsSetUpFromThePage makes a place, a project, a pool, a preset, a rate and a
// person, changes them, and reads what came of it.
func TestTheFarmIsSetUpFromThePage(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	c := f.open()
	c.signInAs("admin", password)
	c.sees("Queue")
	c.goTo("/setup")
	c.sees("who may sign in")
	field := func(label string) string { return fmt.Sprintf(`input[aria-label=%q]`, label) }
	button := func(part, name string) string {
		return fmt.Sprintf(`//section[@aria-label=%q]//button[normalize-space()=%q]`, part, name)
	}

	write := func(label, text string) {
		c.click(field(label))
		c.fill(field(label), text)
		c.keys("\r")
	}
	c.fill(field("Name of a place"), "tapes")
	c.fill(field("Path of the place on Linux"), f.dir)
	c.click(button("Places", "Make it"))
	c.sees("There is a place tapes.")
	c.fill(field("Name of a project"), "Bad Name")
	c.click(button("Projects", "Make it"))
	c.sees("is not a valid name for a project")
	c.fill(field("Name of a project"), "otter")
	c.click(button("Projects", "Make it"))
	c.sees("There is a project otter.")
	c.pick(`section[aria-label="Projects"] li:has(b[title="otter"]) label:last-of-type select`, "tapes")
	c.sees("otter: frames are in tapes.")
	write("Weight of otter", "2")
	c.sees("otter has a weight of 2.")
	c.click(`//*[@role="status"]//div[contains(., "a weight of 2")]/button[normalize-space()="Undo"]`)
	c.sees("Undone.")
	c.wait("the weight is what it was", func() bool {
		return value[string](c, `document.querySelector('input[aria-label="Weight of otter"]').value`) == "1"
	})
	write("Path of tapes on macOS", "/Volumes/tapes")
	c.sees("tapes is /Volumes/tapes on macOS.")
	write("Weight of otter", "3")
	c.sees("otter has a weight of 3.")

	c.fill(field("Name of a pool"), "graphics")
	c.click(button("Pools", "Make it"))
	c.sees("There is a pool graphics;")
	write("Projects for which graphics is kept", "otter")
	c.sees("graphics is kept for otter.")

	c.press("New preset")
	c.fill(field("Name of the preset"), "dome")
	c.pick(`select[aria-label="Project"]`, "otter")
	c.click(button("Presets", "Keep it"))
	c.sees("dome is kept; new runs get it.")
	c.click(`section[aria-label="Presets"] input[type=checkbox]`)
	c.sees("Your runs get dome where nothing is said.")
	c.click(button("Presets", "Drop"))
	c.confirm("Drop it")
	c.sees("dome is dropped.")

	write("Money an hour, the farm", "2")
	c.sees("the farm: 2 an hour.")
	c.pick(`select[aria-label="A rate of a pool or node"]`, "pool graphics")
	write("Watts, pool graphics", "900")
	c.sees("pool graphics: 900 W.")

	c.fill(field("Name of a person"), "ines")
	c.click(button("People", "Let in"))
	c.sees("The password of ines is")
	c.pick(`select[aria-label="Role of ines"]`, "wrangler")
	c.sees("ines: wrangler.")
	write("New member of otter", "nobody")
	c.sees(`There is nobody called "nobody"`)
	write("New member of otter", "ines")
	c.sees("ines belongs to otter.")
	c.pick(`select[aria-label="Role of ines in otter"]`, "lead")
	c.sees("ines is a lead of otter.")
	c.accessible("Setup, with all of it")
	c.noSidewaysScroll("Setup, with all of it")
	// The index leads to all parts, and what is searched for hides the others.
	if lost := value[[]string](c, `[...document.querySelectorAll('nav[aria-label="Parts of Setup"] a')]
		.filter(a => !document.querySelector(a.hash)).map(a => a.innerText)`); len(lost) > 0 {
		t.Errorf("the index leads nowhere at %v", lost)
	}
	c.fill(`input[type=search]`, "no-such-thing")
	c.sees("No match for “no-such-thing”")
	c.fill(`input[type=search]`, "")
	c.click(`//section[@aria-label="People"]//li[contains(., "ines")]//button`)
	c.confirm("Remove")
	c.sees("ines may not sign in any more.")

	var projects []wire.Project
	var pools []wire.Pool
	var rates []wire.Rate
	var people []wire.Person
	for path, out := range map[string]any{"projects": &projects, "pools": &pools, "rates": &rates, "people": &people} {
		if err := f.admin.Do(t.Context(), "GET", "/api/v1/"+path, nil, out); err != nil {
			t.Fatal(err)
		}
	}
	otter := wire.Project{}
	for _, p := range projects {
		if p.Name == "otter" {
			otter = p
		}
	}
	if otter.Weight != 3 || otter.Frames != "tapes" || len(pools) != 1 || len(pools[0].Projects) != 1 || len(rates) != 2 ||
		!otter.Closed || len(otter.Members) != 0 ||
		rates[0].PerHour != 2 ||
		rates[1].Watts != 900 ||
		len(people) != 1 {
		t.Errorf("%+v, %+v, %+v, %+v", otter, pools, rates, people)
	}
}
