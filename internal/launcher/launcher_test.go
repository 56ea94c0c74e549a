package launcher

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"vexillum/internal/filelock"
)

// TestMain lets this test program be the launcher, too.
func TestMain(m *testing.M) {
	if len(os.Args) == 3 && os.Args[1] == "be-the-launcher" {
		if err := Serve(context.Background(), os.Args[2], slog.New(slog.NewTextHandler(os.Stderr, nil))); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// said is what a process has said so far.
type said struct {
	mu        sync.Mutex
	buf, errs bytes.Buffer
	last      time.Time
}

// Said implements Output.
func (s *said) Said(stream int, data []byte, at time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.last = at
	if stream == 2 {
		s.errs.Write(data)
		return
	}
	s.buf.Write(data)
}

func (s *said) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.buf.String()
}

func connect(t *testing.T, dir string) *Client {
	t.Helper()
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	c, err := Connect(t.Context(), dir, []string{self, "be-the-launcher"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Close)
	return c
}

func folder(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "vexillum-launcher-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) }) // the launcher ends with its folder
	return dir
}

func shell(id, script string) Spec {
	return Spec{ID: id, Program: "/bin/sh", Args: []string{"-c", script}, Dir: "/"}
}

func eventually(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for deadline := time.Now().Add(20 * time.Second); !holds(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("waited too long until %s", what)
		}
	}
}

func gone(t *testing.T, p *Process) (int, string) {
	t.Helper()
	select {
	case <-p.Gone():
	case <-time.After(20 * time.Second):
		t.Fatal("the process does not end")
	}
	return p.Ended()
}

func TestAProcessIsStartedAndHeard(t *testing.T) {
	c := connect(t, folder(t))
	var out said
	p, err := c.Start(shell("a", "echo one; echo two >&2; exit 3"), &out)
	if err != nil {
		t.Fatal(err)
	}
	if code, how := gone(t, p); code != 3 || how != "exit status 3" {
		t.Errorf("ended with %d, %q", code, how)
	}
	if out.String() != "one\n" || out.errs.String() != "two\n" {
		t.Errorf("said %q and %q", out.String(), out.errs.String())
	}
	if _, err := c.Start(Spec{ID: "b", Program: "/nowhere/renderer"}, &out); err == nil ||
		!strings.Contains(err.Error(), "/nowhere/renderer") {
		t.Errorf("a program that is not there: %v", err)
	}
	if _, err := c.Attach("c", &out); !errors.Is(err, ErrUnknown) {
		t.Errorf("a process that never was: %v", err)
	}
}

// TestAProcessOutlivesWhoStartedIt connects again and gets everything again,
// in order, to the end.
func TestAProcessOutlivesWhoStartedIt(t *testing.T) {
	dir := folder(t)
	first := connect(t, dir)
	var out said
	spec := shell(
		"a", "i=0; while [ $i -lt 40 ]; do i=$((i+1)); echo line $i; sleep 0.02; done; read word; echo got $word",
	)
	spec.Input = true
	if _, err := first.Start(spec, &out); err != nil {
		t.Fatal(err)
	}
	eventually(t, "it says something", func() bool { return strings.Contains(out.String(), "line 5\n") })
	first.Close()
	time.Sleep(100 * time.Millisecond)
	second := connect(t, dir)
	var again said
	p, err := second.Attach("a", &again)
	if err != nil {
		t.Fatal(err)
	}
	if p.Inputs() != 0 {
		t.Errorf("it was given %d inputs", p.Inputs())
	}
	p.Input("salt\n")
	if code, how := gone(t, p); code != 0 || how != "" {
		t.Errorf("ended with %d, %q", code, how)
	}
	var want strings.Builder
	for i := range 40 {
		fmt.Fprintf(&want, "line %d\n", i+1)
	}
	if since := time.Since(again.last); since > 5*time.Second || since < 0 {
		t.Errorf("the last was said %v ago", since)
	}
	if got := again.String(); got != want.String()+"got salt\n" {
		t.Errorf("the second heard %q", got)
	}
	// Also one that has ended is told whole, until it is forgotten.
	third := connect(t, dir)
	select {
	case <-second.Lost():
	case <-time.After(20 * time.Second):
		t.Fatal("the second connection goes on beside the third")
	}
	if !errors.Is(second.Err(), ErrReplaced) {
		t.Errorf("the second learned %v", second.Err())
	}
	var late said
	if p, err = third.Attach("a", &late); err != nil {
		t.Fatal(err)
	}
	if code, _ := gone(t, p); code != 0 || late.String() != again.String() || p.Inputs() != 1 {
		t.Errorf("the third heard %q, code %d, %d inputs", late.String(), code, p.Inputs())
	}
	p.Forget()
	eventually(
		t, "it is forgotten", func() bool { _, err := third.Attach("a", &late); return errors.Is(err, ErrUnknown) },
	)
}

// TestATreeIsEndedWhole: children that ignore the request, and one that left
// its group and lost its parent, end with their renderer.
func TestATreeIsEndedWhole(t *testing.T) {
	dir := folder(t)
	c := connect(t, dir)
	var out said
	script := "trap '' TERM; (trap '' TERM; while :; do sleep 0.05; done) & echo $!; setsid sh -c 'echo $$; while :; " +
		"do sleep 0.05; done' & sleep 0.3; echo ready; sleep 3600"
	p, err := c.Start(shell("a", script), &out)
	if err != nil {
		t.Fatal(err)
	}
	eventually(t, "all is up", func() bool { return strings.Contains(out.String(), "ready") })
	p.Stop(50 * time.Millisecond)
	gone(t, p)
	for _, word := range strings.Fields(out.String()) {
		pid, err := strconv.Atoi(word)
		if err != nil {
			continue
		}
		eventually(t, word+" is gone", func() bool { return syscall.Kill(pid, 0) != nil })
	}
	if n := len(strings.Fields(out.String())); n != 3 {
		t.Errorf("it said %q", out.String())
	}
}

func TestTheLauncherEndsWhenToldAndWithItsFolder(t *testing.T) {
	for name, end := range map[string]func(c *Client, dir string){
		"told":               func(c *Client, _ string) { c.End() },
		"the folder is gone": func(_ *Client, dir string) { _ = os.RemoveAll(dir) },
	} {
		t.Run(name, func(t *testing.T) {
			dir := folder(t)
			c := connect(t, dir)
			var out said
			p, err := c.Start(shell("a", "echo $$; sleep 3600"), &out)
			if err != nil {
				t.Fatal(err)
			}
			eventually(t, "it is up", func() bool { return out.String() != "" })
			pid, _ := strconv.Atoi(strings.TrimSpace(out.String()))
			end(c, dir)
			if code, _ := gone(t, p); code != -1 {
				t.Errorf("ended with %d", code)
			}
			eventually(t, "the renderer is gone", func() bool { return syscall.Kill(pid, 0) != nil })
			select {
			case <-c.Lost():
			case <-time.After(20 * time.Second):
				t.Fatal("the launcher goes on")
			}
		})
	}
}

// TestLaunchersOfOtherVersions connects to launchers that other versions of the
// program have started.
func TestLaunchersOfOtherVersions(t *testing.T) {
	for _, c := range []struct {
		what    string
		hello   *news // its answer to a greeting; nil: it knows none
		refused bool
		ended   bool
	}{
		{"the first version", nil, false, true},
		{"the one before at work", &news{Kind: newsHello, Version: Version - 1, Running: 3}, true, false},
		{"this version", &news{Kind: newsHello, Version: Version, Running: 3}, false, false},
		{"a newer one at work", &news{Kind: newsHello, Version: Version + 1, Running: 3}, true, false},
		{"a newer one with nothing to do", &news{Kind: newsHello, Version: Version + 1}, false, true},
	} {
		t.Run(c.what, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			listener, err := net.Listen("unix", socketPath(dir))
			if err != nil {
				t.Fatal(err)
			}
			ended := make(chan struct{})
			go func() {
				defer close(ended)
				conn, err := listener.Accept()
				if err != nil {
					return
				}
				defer conn.Close()
				for lines := bufio.NewScanner(conn); lines.Scan(); {
					var o order
					_ = json.Unmarshal(lines.Bytes(), &o)
					switch {
					case o.Do == "hello" && c.hello != nil:
						_, _ = conn.Write(encode(*c.hello))
					case o.Do == "end":
						_ = listener.Close()
						return
					}
				}
			}()
			self, err := os.Executable()
			if err != nil {
				t.Fatal(err)
			}
			got, err := Connect(t.Context(), dir, []string{self, "be-the-launcher"})
			var version *VersionError
			if refused := errors.As(err, &version); refused != c.refused || err != nil && !refused {
				t.Fatalf("connecting says %v", err)
			}
			select {
			case <-ended:
				if !c.ended && !c.refused {
					t.Error("it was let go of")
				}
			case <-time.After(200 * time.Millisecond):
				if c.ended {
					t.Error("it was left alone")
				}
			}
			if got != nil {
				got.End()
			}
			_ = listener.Close()
		})
	}
}

