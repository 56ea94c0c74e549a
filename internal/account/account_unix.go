//go:build unix

package account

import "os"

func canSwitch() bool { return os.Geteuid() == 0 }

func ownGroups() []int {
	groups, err := os.Getgroups()
	if err != nil {
		return nil
	}
	return groups
}
