package launcher

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"vexillum/internal/filelock"
)

// Server is the launcher's side.
type Server struct {
	dir string // for the output of processes
	log *slog.Logger

	mu      sync.Mutex
	known   map[string]*kept
	owner   *owner    // the node process that is connected
	since   time.Time // without one
	fences  fences
	starts  int // processes that are being started just now
	ended   chan struct{}
	endOnce sync.Once
}

// kept is one process with all that it said.
type kept struct {
	spec   Spec
	proc   *process
	input  io.WriteCloser
	inputs int
	log    *os.File
	size   int64
	by     *owner // the node process that started it
	exit   *news  // once it has ended
	live   bool   // the owner has had all of it so far
}

// owner is a connection of a node process.
type owner struct {
	conn net.Conn
	out  chan []byte
	gone chan struct{}
	once sync.Once
}

func (o *owner) close() {
	o.once.Do(func() {
		close(o.gone)
		_ = o.conn.Close()
	})
}

// send hands a line to the owner. One that does not read is let go: it comes
// back and gets everything again.
func (o *owner) send(n news) {
	select {
	case o.out <- encode(n):
	case <-o.gone:
	case <-time.After(20 * time.Second):
		o.close()
	}
}

// NewServer returns a launcher that keeps output in a folder.
func NewServer(dir string, log *slog.Logger) *Server {
	return &Server{dir: dir, log: log, known: map[string]*kept{}, since: time.Now(), ended: make(chan struct{})}
}

// Serve is the launcher process of a node's folder. It returns when the
// folder is gone, when it was told to end, or when it has had nothing to do
// for a while. A folder has one launcher; a second one returns at once.
func Serve(ctx context.Context, dir string, log *slog.Logger) error {
	release, err := filelock.Take(lockPath(dir))
	if errors.Is(err, filelock.ErrTaken) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("taking the launcher's lock: %w", err)
	}
	defer release()
	becomeReaper()
	output := filepath.Join(dir, "output")
	if err := os.RemoveAll(output); err != nil { // of a launcher that was killed, and its renderers with it
		return fmt.Errorf("clearing old output: %w", err)
	}
	if err := os.MkdirAll(output, 0o700); err != nil {
		return fmt.Errorf("making the output folder: %w", err)
	}
	path, done, err := shortPath(socketPath(dir))
	if err != nil {
		return err
	}
	defer done()
	_ = os.Remove(socketPath(dir))
	listener, err := net.Listen("unix", path)
	if err != nil {
		return fmt.Errorf("listening in %s: %w", dir, err)
	}
	defer listener.Close()
	if err := keepToUs(socketPath(dir)); err != nil {
		return fmt.Errorf("keeping others from the launcher: %w", err)
	}
	s := NewServer(output, log)
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go s.Attach(conn)
		}
	}()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	defer s.end()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-s.ended:
			return nil
		case <-tick.C:
		}
		if _, err := os.Stat(socketPath(dir)); err != nil || s.idle() {
			return nil
		}
		s.reapOrphans()
	}
}

// idle ends what nobody waits for any more, and reports whether nothing is
// left to do.
func (s *Server) idle() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.owner != nil {
		return false
	}
	alone := time.Since(s.since)
	running := 0
	for _, k := range s.known {
		if k.exit == nil {
			running++
			if alone > inputsFor && k.input != nil {
				_ = k.input.Close()
				k.input = nil
			}
		}
	}
	if running == 0 && len(s.known) > 0 { // only their output says which frames are finished
		return alone > keepFor
	}
	return running == 0 && alone > idleFor
}

// reapOrphans kills what ended renderers have left to us, and takes note of its end. Those that we started ourselves are waited for already.
func (s *Server) reapOrphans() {
	ended := zombies()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.starts > 0 {
		return
	}
	ours, running := map[int]bool{}, map[string]bool{}
	for id, k := range s.known {
		ours[k.proc.cmd.Process.Pid] = true
		if k.exit == nil {
			running[id] = true
		}
	}
	for _, pid := range strays(ours, running) {
		s.log.Warn("a process that a renderer left behind is killed", "pid", pid)
		kill(pid)
	}
	for _, pid := range ended {
		if !ours[pid] {
			reap(pid)
		}
	}
}

