package system

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"vexillum/internal/wire"
)

// renderers returns the practice renderers of a node, which its launcher owns.
func (f *farm) renderers(node string) (pids []int) {
	f.t.Helper()
	entries, err := filepath.Glob("/proc/[0-9]*/cmdline")
	if err != nil {
		f.t.Fatal(err)
	}
	staging := filepath.Join(f.dir, node, "staging")
	for _, path := range entries {
		data, err := os.ReadFile(path)
		if err != nil || !bytes.Contains(data, []byte("practice")) || !bytes.Contains(data, []byte(staging)) {
			continue
		}
		var pid int
		if _, err := fmt.Sscanf(path, "/proc/%d/cmdline", &pid); err == nil && alive(pid) {
			pids = append(pids, pid)
		}
	}
	slices.Sort(pids)
	return pids
}

// TestARendererOutlivesItsNodeProcess ends the node process in the middle of
// an expensive frame. The renderer runs on, the next process takes it up, and
// its frame is delivered.
func TestARendererOutlivesItsNodeProcess(t *testing.T) {
	for name, end := range map[string]syscall.Signal{"killed": syscall.SIGKILL, "restarted": syscall.SIGHUP} {
		for _, mode := range []string{"practice", "practice-single", "practice-feed"} {
			t.Run(name+" "+mode, func(t *testing.T) {
				t.Parallel() // most of it is waiting
				f := newFarm(t)
				f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 1200ms\n")
				first := f.join("kiln-01", "--renderers", mode)
				id := f.submit(wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-5", Recipe: mode})
				f.done(id, 1)
				before := f.renderers("kiln-01")
				f.wait("a renderer is at work", func() bool {
					seen := before // a single launch that was seen before may be about to end
					before = f.renderers("kiln-01")
					return len(before) > 0 && (mode != "practice-single" || !slices.Equal(seen, before))
				})
				first.end(end)
				if after := f.renderers("kiln-01"); !slices.Equal(after, before) {
					t.Errorf("renderers %v became %v with the node process", before, after)
				}
				time.Sleep(300 * time.Millisecond)
				f.join("kiln-01", "--renderers", mode)
				f.wantDone(id, 1, 5, "salt")
				if n := f.count(`SELECT count(*) FROM attempt`); n != 0 {
					t.Errorf("%d tries failed", n)
				}
				// The same launch went on: no frame was begun twice.
				if launches := f.count(
					`SELECT count(DISTINCT (lease, launch)) FROM frame`,
				); mode != "practice-single" &&
					launches != f.count(`SELECT count(*) FROM lease`) {
					t.Errorf("%d launches for %d leases", launches, f.count(`SELECT count(*) FROM lease`))
				}
				f.wait("the staging area is empty", func() bool {
					entries, err := os.ReadDir(filepath.Join(f.dir, "kiln-01", "staging"))
					return err == nil && len(entries) == 0
				})
			})
		}
	}
}

// TestAnAdoptedRendererIsStopped cancels a run while its node process is away.
func TestAnAdoptedRendererIsStopped(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 1m\n")
	first := f.join("kiln-01", "--renderers", "practice")
	id := f.submit(wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-5"})
	f.wait("a frame is in flight", func() bool { return f.run(id).Sets.Rendering != "" })
	pids := f.renderers("kiln-01")
	first.end(syscall.SIGKILL)
	f.post(fmt.Sprintf("/api/v1/runs/%d/cancel", id))
	time.Sleep(300 * time.Millisecond)
	if got := f.renderers("kiln-01"); len(pids) == 0 || !slices.Equal(got, pids) {
		t.Fatalf("renderers %v became %v", pids, got)
	}
	f.join("kiln-01", "--renderers", "practice")
	f.wait("the renderer is gone", func() bool { return len(f.renderers("kiln-01")) == 0 })

	// And one that was taken up first is stopped while it runs.
	id = f.submit(wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-5"})
	f.wait("a frame is in flight", func() bool { return f.run(id).Sets.Rendering != "" })
	if len(f.renderers("kiln-01")) == 0 {
		t.Fatal("nothing renders")
	}
	f.post(fmt.Sprintf("/api/v1/runs/%d/cancel", id))
	f.wait("the renderer is gone", func() bool { return len(f.renderers("kiln-01")) == 0 })
}

// TestAKilledLauncherCostsAFrameAtMost kills the launcher, and all renderers
// with it.
func TestAKilledLauncherCostsAFrameAtMost(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 300ms\n")
	f.join("kiln-01", "--renderers", "practice")
	id := f.submit(wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-12"})
	f.done(id, 3)
	launcher := f.launcherOf("kiln-01")
	if err := syscall.Kill(launcher, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	run := f.ended(id)
	if run.State != "done" {
		t.Fatalf("the run is %s: %s", run.State, run.Why)
	}
	f.wantFiles(run, frameNames("salt", 1, 12))
	f.wantOnce(id, 12)
	if n := f.count(`SELECT count(*) FROM attempt`); n > 1 {
		t.Errorf("%d tries failed", n)
	}
	if n := f.count(`SELECT count(*) FROM attempt WHERE counts`); n != 0 {
		t.Error("the loss counts against a frame")
	}
}

func (f *farm) launcherOf(node string) int {
	f.t.Helper()
	entries, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, path := range entries {
		data, err := os.ReadFile(path)
		if err == nil && strings.HasSuffix(string(data), "\x00launcher\x00"+filepath.Join(f.dir, node)+"\x00") {
			var pid int
			_, _ = fmt.Sscanf(path, "/proc/%d/cmdline", &pid)
			return pid
		}
	}
	f.t.Fatalf("%s has no launcher", node)
	return 0
}

// TestStagingOfAnotherFarmIsSetAside gives a node a folder that holds work of
// a farm which this one is not.
func TestStagingOfAnotherFarmIsSetAside(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 1m\n")
	first := f.join("kiln-01", "--renderers", "practice")
	id := f.submit(wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-5"})
	f.wait("a frame is in flight", func() bool { return f.run(id).Sets.Rendering != "" })
	first.end(syscall.SIGKILL)
	path := filepath.Join(f.dir, "kiln-01", "staging", "lease-1", "lease.json")
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	other := strings.Replace(string(data), `"life":"`, `"life":"x`, 1)
	if err := os.WriteFile(path, []byte(other), 0o600); err != nil {
		t.Fatal(err)
	}
	pids := f.renderers("kiln-01")
	second := f.join("kiln-01", "--renderers", "practice")
	f.wait("its renderer is gone", func() bool { return len(pids) > 0 && !alive(pids[0]) })
	f.wait("its folder is set aside", func() bool {
		kept, err := filepath.Glob(
			filepath.Join(f.dir, "kiln-01", "set-aside", "of-another-farm", "lease-1-*", "lease.json"),
		)
		return err == nil && len(kept) == 1
	})
	if n := f.count(`SELECT count(*) FROM audit WHERE action = 'refuse foreign work' AND actor = 'kiln-01'`); n != 1 {
		t.Errorf("%d refusals are on record", n)
	}
	f.wait("the frames are dealt anew", func() bool { return f.run(id).Sets.Rendering != "" })
	if !strings.Contains(second.out.String(), "set aside") {
		t.Error("nobody was told")
	}
}

// TestFramesFinishedWhileNobodyWatchedCount kills a node process and lets its
// renderer come to its end alone.
func TestFramesFinishedWhileNobodyWatchedCount(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 400ms\n")
	first := f.join("kiln-01", "--renderers", "practice")
	id := f.submit(wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-8"})
	f.done(id, 2)
	first.end(syscall.SIGKILL)
	f.wait("the renderer has ended by itself", func() bool { return len(f.renderers("kiln-01")) == 0 })
	f.join("kiln-01", "--renderers", "practice")
	f.wantDone(id, 1, 8, "salt")
	if n := f.count(`SELECT count(DISTINCT (lease, launch)) FROM frame`); n != 1 {
		t.Errorf("the frames came of %d launches, not of the one", n)
	}
	// Nobody measured them, and yet it is known how long they took.
	if n := f.count(`SELECT count(*) FROM frame WHERE render_seconds > 0.08 AND render_seconds < 2`); n != 8 {
		t.Errorf("%d of 8 frames have a time that can be", n)
	}
}
