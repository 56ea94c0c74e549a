package system

import (
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"vexillum/internal/client"
	"vexillum/internal/demo"
	"vexillum/internal/testkit/pgtest"
	"vexillum/internal/wire"
)

// processesOf returns the living processes that name a folder.
func processesOf(t *testing.T, dir string) []string {
	t.Helper()
	var found []string
	entries, err := filepath.Glob("/proc/[0-9]*/cmdline")
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range entries {
		if data, err := os.ReadFile(path); err == nil && strings.Contains(string(data), dir) {
			found = append(found, strings.ReplaceAll(string(data), "\x00", " "))
		}
	}
	return found
}

func demoFolder(t *testing.T) string {
	t.Helper()
	dir, err := pgtest.Folder()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return filepath.Join(dir, "demo")
}

func TestDemoOnce(t *testing.T) {
	dir := demoFolder(t)
	p := start(t, "demo", "demo", "--once", "--dir", dir, "--listen", freeAddress(t))
	<-p.gone
	if code := p.cmd.ProcessState.ExitCode(); code != 0 || !strings.Contains(p.out.String(), "12 of 12") {
		t.Fatalf("it ended with %d: %s", code, p.out)
	}
	if b := readPNG(t, filepath.Join(dir, "contact-sheet.png")).Bounds(); b.Dx() < 900 {
		t.Errorf("the contact sheet is %v", b)
	}
	frames, err := filepath.Glob(filepath.Join(dir, "frames", "salt_010", "final-1", "*.png"))
	if err != nil || len(frames) != 12 {
		t.Errorf("%d frames, %v", len(frames), err)
	}
	if left := processesOf(t, dir); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// TestDemoIsLeftWithoutATrace starts the demo, looks at it, and ends it as
// Ctrl-C does.
func TestDemoIsLeftWithoutATrace(t *testing.T) {
	dir, listen := demoFolder(t), freeAddress(t)
	p := start(t, "demo", "demo", "--dir", dir, "--listen", listen)
	f := &farm{t: t}
	c, err := client.New("http://"+listen, "")
	if err != nil {
		t.Fatal(err)
	}
	f.wait("the demo is up", func() bool { return strings.Contains(p.out.String(), "Ctrl-C ends everything") })
	// Another one in the same folder is refused, wherever it would listen, and harms nothing.
	for _, address := range []string{listen, freeAddress(t)} {
		if out, stderr, code := f.vexillum("demo", "--dir", dir, "--listen", address); code == 0 ||
			!strings.Contains(stderr, "a demo runs in "+dir+" already, and nothing was changed") {
			t.Fatalf("a second demo ended with %d: %s %s", code, out, stderr)
		}
	}
	c, _, err = c.Patient(time.Minute).SignIn(t.Context(), demo.Name, demo.Password, "test")
	if err != nil {
		t.Fatal(err)
	}
	states, kinds, nodes := map[string]bool{}, map[string]bool{}, map[string]bool{}
	f.wait("runs are in different states", func() bool {
		var now wire.Farm
		if err := c.Do(t.Context(), http.MethodGet, "/api/v1/farm", nil, &now); err != nil {
			t.Fatal(err)
		}
		for _, r := range now.Runs {
			states[r.State] = true
		}
		for _, n := range now.Nodes {
			kinds[n.Kind], nodes[n.State] = true, true
		}
		return len(now.Nodes) >= 8 && states["rendering"] && states["queued"] && states["held"] && states["done"] &&
			states["cancelled"]
	})
	if !kinds["rack"] || !kinds["desk"] || !nodes["away"] || !nodes["held"] || !nodes["rendering"] {
		t.Errorf("nodes are %v of kind %v", nodes, kinds)
	}
	movie, tiled, pair := false, false, 0
	look := func() {
		var now wire.Farm
		if err := c.Do(t.Context(), http.MethodGet, "/api/v1/farm", nil, &now); err != nil {
			t.Fatal(err)
		}
		pair = 0
		for _, r := range now.Runs {
			switch {
			case r.Job == "flock_movie":
				movie = r.State == "done" && r.Movie
			case r.Tiles != nil:
				tiled = r.Tiles.Stitched
			case r.Job == "tidal_pair_left" || r.Job == "tidal_pair_right":
				pair++
			}
		}
	}
	f.wait("the still is put together and the inbox is empty", func() bool { look(); return tiled && pair == 2 })
	f.wait("the chain ends in a movie", func() bool { look(); return movie })
	f.wait("the ill node is sidelined and the wrong shot is held", func() bool {
		var now wire.Farm
		if err := c.Do(t.Context(), http.MethodGet, "/api/v1/farm", nil, &now); err != nil {
			t.Fatal(err)
		}
		kinds := map[string]bool{}
		for _, h := range now.Hands {
			kinds[h.Kind] = true
		}
		back := slices.ContainsFunc(
			now.Nodes,
			func(n wire.Node) bool { return n.Name == "kiln-04" && n.Health == "fine" },
		)
		return (kinds["sidelined"] || back) && kinds["failing"] && kinds["parked"]
	})
	p.end(syscall.SIGINT)
	if code := p.cmd.ProcessState.ExitCode(); code != 0 {
		t.Errorf("it ended with %d: %s", code, p.out)
	}
	if left := processesOf(t, dir); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	// One that is killed takes its farm along, and the next begins in the same folder.
	killed := start(t, "killed demo", "demo", "--dir", dir, "--listen", listen)
	f.wait("the demo is up again", func() bool { return strings.Contains(killed.out.String(), "Ctrl-C ends everything") })
	killed.end(syscall.SIGKILL)
	next := start(t, "next demo", "demo", "--once", "--dir", dir, "--listen", listen)
	<-next.gone
	if code := next.cmd.ProcessState.ExitCode(); code != 0 {
		t.Errorf("after one that was killed it ended with %d: %s", code, next.out)
	}
	if left := processesOf(t, dir); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	if _, stderr, code := (&farm{t: t, dir: t.TempDir()}).vexillum(
		"demo", "--dir", t.TempDir()+"/../..", "--listen", listen,
	); code != 1 ||
		!strings.Contains(stderr, "not the demo's") {
		t.Errorf("a folder of somebody else: %d %s", code, stderr)
	}
}
