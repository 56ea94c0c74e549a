package account

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"syscall"
	"time"
)

// Bounds of creating an account.
const (
	createTime = 30 * time.Second
	createLock = "/run/lock/vexillum-account"
)

// CreateSystem creates a system account that nobody can sign in to, with a group of its own
// and no home folder. It does nothing where the account is there: several node processes may
// start at once.
func CreateSystem(name string) error {
	lock, err := os.OpenFile(createLock, os.O_CREATE|os.O_RDWR, 0o600)
	if err == nil {
		defer lock.Close()
		if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
			return fmt.Errorf("waiting for another node process: %w", err)
		}
	}
	if _, err := lookup(name); err == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), createTime)
	defer cancel()
	out, err := exec.CommandContext(
		ctx, "useradd", "--system", "--user-group", "--no-create-home", "--home-dir", "/nonexistent", "--shell",
		"/usr/sbin/nologin", name,
	).CombinedOutput()
	if err != nil {
		return fmt.Errorf("useradd: %w: %.200s", err, bytes.TrimSpace(out))
	}
	return nil
}
