//go:build unix

package launcher

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"syscall"
)

// tree is a process group, in a control group of its own where there is one.
type tree struct {
	group  int
	fences *fences
	fenced *fence // nil where memory is not held by a control group
	held   bool   // memory is limited before the renderer begins
}

// niceness of renderers where none is asked for: the owner of the machine
// comes first.
const niceness = 10

// startMu guards what belongs to the whole launcher while a process is
// started: the mask of permissions.
var startMu sync.Mutex

func (t *tree) prepare(cmd *exec.Cmd, limits Limits) (release func(), err error) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := runAs(cmd.SysProcAttr, limits); err != nil {
		return nil, err
	}
	// The wish to die with us, and the cores, belong to the thread that forks.
	runtime.LockOSThread()
	dieWithUs(cmd.SysProcAttr)
	unpin, err := pin(limits.Cores)
	if err != nil {
		runtime.UnlockOSThread()
		return nil, err
	}
	if limits.Memory > 0 {
		t.fenced = t.fences.fence(cmd.SysProcAttr, limits.Memory)
		t.held = t.fenced == nil && holdMemory(cmd, limits.Memory)
	}
	return func() {
		if unpin() == nil { // a thread that cannot be set back ends with its goroutine
			runtime.UnlockOSThread()
		}
	}, nil
}

func (t *tree) start(cmd *exec.Cmd, limits Limits) error {
	if limits.Mask == nil {
		return t.begin(cmd)
	}
	startMu.Lock()
	defer startMu.Unlock()
	before := syscall.Umask(*limits.Mask)
	defer syscall.Umask(before)
	return t.begin(cmd)
}

// begin starts the process. Where that fails inside a control group, none is
// used from then on.
func (t *tree) begin(cmd *exec.Cmd) error {
	err := cmd.Start()
	if err != nil && t.fenced != nil {
		t.fenced.abandon()
		t.fenced = nil
	}
	return err
}

func (t *tree) started(cmd *exec.Cmd, limits Limits) error {
	nice := limits.Nice
	if nice == 0 {
		nice = niceness
	}
	t.group = cmd.Process.Pid
	_ = syscall.Setpriority(syscall.PRIO_PGRP, t.group, nice) // it may not be allowed; then it runs as it is
	if limits.Memory > 0 && t.fenced == nil && !t.held {
		limitMemory(t.group, limits.Memory)
	}
	return nil
}

// memory returns how much main memory the ended processes had at most, and
// whether they were ended for having too much.
func (t *tree) memory(cmd *exec.Cmd) (peak int64, over bool) {
	if usage, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		peak = int64(usage.Maxrss) * rssUnit
	}
	if t.fenced != nil {
		most, killed := t.fenced.end()
		peak, over = max(peak, most), killed
	}
	return peak, over
}

// runAs lets a process run under another account or group. It says in words
// why that cannot be.
func runAs(attr *syscall.SysProcAttr, limits Limits) error {
	if limits.Account == "" && limits.Group == "" {
		return nil
	}
	uid, gid := limits.UID, limits.GID
	if uid == 0 {
		var err error
		if uid, gid, err = Identify(limits.Account, limits.Group); err != nil {
			return err
		}
	}
	if uid == os.Geteuid() && (gid == os.Getegid() || os.Geteuid() != 0 && memberOf(gid)) {
		return nil // what goes into its place is given to the group then
	}
	if os.Geteuid() != 0 {
		me := fmt.Sprintf("account number %d", os.Geteuid())
		if u, err := user.Current(); err == nil {
			me = u.Username
		}
		return fmt.Errorf(
			"the node process runs as %s and cannot start renderers as %s; start it as that account, or as root", me,
			whom(limits),
		)
	}
	if uid == 0 || gid == 0 {
		return errRoot
	}
	credential := &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid), Groups: []uint32{}}
	for _, g := range limits.Groups {
		if g <= 0 {
			return errRoot
		}
		credential.Groups = append(credential.Groups, uint32(g))
	}
	attr.Credential = credential
	return nil
}

// errRoot refuses root's account and group.
var errRoot = errors.New("renderers never run as root or in its group")

func memberOf(gid int) bool {
	groups, err := os.Getgroups()
	return err == nil && slices.Contains(groups, gid)
}

func whom(limits Limits) string {
	switch {
	case limits.Group == "":
		return limits.Account
	case limits.Account == "":
		return "group " + limits.Group
	}
	return limits.Account + " in group " + limits.Group
}

// Identify returns the numbers of an account and a group, by name or number.
// An empty account is our own; an empty group is the account's. The error
// says what the machine does not know.
func Identify(account, group string) (uid, gid int, err error) {
	uid, gid = os.Geteuid(), os.Getegid()
	if account != "" {
		u, err := user.Lookup(account)
		if err != nil {
			u, err = user.LookupId(account)
		}
		if err != nil {
			return 0, 0, fmt.Errorf("this machine has no account %s", account)
		}
		if uid, err = strconv.Atoi(u.Uid); err == nil {
			gid, err = strconv.Atoi(u.Gid)
		}
		if err != nil {
			return 0, 0, fmt.Errorf("the account %s has no number here", account)
		}
	}
	if group != "" {
		g, err := user.LookupGroup(group)
		if err != nil {
			g, err = user.LookupGroupId(group)
		}
		if err != nil {
			return 0, 0, fmt.Errorf("this machine has no group %s", group)
		}
		if gid, err = strconv.Atoi(g.Gid); err != nil {
			return 0, 0, fmt.Errorf("the group %s has no number here", group)
		}
	}
	return uid, gid, nil
}

func (t *tree) ask() { t.signal(syscall.SIGTERM) }

func (t *tree) kill() {
	t.signal(syscall.SIGKILL)
	if t.fenced != nil {
		t.fenced.kill()
	}
}

func (t *tree) signal(s syscall.Signal) {
	if t.group > 1 {
		_ = syscall.Kill(-t.group, s) // an error means that nobody is left
	}
}

// keepToUs lets nobody else write to a socket, whatever file mask this process was started with:
// who can, commands the launcher.
func keepToUs(socket string) error { return os.Chmod(socket, 0o600) }
