//go:build unix && !linux

package launcher

import "syscall"

func dieWithUs(*syscall.SysProcAttr) {}
