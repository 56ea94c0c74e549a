package system

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"

	"vexillum/internal/wire"
)

// TestPassesOfAFrameGoTogether renders a scene whose files say which rendering
// they are of, on nodes that deliver by themselves and through the service,
// while node processes are killed. No frame may have files of two renderings.
func TestPassesOfAFrameGoTogether(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene(
		"salt.practice",
		"practice: 1\npicture: salt\ncost: 150ms\nstamp: true\n"+
			"trouble: [{frame: 7, does: no pass, on: [kiln-01, kiln-02]}]\n",
	)
	nodes := []*program{
		f.join("kiln-01", "--renderers", "practice"), f.join("kiln-02", "--renderers", "practice", "--upload"),
		f.join("kiln-03", "--renderers", "practice"),
	}
	if out, stderr, code := f.vexillum(
		"submit", "salt.practice", "--project", "salt-clock", "--frames", "1-40", "--passes", "depth,lights",
	); code != 1 ||
		!strings.Contains(stderr, `no pass "lights"; it has depth, matte, normal`) {
		t.Errorf("a pass that there is not: %s%s", out, stderr)
	}
	id := f.submit(
		wire.Submit{
			Job: "salt", Scene: "salt.practice", Frames: "1-40", Width: 320, Height: 180,
			Passes: []string{"matte", "depth"},
		},
	)
	for i, n := range nodes {
		f.done(id, 5+8*i)
		n.end(syscall.SIGKILL)
		nodes[i] = f.join(n.name)
	}
	run := f.ended(id)
	if run.State != "done" || !slices.Equal(run.Passes, []string{"depth", "matte"}) {
		t.Fatalf("%s: %s, passes %q", run.State, run.Why, run.Passes)
	}
	f.wantOnce(id, 40)
	stamp := regexp.MustCompile(`Comment\x00(\d+ on [^,]+, [0-9a-f]{16})`)
	var want []string
	for frame := 1; frame <= 40; frame++ {
		said := ""
		for _, pass := range []string{"", "depth", "matte"} {
			name := filepath.Join(pass, fmt.Sprintf("%s.%04d.png", strings.Trim("salt."+pass, "."), frame))
			want = append(want, name)
			data, err := os.ReadFile(filepath.Join(f.dir, "frames", run.Output, name))
			if err != nil {
				t.Error(err)
				continue
			}
			m := stamp.FindSubmatch(data)
			if m == nil || said != "" && said != string(m[1]) {
				t.Errorf("frame %d: pass %q is of %q, another of %q", frame, pass, m, said)
				continue
			}
			said = string(m[1])
		}
	}
	slices.Sort(want)
	f.wantFiles(run, want)
	if n := f.count(
		`SELECT count(*) FROM attempt WHERE frame = 7 AND message LIKE '%without its pass matte%'`,
	); n == 0 &&
		f.count(`SELECT count(*) FROM frame WHERE frame = 7 AND node <> 3`) > 0 {
		t.Error("a frame without its pass was taken")
	}

	// The artist gets all files of each frame.
	here := filepath.Join(f.dir, "desk")
	if out, stderr, code := f.vexillum("fetch", "salt", "--to", here); code != 0 {
		t.Fatalf("fetch: %s%s", out, stderr)
	}
	for _, name := range want {
		a, err1 := os.ReadFile(filepath.Join(here, name))
		b, err2 := os.ReadFile(filepath.Join(f.dir, "frames", run.Output, name))
		if err1 != nil || err2 != nil || !bytes.Equal(a, b) {
			t.Errorf("%s is not the same here and there: %v %v", name, err1, err2)
		}
	}
}
