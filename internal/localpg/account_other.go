//go:build !linux

package localpg

import "os/exec"

// account is never needed here: the server runs as ourselves.
type account struct {
	name     string
	uid, gid int
}

func findAccount() (*account, error) { return nil, nil }

func (a *account) apply(*exec.Cmd) {}