// end stops everything.
func (s *Server) end() {
	s.endOnce.Do(func() { close(s.ended) })
	s.mu.Lock()
	var all []*kept
	for _, k := range s.known {
		all = append(all, k)
	}
	if s.owner != nil {
		s.owner.close()
	}
	s.mu.Unlock()
	for _, k := range all {
		k.proc.stop(0)
		k.close()
	}
}

// Attach serves a node process until it goes. One that was connected before
// is told that it was replaced.
func (s *Server) Attach(conn net.Conn) {
	o := &owner{conn: conn, out: make(chan []byte, 1024), gone: make(chan struct{})}
	defer o.close()
	go func() {
		w := bufio.NewWriter(conn)
		for {
			select {
			case line := <-o.out:
				_, err := w.Write(line)
				if err == nil && len(o.out) == 0 {
					err = w.Flush()
				}
				if err != nil {
					o.close()
					return
				}
			case <-o.gone:
				return
			}
		}
	}()
	s.mu.Lock()
	if before := s.owner; before != nil {
		_, _ = before.conn.Write(encode(news{Kind: newsReplaced}))
		before.close()
	}
	s.owner = o
	for _, k := range s.known {
		k.live = false
	}
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		if s.owner == o {
			s.owner, s.since = nil, time.Now()
		}
		s.mu.Unlock()
		s.endBound(o)
	}()
	lines := bufio.NewScanner(conn)
	lines.Buffer(make([]byte, 0, 64<<10), longestOrder)
	for lines.Scan() {
		var in order
		if err := json.Unmarshal(lines.Bytes(), &in); err != nil {
			s.log.Error("an order cannot be read", "error", err)
			return
		}
		if !s.do(o, in) {
			return
		}
	}
}

// endBound ends the processes that nobody takes up after the node process that started them,
// and forgets them.
func (s *Server) endBound(o *owner) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, k := range s.known {
		if k.spec.Bound && k.by == o {
			go func() {
				k.proc.stop(0)
				s.forget(k)
			}()
		}
	}
}

// do carries an order out. It returns false when the launcher shall end.
func (s *Server) do(o *owner, in order) bool {
	s.mu.Lock()
	k := s.known[in.ID]
	s.mu.Unlock()
	switch in.Do {
	case "hello":
		o.send(news{Kind: newsHello, Version: Version, Running: s.running()})
	case "start":
		if in.Spec != nil {
			s.start(o, *in.Spec)
		}
	case "attach":
		if k == nil {
			o.send(news{Kind: newsUnknown, ID: in.ID})
			return true
		}
		s.replay(o, k)
	case "input":
		if k != nil {
			s.mu.Lock()
			input := k.input
			k.inputs++
			s.mu.Unlock()
			if input != nil {
				_, _ = io.WriteString(input, in.Text) // a process that takes no more says so by ending
			}
		}
	case "close":
		if k != nil {
			s.mu.Lock()
			if k.input != nil {
				_ = k.input.Close()
				k.input = nil
			}
			s.mu.Unlock()
		}
	case "stop":
		if k != nil {
			go k.proc.stop(in.Grace)
		}
	case "forget":
		if k != nil {
			go s.forget(k)
		}
	case "end":
		s.end()
		return false
	default:
		s.log.Error("an order is not known", "do", in.Do)
	}
	return true
}

// running returns how many processes have not ended.
func (s *Server) running() (count int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, k := range s.known {
		if k.exit == nil {
			count++
		}
	}
	return count
}

