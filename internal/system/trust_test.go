package system

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"

	"vexillum/internal/client"
	"vexillum/internal/testkit/pgtest"
	"vexillum/internal/wire"
)

// TestLostFramesAreToldAndDoneAgain takes frames away that were done, fetches the
// run, and has what is lost rendered again.
func TestLostFramesAreToldAndDoneAgain(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 20ms\n")
	f.join("kiln-01", "--renderers", "practice")
	f.join("kiln-02", "--renderers", "practice", "--upload")
	for _, passes := range [][]string{nil, {"depth"}} {
		run := f.ended(f.submit(wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-6", Passes: passes}))
		at := func(name string) string { return filepath.Join(f.dir, "frames", run.Output, name) }
		if err := os.Remove(at("salt.0002.png")); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(at("salt.0004.png"), []byte("somebody has changed it"), 0o644); err != nil {
			t.Fatal(err)
		}
		to := filepath.Join(t.TempDir(), "here")
		out, stderr, code := f.vexillum("fetch", run.Name, "--to", to)
		if code != 1 || !strings.Contains(out, "copied       4 frames") && !strings.Contains(out, "4 frames") ||
			!strings.Contains(
				stderr,
				"2 frames cannot be fetched: 2,4. Render what is lost again with: vexillum redo "+run.Name+" --frames 2,4",
			) {
			t.Errorf("fetch: exit code %d\n%s%s", code, out, stderr)
		}
		if _, stderr, code := f.vexillum("redo", run.Name, "--frames", "4-9"); code != 1 ||
			!strings.Contains(stderr, "has no frames 7-9") {
			t.Errorf("redo of frames that there are not: %d %s", code, stderr)
		}
		f.must("redo", run.Name, "--frames", "2,4")
		f.wait("they are done again", func() bool { r := f.run(run.ID); return r.State == "done" && r.DoneCount == 6 })
		for _, frame := range []int{2, 4} {
			if _, err := os.Stat(at(fmt.Sprintf("salt.%04d.png", frame))); err != nil {
				t.Errorf("frame %d was not put back: %v", frame, err)
			}
		}
		kept, err := filepath.Glob(at("replaced/salt.0004.*.png"))
		if err != nil || len(kept) != 1 {
			t.Fatalf("what stood in the place of frame 4 is kept as %v", kept)
		}
		if text, _ := os.ReadFile(kept[0]); string(text) != "somebody has changed it" {
			t.Errorf("kept is %q", text)
		}
		if out, stderr, code := f.vexillum("fetch", run.Name, "--to", to); code != 0 ||
			!strings.Contains(out, "2 frames") {
			t.Errorf("fetch again: %d\n%s%s", code, out, stderr)
		}
	}
}

// TestAMachineThatWasShutOutComesBack revokes a node that holds a frame, and lets
// it come back under its name with a key made for that.
func TestAMachineThatWasShutOutComesBack(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 20ms\n")
	p := f.join("kiln-01", "--renderers", "practice")
	was := f.node("kiln-01").ID
	f.must("nodes", "revoke", "kiln-01")
	<-p.gone
	again := func(key string) (string, int) {
		args := []string{
			"join", "http://" + f.listen, "--name", "kiln-01", "--data", filepath.Join(f.dir, "kiln-01"), "--renderers",
			"practice", "--speed", "1",
		}
		if key != "" {
			args = append(args, "--key", key)
		}
		_, stderr, code := f.vexillum(args...)
		return stderr, code
	}
	if stderr, code := again(""); code == 0 || !strings.Contains(stderr, "vexillum key new --return kiln-01") {
		t.Errorf("without a key: %d %s", code, stderr)
	}
	if stderr, code := again(f.key()); code == 0 || !strings.Contains(stderr, "vexillum key new --return kiln-01") {
		t.Errorf("with any key: %d %s", code, stderr)
	}
	var key wire.Key
	if err := f.admin.Do(
		t.Context(), http.MethodPost, "/api/v1/keys", wire.NewKey{Returns: []string{"kiln-01"}}, &key,
	); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(f.dir, "key")
	if err := os.WriteFile(file, []byte(key.Key+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	f.join("kiln-01", "--renderers", "practice", "--key-file", file)
	if n := f.node("kiln-01"); n.ID != was {
		t.Errorf("it is node %d, and was %d", n.ID, was)
	}
	f.wantDone(f.submit(wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-3"}), 1, 3, "salt")
}

// TestATokenGoesNowhereElse calls another service than the one that was signed in
// to.
func TestATokenGoesNowhereElse(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	var told atomic.Bool
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "" || r.Header.Get("Cookie") != "" {
			told.Store(true)
		}
		http.NotFound(w, r)
	}))
	defer other.Close()
	_, stderr, code := f.vexillum("queue", "--service", other.URL)
	if code != 4 || !strings.Contains(stderr, "its token goes nowhere else") || told.Load() {
		t.Errorf("exit code %d, token sent %v: %s", code, told.Load(), stderr)
	}
	f.must("queue", "--service", "http://"+f.listen+"/")
	f.must("queue", "--service", f.listen)
}

// TestTheSameKeyForAnotherSubmit sends an idempotency key twice: with the same
// body it gets the same run, also when the scene is gone, and with another it is
// refused.
func TestTheSameKeyForAnotherSubmit(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("salt.practice", steady)
	submit := func(frames string) (wire.Receipt, error) {
		var r wire.Receipt
		return r, f.admin.Do(
			client.Repeatable(t.Context(), "the same"), http.MethodPost, "/api/v1/runs",
			wire.Submit{Job: "salt", Project: "salt-clock", Scene: "salt.practice", Frames: frames}, &r,
		)
	}
	first, err := submit("1-3")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(filepath.Join(f.dir, "scenes", "salt.practice")); err != nil {
		t.Fatal(err)
	}
	if again, err := submit("1-3"); err != nil || again.Run != first.Run {
		t.Errorf("the same again: run %d, %v", again.Run, err)
	}
	if _, err := submit("1-4"); err == nil || !strings.Contains(err.Error(), "something else was asked for then") {
		t.Errorf("another body: %v", err)
	}
}

// TestADatabaseWithoutItsPassword loses the file with the password of the own
// database: nothing is made again, and the farm is there when the file is back.
func TestADatabaseWithoutItsPassword(t *testing.T) {
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
	args := []string{
		"serve", "--listen", f.listen, "--data", filepath.Join(dir, "farm"), "--admin-password-file", word,
		"--no-durability",
	}
	p := start(t, "farm", args...)
	f.wait("the service is ready", func() bool { return health(t, f.listen).Part == "active" })
	f.signIn()
	backup := filepath.Join(dir, "farm.dump")
	f.must("backup", backup, "--data", filepath.Join(dir, "farm"))
	p.end(syscall.SIGTERM)
	secret := filepath.Join(dir, "farm", "database", "password")
	if err := os.Rename(secret, secret+".lost"); err != nil {
		t.Fatal(err)
	}
	_, stderr, code := f.vexillum(args...)
	if code != 1 || !strings.Contains(stderr, "its password is missing") ||
		!strings.Contains(stderr, "vexillum restore") {
		t.Errorf("without the password: %d %s", code, stderr)
	}
	if _, err := os.Stat(filepath.Join(dir, "farm", "database", "data", "PG_VERSION")); err != nil {
		t.Fatalf("the database is gone: %v", err)
	}
	if err := os.Rename(secret+".lost", secret); err != nil {
		t.Fatal(err)
	}
	start(t, "farm", args...)
	f.wait("the service is ready", func() bool { return health(t, f.listen).Part == "active" })
	f.must("nodes") // by the token of before

	// A restore that fails leaves nothing that could be taken for a farm.
	if err := os.WriteFile(backup+".cut", []byte("PGDMP and no more"), 0o644); err != nil {
		t.Fatal(err)
	}
	fresh := filepath.Join(dir, "fresh")
	if _, stderr, code := f.vexillum("restore", backup+".cut", "--data", fresh); code != 1 {
		t.Errorf("a restore of a file that was cut off: %d %s", code, stderr)
	}
	if entries, _ := os.ReadDir(fresh); len(entries) > 0 {
		t.Errorf("it left %s", entries[0].Name())
	}
	f.must("restore", backup, "--data", fresh)
	if _, stderr, code := f.vexillum("restore", backup, "--data", fresh); code != 1 ||
		!strings.Contains(stderr, "left as it is") {
		t.Errorf("a restore over a farm: %d %s", code, stderr)
	}
}
