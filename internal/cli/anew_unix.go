//go:build unix

package cli

import (
	"fmt"
	"os"
	"syscall"
)

// startAnew puts the program on disk, which may be a newer one, in the place
// of this process.
func startAnew(program string) error {
	if err := syscall.Exec(program, os.Args, os.Environ()); err != nil {
		return fmt.Errorf("starting the node process anew: %w", err)
	}
	return nil
}

// hideArgument starts this program anew if a flag with a secret is on its command line, with the
// secret in an environment variable: every account of the machine, and so each renderer, can read
// the command line of a process, but only its own account the environment.
func hideArgument(flag, secret, variable string) error {
	rest, shown := withoutArgument(os.Args, flag, secret)
	if !shown {
		return nil
	}
	self, err := os.Executable()
	if err != nil {
		return fmt.Errorf("finding this program: %w", err)
	}
	if err := os.Setenv(variable, secret); err != nil { // in the place of what it may hold already
		return fmt.Errorf("taking %s off the command line: %w", flag, err)
	}
	if err := syscall.Exec(self, rest, os.Environ()); err != nil {
		return fmt.Errorf("taking %s off the command line: %w", flag, err)
	}
	return nil
}

// withoutArgument returns a command line without a flag and its value, and whether they were on it.
func withoutArgument(args []string, flag, value string) (rest []string, shown bool) {
	for i := 0; i < len(args); i++ {
		switch {
		case value != "" && args[i] == flag+"="+value:
			shown = true
		case value != "" && args[i] == flag && i+1 < len(args) && args[i+1] == value:
			shown = true
			i++
		default:
			rest = append(rest, args[i])
		}
	}
	return rest, shown
}
