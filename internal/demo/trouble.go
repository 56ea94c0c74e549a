package demo

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"vexillum/internal/wire"
)

// What goes wrong in the demo, so that a stranger sees within minutes what the farm makes
// of it: kiln-04 is ill for a while, a shot is wrong from its first frame, one has frames
// too heavy for small nodes, one that hangs and one that fails everywhere, and the place
// of a project goes away for half a minute.

const (
	illNode = "kiln-04"
	illFor  = 150 * time.Second
	// trialAfter is how long the demo's farm waits until it tries a node again; a real one
	// has more patience.
	trialAfter = 40 * time.Second
	awayAfter  = 200 * time.Second // when the chain of steps that needs it is through
	awayFor    = 30 * time.Second
	// smallMemory is what the small nodes of the demo have for the farm.
	smallMemory = 3 << 30
)

// smallNodes are those with little memory.
var smallNodes = []string{"kiln-02", "desk-nadia", "desk-tobin"}

// sicken lets a node fail all practice scenes until some time from now.
func (f *Farm) sicken(now time.Time) error {
	ill := fmt.Sprintf(
		"  - {frames: 1-999, does: error, on: [%s], until: %s}\n", illNode, now.Add(illFor).UTC().Format(time.RFC3339),
	)
	scenes, err := filepath.Glob(filepath.Join(f.o.Dir, "scenes", "*", "*.practice"))
	if err != nil {
		return fmt.Errorf("looking for the demo's scenes: %w", err)
	}
	for _, name := range scenes {
		if strings.HasPrefix(filepath.Base(name), "flock_sim") {
			continue // a chain of steps hangs on its one frame
		}
		text, err := os.ReadFile(name)
		if err != nil {
			return fmt.Errorf("reading a scene of the demo: %w", err)
		}
		scene := string(text)
		if strings.Contains(scene, "\ntrouble:\n") {
			scene = strings.Replace(scene, "\ntrouble:\n", "\ntrouble:\n"+ill, 1)
		} else {
			scene = strings.TrimRight(scene, "\n") + "\ntrouble:\n" + ill
		}
		if err := os.WriteFile(name, []byte(scene), 0o644); err != nil {
			return fmt.Errorf("writing a scene of the demo: %w", err)
		}
	}
	return nil
}

// shrink gives the small nodes less memory for the farm.
func (f *Farm) shrink(ctx context.Context) error {
	memory := int64(smallMemory)
	change := wire.NodeChange{Caps: &wire.CapChange{MemoryBytes: &memory}}
	change.Where = "name==" + strings.Join(smallNodes, " || name==")
	if err := f.Nadia.Do(ctx, http.MethodPost, "/api/v1/node-changes", change, nil); err != nil {
		return fmt.Errorf("making some of the demo's nodes small: %w", err)
	}
	return nil
}

// wanders lets the place of a project go away for a while, and brings it back.
func (f *Farm) wanders() {
	f.background.Add(1)
	go func() {
		defer f.background.Done()
		place := filepath.Join(f.o.Dir, gannetFrames)
		away := place + ".away"
		if !f.sleeps(awayAfter) || os.Rename(place, away) != nil {
			return
		}
		f.sleeps(awayFor)
		if err := os.Rename(away, place); err != nil {
			f.o.Log.Warn("the place of the demo that went away does not come back", "err", err)
		}
	}()
}

// sleeps waits, and reports whether the demo goes on.
func (f *Farm) sleeps(d time.Duration) bool {
	select {
	case <-f.ends:
		return false
	case <-time.After(d):
		return true
	}
}
