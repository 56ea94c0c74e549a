package node

import "syscall"

// dieWithUs lets the kernel kill a renderer when the node process is killed.
func dieWithUs(attr *syscall.SysProcAttr) { attr.Pdeathsig = syscall.SIGKILL }
