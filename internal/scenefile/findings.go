package scenefile

import (
	"context"
	"fmt"
	"os"
	"time"

	"vexillum/internal/recipe"
)

// Findings are what was found of the files that a scene needs.
type Findings struct {
	Pin     string   // of the scene with all of them; empty where it is not known
	Why     string   // why it is not
	Bytes   int64    // of the scene and all of them
	Missing []string // names of files that are not there, each with who names it
	Outside []string // names of files that lie outside the place, in the same way
	Gaps    []string // simulation caches that are there in part, as sentences
}

// Pinned looks at what a scene needs for a while at most. What cannot be looked at is no
// error: the scene alone counts then.
func Pinned(
	ctx context.Context, l *Looker, root, scene string, r *recipe.Recipe, with []string, within time.Duration,
) Findings {
	ctx, cancel := context.WithTimeoutCause(
		ctx, within, fmt.Errorf("what it needs could not be looked at within %v: %w", within, os.ErrDeadlineExceeded),
	)
	defer cancel()
	pin, err := l.Pin(ctx, root, scene, r, with)
	if err != nil && ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	if err != nil {
		return Findings{Why: err.Error()}
	}
	return Findings{Pin: pin.Hash, Bytes: pin.Bytes, Missing: pin.Missing, Outside: pin.Outside, Gaps: pin.Gaps}
}
