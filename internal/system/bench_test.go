package system

import (
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"vexillum/internal/client"
	"vexillum/internal/demo"
	"vexillum/internal/wire"
)

// BenchmarkNodeAddsToAFrame renders the same frames by the same renderer in a
// shell loop and through the farm, and reports what the farm adds to a frame.
// Goal: at most 3 % of frames of 1 s, and at most 30 ms.
func BenchmarkNodeAddsToAFrame(b *testing.B) {
	for _, c := range []struct {
		name, recipe string
		cost         time.Duration
		frames       int
	}{
		{"single launches of 1 s", "practice-single", time.Second, 10},
		{"single launches of 0.2 s", "practice-single", 200 * time.Millisecond, 30},
		{"one launch, frames of 1 s", "practice", time.Second, 10},
		{"one launch, frames of 0.2 s", "practice", 200 * time.Millisecond, 30},
		{"fed frames of 0.2 s", "practice-feed", 200 * time.Millisecond, 30},
		{"POV-Ray in one launch", "povray", 0, 20},
	} {
		b.Run(c.name, func(b *testing.B) {
			f := newFarm(b)
			scene := "a.practice"
			text := fmt.Sprintf("practice: 1\npicture: salt\ncost: %v\n", c.cost)
			if c.recipe == "povray" {
				scene = "a.pov"
				data, err := os.ReadFile("../../examples/pellmarsh/scenes/tidal-room/tidal_floor.pov")
				if err != nil {
					b.Fatal(err)
				}
				text = string(data)
			}
			f.scene(scene, text)
			f.join("kiln-01", "--renderers", c.recipe, "--threads", "1", "--speed", "1")
			for b.Loop() {
				alone := f.alone(c.recipe, scene, c.frames)
				run := f.ended(
					f.submit(
						wire.Submit{
							Job: "a", Scene: scene, Recipe: c.recipe, Frames: fmt.Sprintf("1-%d", c.frames),
							Width: 480, Height: 270,
						},
					),
				)
				if run.State != "done" {
					b.Fatalf("the run is %s: %s", run.State, run.Why)
				}
				farm := run.EndedAt.Sub(*run.StartedAt)
				added := (farm - alone) / time.Duration(c.frames)
				b.ReportMetric(float64(added.Microseconds())/1000, "ms-added/frame")
				b.ReportMetric(100*float64(farm-alone)/float64(alone), "%-added")
				b.ReportMetric(0, "ns/op")
			}
		})
	}
}

// alone renders the frames as a shell would, without the farm, and returns
// how long it took.
func (f *farm) alone(recipe, scene string, frames int) time.Duration {
	f.t.Helper()
	dir := f.t.TempDir()
	practice := fmt.Sprintf(
		"%s practice --scene=%s --staging=%s --width=480 --height=270 --speed=1 --node=kiln-01", binary,
		filepath.Join(f.dir, "scenes", scene), dir,
	)
	script := map[string]string{
		"practice":        fmt.Sprintf("%s --first=1 --last=%d", practice, frames),
		"practice-single": fmt.Sprintf("for f in $(seq %d); do %s --first=$f --last=$f; done", frames, practice),
		"practice-feed":   fmt.Sprintf("(for f in $(seq %d); do echo frame $f; done; echo end) | %s --feed", frames, practice),
		"povray": fmt.Sprintf("cd %s && HOME=%s povray +I%s +Oframe +FN +W480 +H270 +Q9 +A0.3 +AM2 +R1 +WT1 +KFI1 "+
			"+KFF%d +SF1 +EF%d -D -P",
			dir, filepath.Join(f.dir, "scenes"), filepath.Join(f.dir, "scenes", scene), frames, frames),
	}[recipe]
	began := time.Now()
	if out, err := exec.Command("nice", "sh", "-c", script).CombinedOutput(); err != nil {
		f.t.Fatalf("%v: %s", err, out)
	}
	return time.Since(began)
}

// BenchmarkDemoToFirstFrame measures from the start of the demo to its first
// real frame. Goal: below 15 s.
func BenchmarkDemoToFirstFrame(b *testing.B) {
	for b.Loop() {
		dir, err := os.MkdirTemp("", "vexillum-demo-")
		if err != nil {
			b.Fatal(err)
		}
		defer os.RemoveAll(dir)
		if err := os.Chmod(dir, 0o755); err != nil {
			b.Fatal(err)
		}
		listen := freeAddress(b)
		began := time.Now()
		p := start(b, "demo", "demo", "--dir", filepath.Join(dir, "demo"), "--listen", listen)
		c, err := client.New("http://"+listen, "")
		if err != nil {
			b.Fatal(err)
		}
		for {
			if time.Since(began) > time.Minute {
				b.Fatalf("no frame after a minute: %s", p.out)
			}
			time.Sleep(50 * time.Millisecond)
			if signed, _, err := c.SignIn(b.Context(), demo.Name, demo.Password, "test"); err == nil {
				c = signed
				break
			}
		}
		for found := false; !found; time.Sleep(50 * time.Millisecond) {
			if time.Since(began) > time.Minute {
				b.Fatalf("no frame after a minute: %s", p.out)
			}
			var runs []wire.Run
			if err := c.Do(b.Context(), http.MethodGet, "/api/v1/runs", nil, &runs); err != nil {
				b.Fatal(err)
			}
			for _, r := range runs {
				found = found || strings.HasSuffix(r.Scene, ".pov") && r.DoneCount > 0
			}
		}
		b.ReportMetric(time.Since(began).Seconds(), "s-to-first-real-frame")
		b.ReportMetric(0, "ns/op")
		p.end(syscall.SIGINT)
	}
}
