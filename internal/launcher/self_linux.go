package launcher

import (
	"fmt"
	"os"
	"os/exec"
)

// reachable lets a command that runs under another account start this program itself, even
// where that account cannot enter the folder it is in: the command gets it as an open file.
// release is called once the command has started.
func reachable(cmd *exec.Cmd, spec Spec) (release func(), err error) {
	self, err := os.Executable()
	if err != nil || spec.Account == "" || spec.Program != self {
		return func() {}, nil //nolint:nilerr // then it is started by its path
	}
	file, err := os.Open(self)
	if err != nil {
		return nil, fmt.Errorf("opening this program for the renderer: %w", err)
	}
	cmd.ExtraFiles = []*os.File{file}
	cmd.Path = fmt.Sprintf("/proc/self/fd/%d", firstExtraFile)
	return func() { _ = file.Close() }, nil
}

// firstExtraFile is the number under which a command has the first of its ExtraFiles.
const firstExtraFile = 3
