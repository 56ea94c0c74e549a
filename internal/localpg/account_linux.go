package localpg

import (
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"strconv"
	"syscall"
)

// account is whom the server runs as when we are root, which PostgreSQL
// refuses to be; nil means as ourselves.
type account struct {
	name     string
	uid, gid int
}

func findAccount() (*account, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("PostgreSQL does not run as root, and the account postgres is missing: %w", err)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	return &account{name: u.Username, uid: uid, gid: gid}, nil
}

// apply lets cmd run as the account, in a process group of its own so that
// Ctrl-C does not reach it before us, and end with us.
func (a *account) apply(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGINT}
	if a != nil {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(a.uid), Gid: uint32(a.gid)}
	}
}