// start starts a process. One of that ID which runs already is left alone:
// the order was given twice.
func (s *Server) start(o *owner, spec Spec) {
	fail := func(err error) { o.send(news{Kind: newsFailed, ID: spec.ID, Text: err.Error()}) }
	s.mu.Lock()
	before := s.known[spec.ID]
	s.mu.Unlock()
	if before != nil {
		s.replay(o, before)
		return
	}
	log, err := os.CreateTemp(s.dir, "output-*")
	if err != nil {
		fail(fmt.Errorf("keeping the renderer's output: %w", err))
		return
	}
	k := &kept{spec: spec, log: log, by: o}
	cmd := exec.Command(spec.Program, spec.Args...)
	cmd.Dir = spec.Dir
	cmd.Env = append(inherited(os.Environ()), accountsOwn(spec)...)
	cmd.Env = append(cmd.Env, spec.Env...)
	cmd.Env = append(cmd.Env, marker+spec.ID)
	cmd.WaitDelay = waitDelay
	release, err := reachable(cmd, spec)
	if err != nil {
		k.close()
		fail(err)
		return
	}
	defer release()
	cmd.Stdout, cmd.Stderr = &stream{s, k, 1}, &stream{s, k, 2}
	if spec.Input {
		if k.input, err = cmd.StdinPipe(); err != nil {
			fail(fmt.Errorf("opening the renderer's input: %w", err))
			return
		}
	}
	s.mu.Lock()
	s.starts++
	s.mu.Unlock()
	k.proc, err = startProcess(cmd, spec.ID, spec.Limits, &s.fences)
	s.mu.Lock()
	s.starts--
	if err == nil {
		s.known[spec.ID] = k
	}
	s.mu.Unlock()
	if err != nil {
		k.close()
		fail(err)
		return
	}
	s.replay(o, k)
	go func() {
		<-k.proc.gone
		exit := news{
			Kind: newsExited, ID: spec.ID, Code: k.proc.exitCode(), Peak: k.proc.peak,
			Memory: k.proc.overMemory,
		}
		if k.proc.err != nil {
			exit.Text = k.proc.err.Error()
		}
		s.mu.Lock()
		k.exit = &exit
		owner, live := s.owner, k.live
		s.mu.Unlock()
		if owner != nil && live {
			owner.send(exit)
		}
	}()
}

func (k *kept) close() {
	_ = k.log.Close()
	_ = os.Remove(k.log.Name())
}

// forget drops what is known of a process, once it has ended.
func (s *Server) forget(k *kept) {
	<-k.proc.gone
	s.mu.Lock()
	delete(s.known, k.spec.ID)
	s.mu.Unlock()
	k.close()
}

// stream keeps what a process says and passes it on.
type stream struct {
	s *Server
	k *kept
	n int
}

// Write implements io.Writer.
func (w *stream) Write(data []byte) (int, error) {
	line := encode(news{Kind: newsOutput, ID: w.k.spec.ID, Stream: w.n, Data: data, At: time.Now().UnixMilli()})
	w.s.mu.Lock()
	if w.k.size+int64(len(line)) <= mostOutput {
		if n, err := w.k.log.Write(line); err == nil {
			w.k.size += int64(n)
		}
	}
	owner, live := w.s.owner, w.k.live
	w.s.mu.Unlock()
	if owner != nil && live {
		select {
		case owner.out <- line:
		case <-owner.gone:
		}
	}
	return len(data), nil
}

// replay reports all that is known of a process, and then what comes.
func (s *Server) replay(o *owner, k *kept) {
	s.mu.Lock()
	defer s.mu.Unlock() // nothing new comes in between
	attached := news{Kind: newsAttached, ID: k.spec.ID, Inputs: k.inputs, PID: k.proc.cmd.Process.Pid}
	queue := [][]byte{encode(attached)}
	data := make([]byte, k.size)
	if _, err := k.log.ReadAt(data, 0); err == nil || errors.Is(err, io.EOF) {
		queue = append(queue, data)
	}
	if k.exit != nil {
		queue = append(queue, encode(*k.exit))
	}
	k.live = true
	for _, line := range queue {
		select {
		case o.out <- line:
		case <-o.gone:
			return
		case <-time.After(20 * time.Second):
			o.close()
			return
		}
	}
}

// inherited returns what a renderer may have of our own environment: nothing
// that the farm or its database were told, such as keys and passwords.
func inherited(environment []string) []string {
	return slices.DeleteFunc(slices.Clone(environment), func(entry string) bool {
		name, _, _ := strings.Cut(strings.ToUpper(entry), "=")
		return strings.HasPrefix(name, "VEXILLUM_") || name == "PGPASSWORD" || name == "PGPASSFILE" ||
			name == "DATABASE_URL"
	})
}

// accountsOwn returns the variables by which programs find the account that they run as:
// those of the node process would lead another account to folders that it cannot enter.
func accountsOwn(spec Spec) []string {
	if spec.Account == "" {
		return nil
	}
	return []string{"USER=" + spec.Account, "LOGNAME=" + spec.Account, "HOME=" + spec.Dir}
}
