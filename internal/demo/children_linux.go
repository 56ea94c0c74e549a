package demo

import (
	"os/exec"
	"syscall"
)

// onItsOwn keeps Ctrl-C in the terminal from reaching the child before us,
// and lets it end if we are killed.
func onItsOwn(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
}
