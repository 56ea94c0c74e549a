package plainfile

const dontWait = 0

func refusedSpecial(error) bool { return false }
