package launcher

import (
	"errors"
	"os/exec"
	"syscall"
)

// onItsOwn lets the launcher outlive us and the terminal.
func onItsOwn(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{CreationFlags: syscall.CREATE_NEW_PROCESS_GROUP}
}

var errLocked = errors.New("another launcher works in this folder")

// lockFile keeps a file open that nobody else may open while we have it.
func lockFile(path string) (release func(), err error) {
	name, err := syscall.UTF16PtrFromString(path)
	if err != nil {
		return nil, err
	}
	handle, err := syscall.CreateFile(
		name, syscall.GENERIC_WRITE, 0, nil, syscall.OPEN_ALWAYS, syscall.FILE_ATTRIBUTE_NORMAL, 0,
	)
	if err != nil {
		return nil, errLocked
	}
	return func() { _ = syscall.CloseHandle(handle) }, nil
}

func shortPath(path string) (short string, done func(), err error) { return path, func() {}, nil }
