package demo

import "os/exec"

func onItsOwn(*exec.Cmd) {}
