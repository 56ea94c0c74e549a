package node

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"path/filepath"
	"sync"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/triage"
	"vexillum/internal/plainfile"
	"vexillum/internal/wire"
)

// pinned knows the contents of scenes by the size and time that their files had when
// they were read last.
type pinned struct {
	mu    sync.Mutex
	known map[string]sceneLook
}

// sceneLook is a scene as it was when it was read.
type sceneLook struct {
	size int64
	at   time.Time
	hash string
}

// mostLooks bounds the scenes that are remembered.
const mostLooks = 1000

func newPinned() *pinned { return &pinned{known: map[string]sceneLook{}} }

// look returns what a scene is now. It is read only where its size or time is another
// than when it was read last.
func (p *pinned) look(path string) (sceneLook, error) {
	file, err := plainfile.Open(path)
	if err != nil {
		return sceneLook{}, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return sceneLook{}, err
	}
	p.mu.Lock()
	known := p.known[path]
	p.mu.Unlock()
	if known.hash != "" && known.size == info.Size() && known.at.Equal(info.ModTime()) {
		return known, nil
	}
	sum := sha256.New()
	if _, err := io.Copy(sum, file); err != nil {
		return sceneLook{}, err
	}
	now := sceneLook{info.Size(), info.ModTime(), hex.EncodeToString(sum.Sum(nil))}
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.known) >= mostLooks {
		clear(p.known)
	}
	p.known[path] = now
	return now, nil
}

// changedScene is a scene that is not the one any more that the run was submitted with.
type changedScene struct {
	name, node string
	sceneLook
}

// Error says which scene has changed, and since when.
func (c *changedScene) Error() string {
	return fmt.Sprintf(
		"the scene %s has changed since the run was submitted, at %s as %s sees it", c.name, farm.Moment(c.at), c.node,
	)
}

// stillTheScene returns a *changedScene where the scene in its place is another than
// the run is rendered from. One that cannot be read is for the renderer to tell.
func (w *work) stillTheScene() error {
	if w.lease.SceneSHA == "" || w.lease.Bundle != "" || w.lease.SceneText != "" || w.host.pinned == nil {
		return nil
	}
	now, err := w.host.pinned.look(filepath.Join(w.lease.SceneRoot, filepath.FromSlash(w.lease.Scene)))
	if err != nil || now.hash == w.lease.SceneSHA {
		return nil
	}
	return &changedScene{w.lease.Scene, w.host.node, now}
}

// sceneGone reports that a frame is not begun, as its scene has changed.
func (w *work) sceneGone(launch, frame int, c *changedScene) {
	w.log.Warn("the scene has changed", "run", w.lease.RunName, "scene", c.name)
	w.report(wire.ReportItem{
		Outcome: wire.OutcomeFailed, Lease: w.lease.ID, Launch: launch, Frame: frame, Cause: triage.CauseChanged,
		Message: c.Error(), Scene: c.hash,
	})
}
