package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os/exec"

	"github.com/spf13/cobra"
)

// execCommand becomes another program: the recipe for any command line names this
// one as its program, so that nodes need look for no other.
func (a *app) execCommand() *cobra.Command {
	return &cobra.Command{
		Use: "exec PROGRAM ARGUMENT…", Short: "Run a program, as recipes for any command line do", Hidden: true,
		DisableFlagParsing: true, Args: cobra.ArbitraryArgs,
		RunE: func(c *cobra.Command, args []string) error { return runProgram(c.Context(), args) },
	}
}

// runProgram runs a program in place of this one where the system can, and else
// waits for it. The error says why it could not be run.
func runProgram(ctx context.Context, args []string) error {
	if len(args) == 0 {
		return usageError{errors.New("name a program to run")}
	}
	path, err := exec.LookPath(args[0])
	switch {
	case errors.Is(err, exec.ErrNotFound), errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("there is no program %s on this machine", args[0])
	case err != nil:
		return fmt.Errorf("the program %s cannot be run: %w", args[0], err)
	}
	return become(ctx, path, args)
}
