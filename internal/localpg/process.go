package localpg

import (
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"time"
)

// process is a started server. One goroutine, on a thread of its own, starts
// it and waits for it: on Linux the wish to be told of our death belongs to
// the thread that forked.
type process struct {
	cmd  *exec.Cmd
	gone chan struct{}
}

func launch(cmd *exec.Cmd) (*process, error) {
	p := &process{cmd: cmd, gone: make(chan struct{})}
	started := make(chan error)
	go func() {
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		err := cmd.Start()
		started <- err
		if err == nil {
			_ = cmd.Wait() // how it ended is told by its output
		}
		close(p.gone)
	}()
	return p, <-started
}

// stop asks the server to end its sessions and shut down, and kills it if it
// does not within the given time.
func (p *process) stop(patience time.Duration) error {
	select {
	case <-p.gone:
		return nil
	default:
	}
	_ = p.cmd.Process.Signal(os.Interrupt) // a fast shutdown
	select {
	case <-p.gone:
		return nil
	case <-time.After(patience):
	}
	_ = p.cmd.Process.Kill()
	<-p.gone
	return fmt.Errorf("the database did not stop within %v and was killed; it recovers at the next start", patience)
}
