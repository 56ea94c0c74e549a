//go:build unix

package demo

import (
	"os/exec"
	"syscall"
)

// onItsOwn keeps Ctrl-C in the terminal from reaching the child before us.
func onItsOwn(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
}
