//go:build !linux

package launcher

import "os/exec"

// reachable does nothing here: programs are started by their path.
func reachable(*exec.Cmd, Spec) (release func(), err error) { return func() {}, nil }
