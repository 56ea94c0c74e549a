package launcher

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"time"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/filelock"
)

// Client is the node process's side.
type Client struct {
	conn net.Conn
	lost chan struct{} // closed when the connection has ended
	err  error         // why; read after lost

	hello     chan news // of the launcher; bounded, one is enough
	mu        sync.Mutex
	processes map[string]*Process
}

// VersionError says that the launcher of a folder speaks another version of the
// protocol, and that its renderers still run.
type VersionError struct {
	Dir      string
	Launcher int // its version
	Running  int // renderers
}

// Error says so, and what to do.
func (e *VersionError) Error() string {
	return fmt.Sprintf(
		"the launcher in %s speaks version %d of its protocol, and this program versions %d to %d; %s of it still run. "+
			"Start the program that was here before and stop it with SIGTERM, or wait until they have ended",
		e.Dir, e.Launcher, oldestVersion, Version, english.Plural(e.Running, "renderer", ""),
	)
}

// ErrReplaced says that another node process has connected to the launcher.
var ErrReplaced = errors.New("another node process works in this folder now")

// ErrLost says that the launcher has ended, and its renderers with it.
var ErrLost = errors.New("the launcher has ended")

// Connect connects to the launcher of a folder, and starts one where none is.
// command is the launcher's command line without the folder.
func Connect(ctx context.Context, dir string, command []string) (*Client, error) {
	path, done, err := shortPath(socketPath(dir))
	if err != nil {
		return nil, err
	}
	defer done()
	if conn, err := net.Dial("unix", path); err == nil {
		c := NewClient(conn)
		if c, err = c.greet(ctx, dir); c != nil || err != nil {
			return c, err
		}
	}
	log, err := os.OpenFile(filepath.Join(dir, "launcher.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, fmt.Errorf("opening the launcher's log: %w", err)
	}
	defer log.Close()
	cmd := exec.Command(command[0], append(command[1:len(command):len(command)], dir)...)
	cmd.Stdout, cmd.Stderr = log, log
	onItsOwn(cmd)
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting the launcher: %w", err)
	}
	go func() { _ = cmd.Wait() }() // its log says why it ended
	for deadline := time.Now().Add(10 * time.Second); ; {
		conn, err := net.Dial("unix", path)
		if err == nil {
			return NewClient(conn), nil
		}
		if time.Now().After(deadline) {
			return nil, fmt.Errorf("the launcher does not answer: %w; its log is %s", err, log.Name())
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(5 * time.Millisecond):
		}
	}
}

// greetingTime is how long a launcher of version 1, which knows no greeting, is
// waited for.
const greetingTime = 2 * time.Second

// greet looks which version a launcher speaks that was there already. One that
// cannot be understood and has nothing to do is ended: then there is no client.
func (c *Client) greet(ctx context.Context, dir string) (*Client, error) {
	c.send(order{Do: "hello", Version: Version})
	version, running := 1, 0
	select {
	case n := <-c.hello:
		version, running = n.Version, n.Running
	case <-time.After(greetingTime):
	case <-c.lost: // it was about to end
		return nil, nil
	case <-ctx.Done():
		c.Close()
		return nil, ctx.Err()
	}
	switch {
	case version >= oldestVersion && version <= Version:
		return c, nil
	case running == 0:
		c.End()
		return nil, untilFree(ctx, dir)
	}
	c.Close()
	return nil, &VersionError{Dir: dir, Launcher: version, Running: running}
}

