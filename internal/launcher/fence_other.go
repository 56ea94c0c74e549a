//go:build unix && !linux

package launcher

import (
	"os/exec"
	"syscall"
)

// Control groups are known on Linux alone.
type (
	fences struct{}
	fence  struct{}
)

func (*fence) end() (peak int64, killed bool) { return 0, false }
func (*fence) abandon()                       {}
func (*fence) kill()                          {}

func (*fences) fence(*syscall.SysProcAttr, int64) *fence { return nil }

func limitMemory(int, int64) {}

func holdMemory(*exec.Cmd, int64) bool { return false }

func pin([]int) (unpin func() error, err error) { return func() error { return nil }, nil }

// rssUnit is what the system counts the memory of ended processes in.
const rssUnit = 1
