package node

import (
	"errors"
	"os/exec"
	"sync"
	"time"
)

// process is a renderer with everything that it starts.
type process struct {
	cmd  *exec.Cmd
	tree tree
	gone chan struct{} // closed when the renderer itself has ended
	err  error         // how it ended; read after gone
	once sync.Once
}

// startProcess starts cmd as the head of a tree that can be ended whole.
func startProcess(cmd *exec.Cmd) (*process, error) {
	p := &process{cmd: cmd, gone: make(chan struct{})}
	started := make(chan error, 1)
	go func() {
		release := p.tree.prepare(cmd)
		defer release()
		err := cmd.Start()
		if err == nil {
			err = p.tree.started(cmd)
		}
		started <- err
		if err != nil {
			return
		}
		p.err = cmd.Wait()
		p.tree.kill() // whatever it left behind
		close(p.gone)
	}()
	return p, <-started
}

// stop asks the whole tree to end and kills what is still there after the
// given time. It returns when the renderer has ended.
func (p *process) stop(grace time.Duration) {
	p.once.Do(func() {
		p.tree.ask()
		select {
		case <-p.gone:
		case <-time.After(grace):
		}
		p.tree.kill()
	})
	<-p.gone
}

// exitCode returns how the renderer ended: its code, or -1 for a signal.
func (p *process) exitCode() int {
	var exit *exec.ExitError
	if errors.As(p.err, &exit) {
		return exit.ExitCode()
	}
	if p.err != nil {
		return -1
	}
	return 0
}
