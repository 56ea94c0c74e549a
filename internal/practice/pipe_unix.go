//go:build unix

package practice

import "syscall"

func makePipe(name string) error { return syscall.Mkfifo(name, 0o666) }
