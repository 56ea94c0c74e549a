package account

func canSwitch() bool { return false }

func ownGroups() []int { return nil }
