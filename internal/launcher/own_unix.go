//go:build unix

package launcher

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"syscall"
)

// onItsOwn lets the launcher outlive us and the terminal.
func onItsOwn(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }

// longestSocket is how long the path of a socket may be on the systems that
// allow least.
const longestSocket = 100

// shortPath returns a path of the same file that is short enough for a
// socket. done is called when it is no longer needed.
func shortPath(path string) (short string, done func(), err error) {
	if len(path) <= longestSocket {
		return path, func() {}, nil
	}
	if runtime.GOOS != "linux" {
		return "", nil, fmt.Errorf("the path %s is too long for a socket; choose a shorter folder with --data", path)
	}
	dir, err := os.Open(filepath.Dir(path))
	if err != nil {
		return "", nil, fmt.Errorf("opening the node's folder: %w", err)
	}
	return fmt.Sprintf("/proc/self/fd/%d/%s", dir.Fd(), filepath.Base(path)), func() { _ = dir.Close() }, nil
}
