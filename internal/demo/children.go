package demo

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"sync"
	"time"
)

// child is one program that the demo started.
type child struct {
	cmd  *exec.Cmd
	gone chan struct{}
}

// children are the programs that the demo started, the service first.
type children struct {
	mu   sync.Mutex
	list []*child
}

// start starts this program with other arguments; what it says goes to a log
// file.
func (c *children) start(logFile string, args ...string) error {
	self, err := os.Executable()
	if err != nil {
		return fmt.Errorf("finding this program: %w", err)
	}
	log, err := os.Create(logFile)
	if err != nil {
		return fmt.Errorf("opening a log: %w", err)
	}
	defer log.Close()
	kid := &child{cmd: exec.Command(self, append(args, "--with-input")...), gone: make(chan struct{})}
	// It ends when its input does, and that ends with us, however we end.
	if _, err := kid.cmd.StdinPipe(); err != nil {
		return fmt.Errorf("starting vexillum %s: %w", args[0], err)
	}
	kid.cmd.Stdout, kid.cmd.Stderr = log, log
	onItsOwn(kid.cmd)
	if err := kid.cmd.Start(); err != nil {
		return fmt.Errorf("starting vexillum %s: %w", args[0], err)
	}
	go func() {
		_ = kid.cmd.Wait() // how it ended stands in its log
		close(kid.gone)
	}()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.list = append(c.list, kid)
	return nil
}

// firstGone is closed when the service has ended.
func (c *children) firstGone() <-chan struct{} {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.list[0].gone
}

// stop ends all children, the service last, and waits for them.
func (c *children) stop() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.list) == 0 {
		return
	}
	for _, kid := range c.list[1:] {
		kid.ask()
	}
	for _, kid := range c.list[1:] {
		kid.wait()
	}
	c.list[0].ask()
	c.list[0].wait()
	c.list = nil
}

// stopLast ends the child that was started last.
func (c *children) stopLast() {
	c.mu.Lock()
	kid := c.list[len(c.list)-1]
	c.mu.Unlock()
	kid.ask()
	kid.wait()
}

func (k *child) ask() { _ = k.cmd.Process.Signal(os.Interrupt) }

// patience is how long a child may take to end by itself.
const patience = 25 * time.Second

func (k *child) wait() {
	select {
	case <-k.gone:
		return
	case <-time.After(patience):
	}
	_ = k.cmd.Process.Kill()
	<-k.gone
}

// lastLine returns the end of a log for an error.
func lastLine(file string) string {
	data, err := os.ReadFile(file)
	if err != nil {
		return "its log cannot be read"
	}
	lines := strings.Split(strings.TrimSpace(string(data)), "\n")
	return lines[len(lines)-1]
}
