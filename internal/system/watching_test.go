package system

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"vexillum/internal/wire"
)

// TestWhatANodeMeasuresAndSays renders, and looks that usage is drawn and that
// what is said can be read while it is said, and found afterwards, also after
// the node process was killed and the service has restarted.
func TestWhatANodeMeasuresAndSays(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 700ms\ntrouble: [{frame: 3, does: error}]\n")
	node := f.join("kiln-01", "--renderers", "practice", "--speed", "1", "--device", "Practice=2GiB")
	id := f.submit(wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-400"})
	n := f.node("kiln-01").ID

	// Followed, lines come within a second or two of being said.
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	var mu sync.Mutex
	var heard []wire.LogLine
	late := time.Duration(0)
	go func() {
		_ = f.admin.Said(ctx, n, "", func(lines []wire.LogLine) error {
			mu.Lock()
			defer mu.Unlock()
			heard = append(heard, lines...)
			late = time.Since(lines[len(lines)-1].At)
			return nil
		}, nil)
	}()
	f.wait("lines are heard", func() bool {
		mu.Lock()
		defer mu.Unlock()
		return len(heard) > 20 && late < 3*time.Second
	})
	stop()
	mu.Lock()
	leases := map[int64]bool{}
	for _, l := range heard {
		leases[l.Lease] = true
	}
	mu.Unlock()
	if len(leases) < 1 || leases[0] && len(leases) == 1 {
		t.Errorf("only %v were heard", leases)
	}

	f.done(id, 12)
	node.end(syscall.SIGKILL) // what the renderer says meanwhile is heard by the next
	time.Sleep(2 * time.Second)
	f.join("kiln-01", "--renderers", "practice", "--speed", "1", "--device", "Practice=2GiB")
	f.done(id, 24)
	f.service.end(syscall.SIGTERM)
	f.serve()
	f.done(id, 30)

	output := func(args ...string) string {
		t.Helper()
		out, stderr, code := f.vexillum(append([]string{"log"}, args...)...)
		if code != 0 {
			t.Fatalf("output %v: %s%s", args, out, stderr)
		}
		return out
	}
	f.wait("the log is there", func() bool { return strings.Contains(output("salt", "-n", "2000"), "vx begin 30") })
	all := output("salt", "-n", "5000")
	for frame := 1; frame <= 30; frame++ {
		if got := strings.Count(all, fmt.Sprintf("vx begin %d\n", frame)); got != 1 {
			t.Errorf("frame %d began %d times in the log", frame, got)
		}
	}
	if out := output(
		"kiln-01", "--search", "FRAME 3 CANNOT",
	); strings.Count(out, "error: frame 3 cannot be rendered") != 1 ||
		!strings.Contains(out, " ! ") {
		t.Errorf("searched: %s", out)
	}
	if out := output("salt", "--frame", "3"); !strings.Contains(out, "frame 3 cannot be rendered") {
		t.Errorf("of frame 3: %s", out)
	}
	if out := output("salt", "--frame", "7", "-n", "6"); !strings.Contains(out, "vx begin 7\n") ||
		strings.Contains(out, "vx begin 12") {
		t.Errorf("of frame 7: %s", out)
	}
	if out := output("kiln-01", "--itself"); !strings.Contains(out, "session open") ||
		strings.Contains(out, "vx begin") {
		t.Errorf("of the node itself: %s", out)
	}
	if out := output("kiln-01", "--search", "nobody says this"); !strings.Contains(out, "Nothing on record matches") {
		t.Error(out)
	}
	if _, stderr, code := f.vexillum("log", "salt", "--frame", "399"); code != 1 ||
		!strings.Contains(stderr, "frame 399 of this run has not been rendered yet") {
		t.Errorf("a frame that nobody rendered: %d %s", code, stderr)
	}
	if n := f.count(
		`SELECT count(*) FROM (SELECT node, lease, seq FROM log_piece GROUP BY 1, 2, 3 HAVING count(*) > 1) t`,
	); n != 0 {
		t.Errorf("%d pieces are kept twice", n)
	}

	var u wire.Usage
	f.wait("samples are there", func() bool {
		err := f.admin.Do(t.Context(), http.MethodGet, fmt.Sprintf("/api/v1/nodes/%d/usage?over=1h", n), nil, &u)
		return err == nil && len(u.At) >= 4
	})
	for name, column := range map[string][]*float64{"processor": u.Processor, "memory": u.Memory, "disk free": u.DiskFree, "load": u.Load, "a device": u.Devices[0].Busy, "a group": u.Groups[0]} {
		known := 0
		for _, v := range column {
			if v != nil {
				known++
			}
		}
		if len(column) != len(u.At) || known < 3 {
			t.Errorf("%s: %d of %d values are known, at %d times", name, known, len(column), len(u.At))
		}
	}
	out, stderr, code := f.vexillum("nodes", "usage", "kiln-01")
	if code != 0 || !strings.Contains(out, "processor") || !strings.Contains(out, "told-0") {
		t.Errorf("usage: %s%s", out, stderr)
	}
	if _, stderr, code := f.vexillum("nodes", "usage", "kiln-01", "--over", "7d"); code != 1 ||
		!strings.Contains(stderr, "1h, 24h and 90d") {
		t.Errorf("over a while that is not kept: %d %s", code, stderr)
	}
}

// TestACalmPageMissesNothing goes from a page that follows only the farm as a whole to one that shows runs:
// what came and changed meanwhile is there.
func TestACalmPageMissesNothing(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 50ms\n")
	f.join("kiln-01", "--renderers", "practice")
	before := f.submit(wire.Submit{Job: "before", Scene: "salt.practice", Frames: "1-6", Held: true})
	c := f.open()
	c.signInAs("admin", password)
	c.sees("before")
	c.keys("g", "e")
	c.wait("the page of keys is shown", func() bool { return c.address() == "/keys" })
	c.settled()
	meanwhile := f.submit(wire.Submit{Job: "meanwhile", Scene: "salt.practice", Frames: "1-4"})
	f.ended(meanwhile)
	if err := f.admin.Do(t.Context(), "POST", fmt.Sprintf("/api/v1/runs/%d/cancel", before), nil, nil); err != nil {
		t.Fatal(err)
	}
	c.keys("g", "q")
	c.sees("meanwhile")
	c.wait("both are as they are", func() bool {
		text := value[string](c, `document.querySelector("main").innerText`)
		return strings.Contains(text, "cancelled") && strings.Contains(text, "done")
	})
}
