//go:build unix

package service

import "syscall"

// oneDisk reports whether two folders are on the same file system.
func oneDisk(a, b string) bool {
	var of, with syscall.Stat_t
	return syscall.Stat(a, &of) == nil && syscall.Stat(b, &with) == nil && of.Dev == with.Dev
}
