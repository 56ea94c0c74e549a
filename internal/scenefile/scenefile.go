// Package scenefile is how recipes look at scenes that stand in a folder: it reads
// what they name and asks the commands that they have. What is read means nothing to
// it.
package scenefile

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"vexillum/internal/plainfile"
	"vexillum/internal/recipe"
)

// MostLookedAt bounds how much of a file is looked at, in bytes from its beginning.
const MostLookedAt = 4 << 20

// Bounds of asking commands.
const (
	mostPrinted = 1 << 20 // bytes that a command prints
	askTimeout  = 30 * time.Second
)

// Run runs a command of a recipe about a scene, whose path on this machine fills in {scene},
// and returns what it prints. A recipe is written by people: who runs its commands must do so
// under an account that may do no harm. A service runs none.
type Run func(ctx context.Context, words []string, scene string) ([]byte, error)

// Reader looks at scenes inside a folder that is open as root. The scene that
// commands are told of is a path inside it, with slashes. No command is run where run is nil.
func Reader(ctx context.Context, root *os.Root, scene string, run Run) recipe.SceneReader {
	r := recipe.SceneReader{
		Read: func(name string) ([]byte, error) {
			file, err := plainfile.OpenIn(root, filepath.FromSlash(name))
			if err != nil {
				return nil, err
			}
			defer file.Close()
			return io.ReadAll(io.LimitReader(file, MostLookedAt))
		},
	}
	if run != nil {
		r.Run = func(words []string) ([]byte, error) {
			return run(ctx, words, filepath.Join(root.Name(), filepath.FromSlash(scene)))
		}
	}
	return r
}

// RunAsSelf is a [Run] under the account of this process: for a person who tries a recipe file
// of their own on their own machine. Where the machine does not have the program, it prints
// an empty object.
func RunAsSelf(ctx context.Context, command []string, scene string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, askTimeout)
	defer cancel()
	with := map[string]string{
		"scene": scene, "scene_folder": filepath.Dir(scene),
		"scene_name": strings.TrimSuffix(filepath.Base(scene), filepath.Ext(scene)),
	}
	words := make([]string, len(command))
	for i, text := range command {
		words[i] = recipe.Fill(text, with)
	}
	if command[0] == "{vexillum}" {
		var err error
		if words[0], err = os.Executable(); err != nil {
			return nil, fmt.Errorf("finding this program: %w", err)
		}
	}
	cmd := exec.CommandContext(ctx, words[0], words[1:]...)
	cmd.WaitDelay = time.Second
	var out, complaint bytes.Buffer
	cmd.Stdout, cmd.Stderr = &capped{&out}, &capped{&complaint}
	err := cmd.Run()
	switch {
	case err == nil:
		return out.Bytes(), nil
	case errors.Is(err, exec.ErrNotFound), errors.Is(err, fs.ErrNotExist):
		return []byte("{}"), nil
	case ctx.Err() != nil:
		return nil, fmt.Errorf("it took longer than %v", askTimeout)
	}
	if line, _, _ := strings.Cut(strings.TrimSpace(complaint.String()), "\n"); line != "" {
		return nil, fmt.Errorf("%w: %.300s", err, line)
	}
	return nil, err
}

// capped takes in what a command prints up to a bound.
type capped struct{ *bytes.Buffer }

// Write implements [io.Writer].
func (c *capped) Write(p []byte) (int, error) {
	if room := mostPrinted - c.Len(); room > 0 {
		_, _ = c.Buffer.Write(p[:min(room, len(p))]) // it never fails
	}
	return len(p), nil
}
