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

// Reader looks at scenes inside a folder that is open as root. The scene that
// commands are told of is a path inside it, with slashes.
func Reader(ctx context.Context, root *os.Root, scene string) recipe.SceneReader {
	return recipe.SceneReader{
		Read: func(name string) ([]byte, error) {
			file, err := plainfile.OpenIn(root, filepath.FromSlash(name))
			if err != nil {
				return nil, err
			}
			defer file.Close()
			return io.ReadAll(io.LimitReader(file, MostLookedAt))
		},
		Run: func(command []string) ([]byte, error) {
			return ask(ctx, command, filepath.Join(root.Name(), filepath.FromSlash(scene)))
		},
	}
}

// ask runs a command of a recipe that prints JSON about a scene. Where this
// machine does not have the program it says nothing: an empty object.
func ask(ctx context.Context, command []string, scene string) ([]byte, error) {
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
