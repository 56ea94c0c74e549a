//go:build unix

package account

import (
	"os"
	"runtime"
)

// canKeepApart says that numbers without an account can run commands.
const canKeepApart = runtime.GOOS == "linux"

func canSwitch() bool { return os.Geteuid() == 0 }

func ownGroups() []int {
	groups, err := os.Getgroups()
	if err != nil {
		return nil
	}
	return groups
}
