package node

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"

	"vexillum/internal/core/farm"
	"vexillum/internal/plainfile"
	"vexillum/internal/wire"
)

// origin is where a launch begins: with a frame, and maybe from a checkpoint.
type origin struct {
	from int
	file string // empty: from nothing
}

// originFor returns where a launch has to begin to render a frame. Where each frame
// depends on the last that is the start of the animation, or what is behind the newest
// checkpoint.
func (w *work) originFor(frame int) origin {
	if w.lease.Recipe.Mode != farm.ModeWhole {
		return origin{from: frame}
	}
	start := origin{from: min(frame, w.lease.ShotFirst)}
	if w.lease.Recipe.Checkpoint == "" || frame <= start.from {
		return start
	}
	found, err := w.svc.checkpoint(w.stops.ctx, w.lease.ID, frame)
	if err != nil || found.Frame == nil {
		return start
	}
	w.status.set(func(n *moment) {
		n.phase, n.detail = "fetching", fmt.Sprintf("the checkpoint behind frame %d", *found.Frame)
	})
	file, err := w.getCheckpoint(found)
	w.status.set(func(n *moment) { n.phase, n.detail = "starting", "" })
	if err != nil {
		w.log.Warn("a checkpoint cannot be had; beginning at the start", "frame", *found.Frame, "error", err)
		return start
	}
	w.log.Info("going on from a checkpoint", "lease", w.lease.ID, "behind", *found.Frame)
	return origin{*found.Frame + 1, file}
}

// getCheckpoint returns the path of a checkpoint that is whole: in its place, or as the
// service has it.
func (w *work) getCheckpoint(c wire.Checkpoint) (string, error) {
	inPlace := filepath.Join(w.lease.OutputRoot, filepath.FromSlash(w.lease.Output), filepath.FromSlash(c.Name))
	if !w.host.send && isWhole(inPlace, c) == nil {
		return inPlace, nil
	}
	got := filepath.Join(w.staging, fmt.Sprintf("checkpoint-%d%s", *c.Frame, filepath.Ext(c.Name)))
	if isWhole(got, c) == nil {
		return got, nil
	}
	if err := w.svc.checkpointFile(w.stops.ctx, w.lease.ID, *c.Frame, got); err != nil {
		return "", err
	}
	if err := isWhole(got, c); err != nil {
		return "", err
	}
	return got, w.letRead(got)
}

// letRead lets the account that a renderer runs as read a file in staging.
func (w *work) letRead(path string) error {
	who, err := w.whoRenders()
	if err == nil && who.Switched() {
		err = letPass(filepath.Dir(path), who)
	}
	if err != nil {
		return err
	}
	return os.Chmod(path, 0o644)
}

// isWhole returns nil for a file that is what a checkpoint shall be.
func isWhole(path string, c wire.Checkpoint) error {
	file, err := plainfile.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	sum := sha256.New()
	n, err := io.Copy(sum, file)
	if err == nil && (n != c.Bytes || hex.EncodeToString(sum.Sum(nil)) != c.Hash) {
		err = fmt.Errorf("%s is not the checkpoint that was delivered", path)
	}
	return err
}

// checkpoint implements service.
func (a *Agent) checkpoint(ctx context.Context, lease int64, before int) (out wire.Checkpoint, err error) {
	path := fmt.Sprintf("/node/v1/leases/%d/checkpoint?before=%d", lease, before)
	return out, a.persist(ctx, http.MethodGet, path, nil, &out)
}

// checkpointFile implements service.
func (a *Agent) checkpointFile(ctx context.Context, lease int64, frame int, to string) error {
	file, err := os.Create(to)
	if err != nil {
		return err
	}
	err = a.client.Fetch(ctx, fmt.Sprintf("/node/v1/leases/%d/checkpoint/%d", lease, frame), file)
	if closing := file.Close(); err == nil {
		err = closing
	}
	return err
}
