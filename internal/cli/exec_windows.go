package cli

import (
	"context"
	"errors"
	"os"
	"os/exec"
)

// become runs a program and ends with its exit code: here no program can take the
// place of another.
func become(ctx context.Context, path string, args []string) error {
	cmd := exec.CommandContext(ctx, path, args[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	err := cmd.Run()
	var ended *exec.ExitError
	if errors.As(err, &ended) {
		return outcome{ended.ExitCode()}
	}
	return err
}
