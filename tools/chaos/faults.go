package main

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"vexillum/internal/localpg"
	"vexillum/internal/testkit/badline"
)

// fault is one way to break the farm. do breaks it, and sees to it that it is
// mended by itself after a while, or leaves that to the end of the round. It
// reports whether there was anything to break.
type fault struct {
	name string
	do   func(f *farm, r *rand.Rand) bool
}

// later does something after a while, in the background.
func (f *farm) later(r *rand.Rand, most time.Duration, do func()) {
	after := time.Duration(r.Int64N(int64(most)))
	f.pending.Go(func() {
		time.Sleep(after)
		do()
	})
}

var faults = []fault{
	{"service killed", func(f *farm, r *rand.Rand) bool {
		p := f.services[r.IntN(len(f.services))]
		return f.killed(p, r, 3*time.Second)
	}},
	{"service stopped for a while", func(f *farm, r *rand.Rand) bool {
		p := f.services[r.IntN(len(f.services))]
		f.later(r, 9*time.Second, func() { p.signal(syscall.SIGCONT) })
		return p.signal(syscall.SIGSTOP)
	}},
	{"node killed", func(f *farm, r *rand.Rand) bool {
		return f.killed(f.nodes[r.IntN(nodes)], r, 3*time.Second)
	}},
	{"node killed", func(f *farm, r *rand.Rand) bool {
		return f.killed(f.nodes[r.IntN(nodes)], r, 3*time.Second)
	}},
	{"node stopped for a while", func(f *farm, r *rand.Rand) bool {
		p := f.nodes[r.IntN(nodes)]
		f.later(r, 6*time.Second, func() { p.signal(syscall.SIGCONT) })
		return p.signal(syscall.SIGSTOP)
	}},
	{"launcher killed, and its renderers", func(f *farm, r *rand.Rand) bool {
		pid := f.find([]byte("\x00launcher\x00" + filepath.Join(f.dir, nodeName(r.IntN(nodes))) + "\x00"))
		return pid != 0 && syscall.Kill(pid, syscall.SIGKILL) == nil
	}},
	{"contents of a node spoilt", func(f *farm, r *rand.Rand) bool { return f.spoilContents(r) }},
	{"renderer killed", func(f *farm, r *rand.Rand) bool {
		pid := f.find([]byte("--node=" + nodeName(r.IntN(nodes)) + "\x00"))
		return pid != 0 && syscall.Kill(pid, syscall.SIGKILL) == nil
	}},
	{"renderer stopped for a while", func(f *farm, r *rand.Rand) bool {
		pid := f.find([]byte("--node=" + nodeName(r.IntN(nodes)) + "\x00"))
		if pid == 0 {
			return false
		}
		f.later(r, 3*time.Second, func() { _ = syscall.Kill(pid, syscall.SIGCONT) })
		return syscall.Kill(pid, syscall.SIGSTOP) == nil
	}},
	{"database killed", func(f *farm, _ *rand.Rand) bool {
		if f.dbDown {
			return false
		}
		pid := f.find([]byte(filepath.Join(f.dir, "database", "data") + "\x00"))
		if pid == 0 || syscall.Kill(pid, syscall.SIGKILL) != nil {
			return false
		}
		f.dbDown = true
		return true
	}},
	{"database stopped", func(f *farm, _ *rand.Rand) bool {
		if f.dbDown {
			return false
		}
		f.dbDown = true
		return f.database.Stop() == nil
	}},
	{
		"database started",
		func(f *farm, _ *rand.Rand) bool { return f.dbDown && f.startDatabase(context.Background()) == nil },
	},
	{"service's line to the database cut", func(f *farm, r *rand.Rand) bool {
		return f.bad(f.dbLines[r.IntN(len(f.dbLines))], r, (*badline.Line).Cut)
	}},
	{"service's line to the database half open", func(f *farm, r *rand.Rand) bool {
		return f.bad(f.dbLines[r.IntN(len(f.dbLines))], r, (*badline.Line).HalfOpen)
	}},
	{"service's line to the database slow", func(f *farm, r *rand.Rand) bool {
		return f.bad(f.dbLines[r.IntN(len(f.dbLines))], r, func(l *badline.Line) { l.Slow(30 * time.Millisecond) })
	}},
	{"node's line cut", func(f *farm, r *rand.Rand) bool {
		return f.bad(f.nodeLines[r.IntN(len(f.nodeLines))], r, (*badline.Line).Cut)
	}},
	{"node's line half open", func(f *farm, r *rand.Rand) bool {
		return f.bad(f.nodeLines[r.IntN(len(f.nodeLines))], r, (*badline.Line).HalfOpen)
	}},
	{"node's line slow", func(f *farm, r *rand.Rand) bool {
		return f.bad(f.nodeLines[r.IntN(len(f.nodeLines))], r, func(l *badline.Line) { l.Slow(400 * time.Millisecond) })
	}},
	{"frame place gone", func(f *farm, _ *rand.Rand) bool {
		if f.placeGone {
			return false
		}
		place := filepath.Join(f.dir, "frames")
		f.placeGone = os.Rename(place, place+".away") == nil
		return f.placeGone
	}},
	{"frame place back", func(f *farm, _ *rand.Rand) bool { return f.placeBack() }},
	{"hand acted on", func(f *farm, r *rand.Rand) bool { return f.actOnHand(r) }},
	{"frame parked by hand", func(f *farm, r *rand.Rand) bool { return f.park(r) }},
	{"run held by hand", func(f *farm, r *rand.Rand) bool { return f.holdRun(r) }},
	{"node sidelined by hand", func(f *farm, r *rand.Rand) bool { return f.sideline(r) }},
	{"frame rendered by hand", func(f *farm, r *rand.Rand) bool { return f.byHand(r) }},
	{"receiver of notices out of order", func(f *farm, r *rand.Rand) bool { return f.spoilReceiver(r) }},
	{"node's disk full for a while", func(f *farm, r *rand.Rand) bool {
		path := f.ballast[r.IntN(nodes)]
		if path == "" {
			return false
		}
		f.later(r, 3*time.Second, func() { _ = os.Remove(path) })
		_ = os.WriteFile(path, make([]byte, 8<<20), 0o600) // as much as there is room for
		return true
	}},
}

