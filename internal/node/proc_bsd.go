//go:build unix && !linux

package node

import "syscall"

func dieWithUs(*syscall.SysProcAttr) {}
