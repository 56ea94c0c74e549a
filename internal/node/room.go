package node

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"sync"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/shirou/gopsutil/v4/disk"
)

// room watches how much the staging area holds. A renderer that is faster than
// its frames can be delivered must not fill the disk of somebody's machine.
type room struct {
	folder string
	limit  int64 // bytes that frames may take up; 0 for no limit

	mu     sync.Mutex
	looked time.Time
	over   string // why frames that wait to be delivered take up too much
	low    string // why the disk has too little left
}

const (
	// roomEvery is how long a look at the disk counts.
	roomEvery = time.Second
	// keepFree is what is left free of the disk in any case, unless that is
	// more than a twentieth of it.
	keepFree = 1 << 30
)

func (r *room) setLimit(limit int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.limit, r.looked = limit, time.Time{}
}

// full returns why no further frame may be begun now, or "". The limit holds
// nothing up when no frame waits to be delivered: waiting would free nothing.
func (r *room) full(now time.Time, frameWaits bool) string {
	if r == nil {
		return ""
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if now.Sub(r.looked) >= roomEvery || now.Before(r.looked) {
		r.looked, r.over, r.low = now, r.lookAtFrames(), r.lookAtDisk()
	}
	if r.low == "" && frameWaits {
		return r.over
	}
	return r.low
}

func (r *room) lookAtFrames() string {
	if r.limit <= 0 {
		return ""
	}
	held := heldBytes(r.folder)
	if held < r.limit {
		return ""
	}
	return fmt.Sprintf(
		"frames that are not delivered yet take up %s, and %s is the limit of the staging disk",
		humanize.IBytes(uint64(held)), humanize.IBytes(uint64(r.limit)),
	)
}

func (r *room) lookAtDisk() string {
	d, err := disk.Usage(r.folder)
	if err != nil || d.Total == 0 {
		return ""
	}
	if least := min(keepFree, d.Total/20); d.Free < least {
		return fmt.Sprintf(
			"the staging disk has %s free, less than the %s that must stay free", humanize.IBytes(d.Free),
			humanize.IBytes(least),
		)
	}
	return ""
}

// heldBytes returns how much the frames of leases take up: all files but those of
// their scenes.
func heldBytes(folder string) (all int64) {
	_ = filepath.WalkDir(folder, func(at string, entry fs.DirEntry, err error) error {
		if err != nil {
			return nil //nolint:nilerr // it was removed just now
		}
		if entry.IsDir() && entry.Name() == sceneFolder && filepath.Dir(filepath.Dir(at)) == filepath.Clean(folder) {
			return filepath.SkipDir
		}
		if info, err := entry.Info(); err == nil && !errors.Is(err, fs.ErrNotExist) && info.Mode().IsRegular() {
			all += info.Size()
		}
		return nil
	})
	return all
}

// full returns why no further frame may be begun now, or "".
func (w *work) full() string { return w.host.room.full(time.Now(), w.offers.waiting.Load() > 0) }

// waitForRoom waits until a further frame may be begun, and says why it has
// to wait.
func (w *work) waitForRoom(ctx context.Context) {
	for told := false; ; told = true {
		why := w.full()
		if why == "" {
			if told {
				w.status.set(func(n *moment) { n.noRoom = "" })
			}
			return
		}
		if !told && w.host.contents != nil {
			w.host.contents.makeRoom()
		}
		if !told {
			w.log.Warn("a frame waits for room", "lease", w.lease.ID, "why", why)
			w.status.set(func(n *moment) { n.phase, n.frame, n.noRoom = "waiting", nil, why })
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(roomEvery):
		}
		if w.stops.bordered() {
			return
		}
	}
}
