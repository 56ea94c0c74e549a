package account

const canKeepApart = false

func canSwitch() bool { return false }

func ownGroups() []int { return nil }
