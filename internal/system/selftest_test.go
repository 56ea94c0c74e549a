package system

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"vexillum/internal/wire"
)

// TestNodesProveThatTheyWork lets nodes test themselves: one that is sound,
// one whose POV-Ray draws something else, one that sees none of the farm's
// places, and one that is held.
func TestNodesProveThatTheyWork(t *testing.T) {
	f := newFarm(t)
	f.signIn()
	f.join("kiln-01", "--renderers", "practice,povray", "--speed", "1")
	wrong := filepath.Join(f.dir, "wrong")
	if err := os.Mkdir(wrong, 0o755); err != nil {
		t.Fatal(err)
	}
	f.paintPicture(filepath.Join(wrong, "wrong.png"), 320, 180)
	script := "#!/bin/sh\n[ \"$1\" = --version ] && { echo POV-Ray 3.7.0; exit 1; }\n" +
		"echo 'Output file......frame1.png'\ncp " + wrong + "/wrong.png frame1.png\n"
	if err := os.WriteFile(filepath.Join(wrong, "povray"), []byte(script), 0o755); err != nil {
		t.Fatal(err)
	}
	t.Setenv("PATH", wrong+":"+os.Getenv("PATH"))
	f.join("kiln-02", "--renderers", "practice,povray", "--speed", "2", "--upload")
	f.join("kiln-03", "--renderers", "none")
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 400ms\n")
	long := f.submit(
		wire.Submit{
			Job: "salt", Recipe: "practice-single", Scene: "salt.practice", Frames: "1-2000",
			Needs: "name==kiln-01",
		},
	)

	out, stderr, code := f.vexillum("nodes", "test", "kiln-01", "kiln-02", "kiln-03")
	if code != 1 {
		t.Errorf("with a wrong picture: %d: %s%s", code, out, stderr)
	}
	for _, want := range []string{"kiln-01  practice  ● passed", "the same, pixel for pixel", "kiln-01  povray    ● passed", "kiln-02  practice  ● passed", "kiln-02  povray    ✕ failed", "not the known one: it differs by", "nothing can be tested"} {
		if !strings.Contains(out, want) {
			t.Errorf("it does not say %q:\n%s", want, out)
		}
	}
	if done := f.run(long).DoneCount; done > 100 {
		t.Errorf("the test came after %d frames of other work", done)
	}
	if n := f.count(
		`SELECT count(*) FROM lease l JOIN run r ON r.id = l.run JOIN node n ON n.id = l.node WHERE r.job LIKE 'self-test-%' AND r.job NOT LIKE 'self-test-' || n.name || '-%'`,
	); n != 0 {
		t.Errorf("%d tests were rendered by other nodes", n)
	}
	if _, stderr, code := f.vexillum("cancel", "salt"); code != 0 {
		t.Fatal(stderr)
	}
	if _, stderr, code := f.vexillum(
		"project", "set", "self-test", "--scenes", "scenes", "--frames", "frames",
	); code != 1 ||
		!strings.Contains(stderr, "the farm's own") {
		t.Errorf("the farm's own project was changed: %d %s", code, stderr)
	}

	// A node that is held says so, and is tested once it is released.
	if _, stderr, code := f.vexillum("nodes", "hold", "kiln-01"); code != 0 {
		t.Fatal(stderr)
	}
	out, stderr, code = f.vexillum("nodes", "test", "kiln-01", "--wait", "2s")
	if code != 1 || !strings.Contains(out, "waiting") {
		t.Errorf("held: %d: %s%s", code, out, stderr)
	}
	if _, stderr, code := f.vexillum("nodes", "release", "kiln-01"); code != 0 {
		t.Fatal(stderr)
	}
	if out, stderr, code := f.vexillum("nodes", "test", "kiln-01"); code != 0 {
		t.Errorf("released: %d: %s%s", code, out, stderr)
	}
	if n := f.count(`SELECT count(*) FROM run WHERE job = 'self-test-kiln-01-practice'`); n != 2 {
		t.Errorf("%d runs for two tests, one of which was asked for twice", n)
	}
}
