package system

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vexillum/internal/wire"
)

// TestANodeFromTheListToItsRetirement announces a machine by a list, lets it
// join, changes its caps and hours while it renders, starts its node process
// again from the desk, and retires it.
func TestANodeFromTheListToItsRetirement(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	must := f.must
	refused := func(says string, args ...string) {
		t.Helper()
		if out, stderr, code := f.vexillum(args...); code != 1 || !strings.Contains(stderr, says) {
			t.Errorf("vexillum %s: %d: %s%s, want %q", strings.Join(args, " "), code, out, stderr, says)
		}
	}
	list := filepath.Join(f.dir, "nodes.csv")
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(list, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("name,kind,pools,cores\nkiln-07,rack,,1\nkiln-08,rack,nowhere,1\n")
	refused(`line 3, column pools: there is no pool "nowhere"`, "nodes", "import", list)
	write("name,kind,traits,cores\nkiln-07,rack,quiet,1\nkiln-08,shelf,,\nkiln 09,rack,,\n")
	refused("line 4, column name", "nodes", "import", list)
	if n := f.count(`SELECT count(*) FROM node`); n != 0 {
		t.Errorf("%d nodes were imported from lists that are wrong", n)
	}
	write("name,kind,traits,cores\nkiln-07,rack,quiet,1\nkiln-08,rack,,\n")
	if out := must(
		"nodes", "import", list, "--dry-run",
	); !strings.Contains(out, "2 nodes would be announced, 0 would be changed, 0 the same") ||
		f.count(`SELECT count(*) FROM node`) != 0 {
		t.Error(out)
	}
	must("nodes", "import", list)
	if out := must("nodes", "import", list); !strings.Contains(out, "0 nodes announced, 0 changed, 2 the same") {
		t.Errorf("imported again: %s", out)
	}
	if out := must("nodes"); !strings.Contains(out, "announced") {
		t.Error(out)
	}

	// The machine joins under that name, and says what it is.
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 300ms\n")
	node := f.join("kiln-07", "--renderers", "practice", "--speed", "1")
	for _, line := range []string{"service  ", "clock  ", "enrolled     as node kiln-07", "disk  ", "network      sends", "renderer     practice", "caps in force\" version=1 cores=1"} {
		f.wait("joining tells "+line, func() bool { return strings.Contains(node.out.String(), line) })
	}
	if out := must("nodes", "export"); !strings.Contains(out, "\nkiln-07,rack,,quiet,1,") {
		t.Error(out)
	}
	id := f.submit(
		wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-60", Width: 64, Height: 36, Needs: "quiet"},
	)
	f.done(id, 2)

	// Caps are in force within 5 s, without a stop.
	before := time.Now()
	must("nodes", "set", "kiln-07", "--cores", "2", "--staging", "1GiB", "--nice", "12")
	f.wait("the caps are in force", func() bool { return strings.Contains(node.out.String(), "version=2 cores=2") })
	if took := time.Since(before); took > 5*time.Second {
		t.Errorf("caps were in force after %v", took)
	}
	calendar := filepath.Join(f.dir, "hours.ics")
	must(
		"nodes", "set", "kiln-07", "--hours", "mon-fri 18:30-08:00; sat,sun 00:00-24:00", "--zone", "Europe/Dublin",
		"--except", "2031-12-24=never", "--dry-run",
	)
	must(
		"nodes", "set", "kiln-08", "--hours", "mon-fri 18:30-08:00; sat,sun 00:00-24:00", "--zone", "Europe/Dublin",
		"--except", "2031-12-25=12:00-14:00",
	)
	must("nodes", "hours", "kiln-08", "--export", calendar)
	must("nodes", "set", "kiln-08", "--hours", "always")
	if out := must("nodes", "hours", "kiln-08", "--import", calendar); !strings.Contains(
		out, "mon-fri 18:30-08:00; sat,sun 00:00-24:00 (Europe/Dublin), on 2031-12-25 12:00-14:00 instead of always",
	) {
		t.Error(out)
	}
	refused("always on duty", "nodes", "hours", "kiln-07", "--export", calendar+"2")

	// Its node process restarts, and its renderer goes on.
	must("nodes", "restart", "kiln-07")
	f.wait(
		"the node process has started anew",
		func() bool { return f.count(`SELECT session FROM node WHERE name = 'kiln-07'`) == 2 },
	)
	f.done(id, 10)
	if n := f.count(`SELECT count(*) FROM lease WHERE run = $1`, id); n != 1 {
		t.Errorf("%d leases: the restart broke one off", n)
	}

	// Held at the border, and released: nothing is rendered twice.
	must("nodes", "hold", "--where", "quiet")
	f.wait("it has stopped at the border", func() bool { return len(f.node("kiln-07").Works) == 0 })
	must("nodes", "release", "kiln-07")
	run := f.ended(id)
	f.wantOnce(id, 60)
	if n := f.count(
		`SELECT count(*) FROM event WHERE run = $1 AND kind = 'frame accepted'`,
		id,
	); run.State != "done" ||
		n != 60 {
		t.Errorf("%s, %d frames were accepted", run.State, n)
	}

	must("nodes", "rename", "kiln-07", "kiln-17")
	must("nodes", "retire", "kiln-17", "--reason", "sold")
	<-node.gone
	if f.node("kiln-17") != nil {
		t.Error("a retired node is shown")
	}
	if out := must("nodes", "import", list); !strings.Contains(out, "1 node announced") {
		t.Errorf("its name is not free: %s", out)
	}
}
