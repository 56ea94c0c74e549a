package node

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"vexillum/internal/picture"
	"vexillum/internal/recipe"
)

// checkTimeout bounds the command with which a recipe looks at a file.
const checkTimeout = 2 * time.Minute

// ownCheck runs the command of a recipe that looks at a finished file. A
// *picture.FaultError says what it found.
func ownCheck(ctx context.Context, command []string, with map[string]string) error {
	ctx, cancel := context.WithTimeout(ctx, checkTimeout)
	defer cancel()
	words := make([]string, len(command))
	for i, text := range command {
		words[i] = recipe.Fill(text, with)
	}
	program := words[0]
	if command[0] == "{vexillum}" {
		var err error
		if program, err = os.Executable(); err != nil {
			return fmt.Errorf("finding this program: %w", err)
		}
	}
	cmd := exec.CommandContext(ctx, program, words[1:]...)
	cmd.WaitDelay = time.Second
	out, err := cmd.CombinedOutput()
	var bad *exec.ExitError
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return fmt.Errorf("the check %s took longer than %v", command[0], checkTimeout)
	case errors.As(err, &bad):
		line, _, _ := strings.Cut(string(bytes.TrimSpace(out)), "\n")
		if line == "" {
			line = "it says nothing"
		}
		return &picture.FaultError{Reason: fmt.Sprintf("the check %s refuses it: %.300s", command[0], line)}
	}
	return fmt.Errorf("the check %s cannot be run: %w", command[0], err)
}
