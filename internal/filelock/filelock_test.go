package filelock

import (
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"testing"
)

func TestALockIsTakenOnce(t *testing.T) {
	path := filepath.Join(t.TempDir(), "lock")
	release, err := Take(path)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Take(path); !errors.Is(err, ErrTaken) {
		t.Errorf("it can be taken twice: %v", err)
	}
	release()
	release()
	again, err := Take(path)
	if err != nil {
		t.Fatalf("it is not free again: %v", err)
	}
	again()
	if _, err := Take(filepath.Join(path, "none")); err == nil || errors.Is(err, ErrTaken) {
		t.Errorf("in a folder that is not there: %v", err)
	}
}

// TestALockIsNoLink does not open what somebody has put in the place of the file.
func TestALockIsNoLink(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("links need rights there")
	}
	dir := t.TempDir()
	if err := os.Symlink(filepath.Join(dir, "other"), filepath.Join(dir, "lock")); err != nil {
		t.Fatal(err)
	}
	if _, err := Take(filepath.Join(dir, "lock")); err == nil {
		t.Error("a link is followed")
	}
	if _, err := os.Lstat(filepath.Join(dir, "other")); err == nil {
		t.Error("what the link names was made")
	}
}