// untilFree waits until the launcher that a folder had is gone.
func untilFree(ctx context.Context, dir string) error {
	for deadline := time.Now().Add(10 * time.Second); ; {
		release, err := filelock.Take(lockPath(dir))
		switch {
		case err == nil:
			release()
			return nil
		case !errors.Is(err, filelock.ErrTaken):
			return fmt.Errorf("taking the launcher's lock: %w", err)
		case time.Now().After(deadline):
			return errors.New("the launcher was told to end and does not")
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// Shut ends the launcher of a folder, if there is one.
func Shut(dir string) {
	path, done, err := shortPath(socketPath(dir))
	if err != nil {
		return
	}
	defer done()
	if conn, err := net.Dial("unix", path); err == nil {
		NewClient(conn).End()
	}
}

// NewClient returns the node process's side of a connection.
func NewClient(conn net.Conn) *Client {
	c := &Client{conn: conn, lost: make(chan struct{}), hello: make(chan news, 1), processes: map[string]*Process{}}
	go c.read()
	return c
}

// Lost is closed when the launcher is gone or another node process has taken
// it over; Err says which.
func (c *Client) Lost() <-chan struct{} { return c.lost }

// Err returns why the connection ended. It may be called once Lost is closed.
func (c *Client) Err() error { return c.err }

// Close lets go of the launcher; it and its renderers go on.
func (c *Client) Close() { _ = c.conn.Close() }

// End ends the launcher and all its renderers.
func (c *Client) End() {
	c.send(order{Do: "end"})
	select {
	case <-c.lost:
	case <-time.After(5 * time.Second):
	}
	c.Close()
}

func (c *Client) send(o order) {
	c.mu.Lock()
	defer c.mu.Unlock()
	_, _ = c.conn.Write(encode(o)) // a lost connection is told by Lost
}

func (c *Client) read() {
	var cause = ErrLost
	in := bufio.NewReaderSize(c.conn, 64<<10)
	for {
		line, err := in.ReadBytes('\n')
		if err != nil {
			break
		}
		var n news
		if json.Unmarshal(line, &n) != nil {
			continue
		}
		if n.Kind == newsHello {
			select {
			case c.hello <- n:
			default:
			}
			continue
		}
		if n.Kind == newsReplaced {
			cause = ErrReplaced
			continue
		}
		c.mu.Lock()
		p := c.processes[n.ID]
		c.mu.Unlock()
		if p != nil {
			p.told(n)
		}
	}
	_ = c.conn.Close()
	c.err = cause
	close(c.lost)
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, p := range c.processes {
		p.once.Do(func() {
			p.err = cause
			close(p.began)
		})
		p.end(-1, cause.Error())
	}
}

// Process is a renderer in the launcher's hands.
type Process struct {
	c     *Client
	id    string
	out   Output
	once  sync.Once
	began chan struct{} // closed when it is known whether it runs
	err   error         // why it does not

	gone   chan struct{} // closed when it has ended
	goneDo sync.Once
	code   int
	how    string
	inputs int
	pid    int
	peak   int64
	over   bool
}

// ErrUnknown says that the launcher knows nothing of a process.
var ErrUnknown = errors.New("the launcher does not know this process")

// Output hears what a process says: on stream 1 or 2, and when that was. It is
// called one time after the other.
type Output interface {
	Said(stream int, data []byte, at time.Time)
}

// Start starts a process; what it says goes to out.
func (c *Client) Start(spec Spec, out Output) (*Process, error) {
	return c.follow(spec.ID, order{Do: "start", Spec: &spec}, out)
}

// Attach follows a process that an earlier node process has started. All that
// it has said is told again.
func (c *Client) Attach(id string, out Output) (*Process, error) {
	return c.follow(id, order{Do: "attach", ID: id}, out)
}

func (c *Client) follow(id string, o order, out Output) (*Process, error) {
	p := &Process{c: c, id: id, out: out, began: make(chan struct{}), gone: make(chan struct{})}
	c.mu.Lock()
	select {
	case <-c.lost:
		c.mu.Unlock()
		return nil, c.err
	default:
	}
	c.processes[id] = p
	c.mu.Unlock()
	c.send(o)
	<-p.began
	if p.err != nil {
		c.drop(id)
		return nil, p.err
	}
	return p, nil
}

func (c *Client) drop(id string) {
	c.mu.Lock()
	delete(c.processes, id)
	c.mu.Unlock()
}

func (p *Process) told(n news) {
	switch n.Kind {
	case newsAttached:
		p.inputs, p.pid = n.Inputs, n.PID
		p.once.Do(func() { close(p.began) })
	case newsUnknown:
		p.fail(ErrUnknown)
	case newsFailed:
		p.fail(errors.New(n.Text))
	case newsOutput:
		p.out.Said(n.Stream, n.Data, time.UnixMilli(n.At))
	case newsExited:
		p.goneDo.Do(func() {
			p.code, p.how, p.peak, p.over = n.Code, n.Text, n.Peak, n.Memory
			close(p.gone)
		})
	}
}

// fail reports that the process does not run. One that was said to run and then
// did not start has ended.
func (p *Process) fail(err error) {
	p.once.Do(func() {
		p.err = err
		close(p.began)
	})
	p.end(-1, err.Error())
}

func (p *Process) end(code int, how string) {
	p.goneDo.Do(func() {
		p.code, p.how = code, how
		close(p.gone)
	})
}

// Gone is closed when the process has ended, all that it started with it, and
// all that it said was written.
func (p *Process) Gone() <-chan struct{} { return p.gone }

// Ended returns how the process ended: its exit code, or -1 for a signal, and
// a phrase, empty when all was well. It may be called once Gone is closed.
func (p *Process) Ended() (code int, how string) { return p.code, p.how }

// Peak returns the most main memory in bytes that the process was seen to have,
// 0 where that is not known, and whether it was ended for going over its limit.
// It may be called once Gone is closed.
func (p *Process) Peak() (bytes int64, over bool) { return p.peak, p.over }

// Memory returns how much main memory the process and all below it have now, in
// bytes; 0 where that is not known.
func (p *Process) Memory() int64 {
	if p.pid == 0 {
		return 0
	}
	return memoryOf(p.pid)
}

// Used returns how much processor time the process and all below it have used so far, and where
// the system tells, how long they were ready and had no core: on a busy machine one that computes
// gets little of it; 0
// where that is not known. It may become less, as those below it end.
func (p *Process) Used() time.Duration {
	if p.pid == 0 {
		return 0
	}
	return usedBy(p.pid)
}

// Inputs returns how many pieces of input the process had been given when it
// was attached to.
func (p *Process) Inputs() int { return p.inputs }

// Input gives the process a line of input.
func (p *Process) Input(text string) { p.c.send(order{Do: "input", ID: p.id, Text: text}) }

// CloseInput ends its input.
func (p *Process) CloseInput() { p.c.send(order{Do: "close", ID: p.id}) }

// Stop asks the whole tree to end, and kills what is left after the grace.
func (p *Process) Stop(grace time.Duration) {
	p.c.send(order{Do: "stop", ID: p.id, Grace: grace})
}

// Forget lets the launcher drop what it keeps of the process.
func (p *Process) Forget() {
	p.c.send(order{Do: "forget", ID: p.id})
	p.c.drop(p.id)
}