func TestOneLauncherAFolder(t *testing.T) {
	dir := folder(t)
	first := connect(t, dir)
	if err := Serve(t.Context(), dir, slog.New(slog.DiscardHandler)); err != nil {
		t.Errorf("a second launcher: %v", err)
	}
	if _, err := filelock.Take(lockPath(dir)); !errors.Is(err, filelock.ErrTaken) {
		t.Errorf("the folder's lock is free beside its launcher, %v", err)
	}
	var out said
	p, err := first.Start(shell("a", "echo still here"), &out)
	if err != nil {
		t.Fatal(err)
	}
	gone(t, p)
	if out.String() != "still here\n" {
		t.Errorf("the first launcher was harmed: %q", out.String())
	}
}

func TestLongFoldersHaveASocket(t *testing.T) {
	dir := filepath.Join(folder(t), strings.Repeat("deep/", 30))
	if err := os.MkdirAll(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	var out said
	p, err := connect(t, dir).Start(shell("a", "echo deep"), &out)
	if err != nil {
		t.Fatal(err)
	}
	gone(t, p)
	if out.String() != "deep\n" {
		t.Errorf("said %q", out.String())
	}
}

// TestOrdersThatMakeNoSense end the connection and nothing else.
func TestOrdersThatMakeNoSense(t *testing.T) {
	s := NewServer(t.TempDir(), slog.New(slog.DiscardHandler))
	for _, line := range []string{"what\n", "{\"do\": \"dance\"}\n{}\nno\n", "{\"do\": \"start\"}\n[\n", "{\"do\":\"input\",\"id\":\"x\"}\n{\"do\":\"stop\",\"id\":\"x\"}\n\"\n"} {
		here, there := net.Pipe()
		ended := make(chan struct{})
		go func() { s.Attach(there); close(ended) }()
		_ = here.SetDeadline(time.Now().Add(10 * time.Second))
		if _, err := here.Write([]byte(line)); err != nil {
			t.Fatal(err)
		}
		select {
		case <-ended:
		case <-time.After(10 * time.Second):
			t.Errorf("%q is waited on", line)
		}
		_ = here.Close()
	}
}

// TestAnIdleLauncherEndsWhenNothingIsLeftToTell: what an ended renderer has
// said is kept for the node process that has not heard it.
func TestAnIdleLauncherEndsWhenNothingIsLeftToTell(t *testing.T) {
	s := NewServer(t.TempDir(), slog.New(slog.DiscardHandler))
	here, there := net.Pipe()
	go s.Attach(there)
	c := NewClient(here)
	var out said
	p, err := c.Start(shell("a", "echo one"), &out)
	if err != nil {
		t.Fatal(err)
	}
	gone(t, p)
	alone := func(since time.Duration) bool {
		s.mu.Lock()
		s.since = time.Now().Add(-since)
		s.mu.Unlock()
		return s.idle()
	}
	if alone(time.Hour) {
		t.Error("it ends while its node process is connected")
	}
	c.Close()
	eventually(t, "the launcher is alone", func() bool { s.mu.Lock(); defer s.mu.Unlock(); return s.owner == nil })
	if alone(time.Hour) {
		t.Error("it ends with output that nobody has taken note of")
	}
	if !alone(25 * time.Hour) {
		t.Error("it never ends")
	}
	here, there = net.Pipe()
	go s.Attach(there)
	c = NewClient(here)
	if p, err = c.Attach("a", &out); err != nil {
		t.Fatal(err)
	}
	gone(t, p)
	p.Forget()
	eventually(t, "it is forgotten", func() bool { s.mu.Lock(); defer s.mu.Unlock(); return len(s.known) == 0 })
	c.Close()
	eventually(t, "the launcher is alone", func() bool { s.mu.Lock(); defer s.mu.Unlock(); return s.owner == nil })
	if alone(time.Second) || !alone(time.Minute) {
		t.Error("with nothing left it does not end after a short while")
	}
}

// TestNobodyHidesFromAStop leaves a process behind that has a session of its own and nothing in
// its environment, and one that nobody takes up after the node process.
func TestNobodyHidesFromAStop(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("elsewhere what leaves its group is not followed")
	}
	dir := folder(t)
	c := connect(t, dir)
	var out said
	p, err := c.Start(shell("a", "setsid env -i sh -c 'echo hidden $$; exec sleep 300' & echo seen; wait"), &out)
	if err != nil {
		t.Fatal(err)
	}
	number := func(word string) (pid int) {
		eventually(t, word+" says its number", func() bool {
			_, rest, found := strings.Cut(out.String(), word+" ")
			_, err := fmt.Sscan(rest, &pid)
			return found && err == nil
		})
		return pid
	}
	hidden := number("hidden")
	p.Stop(0)
	gone(t, p)
	eventually(t, "the hidden process is gone", func() bool { return syscall.Kill(hidden, 0) != nil })

	bound := shell("b", "echo bound $$; exec sleep 300")
	bound.Bound = true
	if _, err := c.Start(bound, &out); err != nil {
		t.Fatal(err)
	}
	left := number("bound")
	c.Close()
	eventually(t, "what nobody takes up has ended", func() bool { return syscall.Kill(left, 0) != nil })
}

// TestNobodyElseCommandsTheLauncher starts it with a file mask that would let everybody write.
func TestNobodyElseCommandsTheLauncher(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("there are no file masks")
	}
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	dir := folder(t)
	c, err := Connect(t.Context(), dir, []string{"/bin/sh", "-c", `umask 0; exec "$0" "$@"`, self, "be-the-launcher"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Close)
	info, err := os.Stat(socketPath(dir))
	if err != nil {
		t.Fatal(err)
	}
	if info.Mode().Perm() != 0o600 {
		t.Errorf("the socket of the launcher has the mode %v", info.Mode())
	}
}
