//go:build unix

package launcher

import (
	"os/exec"
	"runtime"
	"syscall"
)

// tree is a process group.
type tree struct{ group int }

// niceness of renderers where none is asked for: the owner of the machine
// comes first.
const niceness = 10

func (t *tree) prepare(cmd *exec.Cmd) (release func()) {
	// The wish to die with us belongs to the thread that forks.
	runtime.LockOSThread()
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	dieWithUs(cmd.SysProcAttr)
	return runtime.UnlockOSThread
}

func (t *tree) started(cmd *exec.Cmd, nice int) error {
	if nice == 0 {
		nice = niceness
	}
	t.group = cmd.Process.Pid
	_ = syscall.Setpriority(syscall.PRIO_PGRP, t.group, nice) // it may not be allowed; then it runs as it is
	return nil
}

func (t *tree) ask()  { t.signal(syscall.SIGTERM) }
func (t *tree) kill() { t.signal(syscall.SIGKILL) }

func (t *tree) signal(s syscall.Signal) {
	if t.group > 1 {
		_ = syscall.Kill(-t.group, s) // an error means that nobody is left
	}
}
