package launcher

import (
	"errors"
	"os/exec"
	"sync"
	"time"
)

// process is a renderer with everything that it starts.
type process struct {
	cmd  *exec.Cmd
	id   string
	tree tree
	gone chan struct{} // closed when the renderer itself has ended
	err  error         // how it ended; read after gone
	peak int64         // bytes of main memory that it had at most, as far as known; read after gone
	// overMemory says that it was ended for going over its limit; read after gone.
	overMemory bool
	once       sync.Once
}

// marker is the variable in the environment of a process, and of all that it
// starts, which tells whose it is.
const marker = "LEASE_LAUNCH="

// startProcess starts cmd as the head of a tree that can be ended whole. The
// id stands in its environment behind marker.
func startProcess(cmd *exec.Cmd, id string, limits Limits, of *fences) (*process, error) {
	p := &process{cmd: cmd, id: id, tree: tree{fences: of}, gone: make(chan struct{})}
	started := make(chan error, 1)
	go func() {
		release, err := p.tree.prepare(cmd, limits)
		if err != nil {
			started <- err
			return
		}
		defer release()
		if err = p.tree.start(cmd, limits); err == nil {
			err = p.tree.started(cmd, limits)
		}
		started <- err
		if err != nil {
			return
		}
		p.err = cmd.Wait()
		p.tree.kill() // whatever it left behind
		killMarked(id)
		p.peak, p.overMemory = p.tree.memory(cmd) // a control group goes only when nobody is left in it
		close(p.gone)
	}()
	return p, <-started
}

// stop asks the whole tree to end and kills what is still there after the
// given time. It returns when the renderer has ended.
func (p *process) stop(grace time.Duration) {
	p.once.Do(func() {
		p.tree.ask()
		p.waitForHead(grace)
		p.tree.kill()
		killMarked(p.id)
	})
	<-p.gone
}

// waitForHead waits until the renderer itself has ended, whatever it left
// behind, or the time is over.
func (p *process) waitForHead(grace time.Duration) {
	limit := time.After(grace)
	look := time.NewTicker(10 * time.Millisecond)
	defer look.Stop()
	for {
		select {
		case <-p.gone:
			return
		case <-limit:
			return
		case <-look.C:
			if headEnded(p.cmd.Process.Pid) {
				return
			}
		}
	}
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