// killed kills a program and starts it again after a while.
func (f *farm) killed(p *program, r *rand.Rand, most time.Duration) bool {
	if !p.signal(syscall.SIGKILL) {
		return false
	}
	f.later(r, most, func() {
		p.wait()
		if err := p.start(f.binary); err != nil {
			fmt.Fprintln(os.Stderr, "chaos:", err)
		}
	})
	return true
}

// bad makes a line bad for a while.
func (f *farm) bad(l *badline.Line, r *rand.Rand, how func(*badline.Line)) bool {
	how(l)
	f.later(r, 7*time.Second, l.Mend)
	return true
}

func (f *farm) placeBack() bool {
	if !f.placeGone {
		return false
	}
	place := filepath.Join(f.dir, "frames")
	f.placeGone = os.Rename(place+".away", place) != nil
	return !f.placeGone
}

func (f *farm) startDatabase(ctx context.Context) error {
	server, err := localpg.Start(ctx, f.dbOptions)
	if err != nil {
		return err
	}
	f.database, f.dbDown = server, false
	return nil
}

// find returns a process whose command line holds something.
func (f *farm) find(what []byte) int {
	entries, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, path := range entries {
		data, err := os.ReadFile(path)
		if err != nil || !bytes.Contains(data, what) || !bytes.Contains(data, []byte(f.dir)) {
			continue
		}
		var pid int
		if _, err := fmt.Sscanf(path, "/proc/%d/cmdline", &pid); err == nil {
			return pid
		}
	}
	return 0
}

// mend makes everything well and starts what has ended.
func (f *farm) mend(ctx context.Context) error {
	f.pending.Wait()
	f.placeBack()
	for _, l := range append(append([]*badline.Line{}, f.dbLines...), f.nodeLines...) {
		l.Mend()
	}
	if f.dbDown {
		if err := f.startDatabase(ctx); err != nil {
			return fmt.Errorf("starting the database again: %w", err)
		}
	}
	for _, b := range f.ballast {
		if b != "" {
			_ = os.Remove(b)
		}
	}
	for _, p := range append(append([]*program{}, f.services...), f.nodes...) {
		p.signal(syscall.SIGCONT)
		if err := p.start(f.binary); err != nil {
			return err
		}
	}
	return nil
}
