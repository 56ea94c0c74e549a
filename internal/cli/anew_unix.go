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

// hideKey starts this program anew if the key is on its command line, with the key in the
// environment: every account of the machine, and so each renderer, can read the command line of a
// process, but only its own account the environment.
func hideKey(key string) error {
	rest, shown := withoutKey(os.Args, key)
	if !shown {
		return nil
	}
	self, err := os.Executable()
	if err != nil {
		return fmt.Errorf("finding this program: %w", err)
	}
	if err := syscall.Exec(self, rest, append(os.Environ(), keyVariable+"="+key)); err != nil {
		return fmt.Errorf("taking the key off the command line: %w", err)
	}
	return nil
}

// withoutKey returns a command line without --key, and whether the key was on it.
func withoutKey(args []string, key string) (rest []string, shown bool) {
	for i := 0; i < len(args); i++ {
		switch {
		case key != "" && args[i] == "--key="+key:
			shown = true
		case key != "" && args[i] == "--key" && i+1 < len(args) && args[i+1] == key:
			shown = true
			i++
		default:
			rest = append(rest, args[i])
		}
	}
	return rest, shown
}
