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
