package node

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"vexillum/internal/picture"
	"vexillum/internal/wire"
)

// checkTimeout bounds the command with which a recipe looks at a file.
const checkTimeout = 2 * time.Minute

// ownCheck runs the command of a recipe that looks at a finished file, as the renderer that
// made it. A *picture.FaultError says what it found.
func (c *commands) ownCheck(
	ctx context.Context, words []string, folder string, as wire.LaunchValues, of int64, with map[string]string,
) error {
	got, err := c.run(ctx, command{
		words: filled(words, with), account: as.Account, group: as.Group, folder: folder,
		of: of, within: checkTimeout,
	})
	switch {
	case errors.Is(err, errTooLong):
		return fmt.Errorf("the check %s took longer than %v", words[0], checkTimeout)
	case err != nil:
		return fmt.Errorf("the check %s cannot be run: %w", words[0], err)
	case got.how == "":
		return nil
	}
	line, _, _ := strings.Cut(cmp.Or(strings.TrimSpace(got.out), strings.TrimSpace(got.complaint)), "\n")
	if line == "" {
		line = "it says nothing"
	}
	return &picture.FaultError{Reason: fmt.Sprintf("the check %s refuses it: %.300s", words[0], line)}
}
