//go:build unix

package cli

import (
	"context"
	"os"
	"syscall"
)

// become puts a program in the place of this one.
func become(_ context.Context, path string, args []string) error {
	return syscall.Exec(path, args, os.Environ())
}
