package system

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"vexillum/internal/testkit/pgtest"
	"vexillum/internal/wire"
)

// TestABackupBecomesAFarmAgain backs a farm up in the middle of a run, loses
// it some frames later, and restores it onto an empty database. The farm goes
// on where it was; what was delivered since is not delivered twice.
func TestABackupBecomesAFarmAgain(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 200ms\n")
	node := f.join("kiln-01", "--renderers", "practice")
	id := f.submit(wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-40"})
	f.done(id, 5)
	file := filepath.Join(f.dir, "farm.dump")
	out, stderr, code := f.vexillum("backup", file, "--database", f.url)
	if code != 0 || !strings.Contains(out, "Backed up to") {
		t.Fatalf("backup: %s%s", out, stderr)
	}
	if out, stderr, code := f.vexillum("backup", file, "--database", f.url); code == 0 ||
		!strings.Contains(stderr, "a file of that name already") {
		t.Errorf("over a file: %s%s", out, stderr)
	}
	if out, stderr, code := f.vexillum("restore", file, "--database", f.url); code == 0 ||
		!strings.Contains(stderr, "holds a farm already") {
		t.Errorf("over a farm: %s%s", out, stderr)
	}
	f.done(id, f.run(id).DoneCount+6)
	node.end(syscall.SIGKILL)
	f.service.end(syscall.SIGKILL)

	f.url = pgtest.URL(t)
	notes := filepath.Join(f.dir, "notes.txt")
	if err := os.WriteFile(notes, []byte("no backup"), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, stderr, code := f.vexillum("restore", notes, "--database", f.url); code == 0 {
		t.Errorf("what is no backup was restored: %s%s", out, stderr)
	}
	out, stderr, code = f.vexillum("restore", file, "--database", f.url)
	if code != 0 || !strings.Contains(out, "with 1 runs") {
		t.Fatalf("restore: %s%s", out, stderr)
	}
	f.serve()
	if run := f.run(id); run.DoneCount < 5 || run.DoneCount > 20 || run.State != "rendering" {
		t.Errorf("the restored run is %s with %d done", run.State, run.DoneCount)
	}
	again := f.join("kiln-01", "--renderers", "practice")
	f.wantDone(id, 1, 40, "salt")
	if !strings.Contains(again.out.String(), "not of this farm") {
		t.Error("what the node held of the life before was not set aside")
	}
}

// TestABackupOfTheOwnDatabase does the same with the service's own database,
// running and at rest.
func TestABackupOfTheOwnDatabase(t *testing.T) {
	t.Parallel()
	dir, err := pgtest.Folder()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	f := &farm{t: t, dir: dir, listen: freeAddress(t)}
	word := filepath.Join(dir, "password")
	if err := os.WriteFile(word, []byte(password), 0o600); err != nil {
		t.Fatal(err)
	}
	serve := func(data string) *program {
		p := start(
			t, data, "serve", "--listen", f.listen, "--data", filepath.Join(dir, data), "--admin-password-file", word,
			"--no-durability",
		)
		f.wait("the service is ready", func() bool { return health(t, f.listen).Part == "active" })
		return p
	}
	if _, stderr, code := f.vexillum(
		"backup", filepath.Join(dir, "x.dump"), "--data", filepath.Join(dir, "nothing"),
	); code == 0 ||
		!strings.Contains(stderr, "there is no database") {
		t.Errorf("of no database: %s", stderr)
	}
	first := serve("first")
	f.signIn()
	for i, running := range []bool{true, false} {
		file := filepath.Join(dir, fmt.Sprintf("%d.dump", i))
		if out, stderr, code := f.vexillum("backup", file, "--data", filepath.Join(dir, "first")); code != 0 {
			t.Fatalf("running %v: %s%s", running, out, stderr)
		}
		if running {
			if _, stderr, code := f.vexillum("restore", file, "--data", filepath.Join(dir, "first")); code == 0 ||
				!strings.Contains(stderr, "a service runs") {
				t.Errorf("under a running service: %s", stderr)
			}
			first.end(syscall.SIGTERM)
		}
	}
	if out, stderr, code := f.vexillum(
		"restore", filepath.Join(dir, "1.dump"), "--data", filepath.Join(dir, "second"),
	); code != 0 {
		t.Fatalf("restore: %s%s", out, stderr)
	}
	began := time.Now()
	serve("second")
	t.Logf("the restored farm was up after %v", time.Since(began).Round(10*time.Millisecond))
	if out, stderr, code := f.vexillum("nodes"); code != 0 { // by the token of the farm before
		t.Errorf("nodes: %s%s", out, stderr)
	}
}
