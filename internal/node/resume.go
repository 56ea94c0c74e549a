package node

import (
	"fmt"
	"os"
	"path/filepath"
	"time"

	"vexillum/internal/core/protocol/journal"
	"vexillum/internal/wire"
)

// recall reads what earlier node processes were in the middle of.
func (a *Agent) recall() ([]*work, error) {
	folders, err := heldLeases(a.staging())
	if err != nil {
		return nil, err
	}
	var held []*work
	for _, folder := range folders {
		h, before, err := recallHolding(folder)
		if err != nil {
			a.o.Log.Warn("a lease's folder cannot be read; it is set aside", "folder", folder, "error", err)
			if err := a.setAside(folder, "unreadable"); err != nil {
				return nil, err
			}
			continue
		}
		w := a.newWork(&h.Lease)
		w.life, w.diary.held, w.diary.again = h.Life, before, true
		held = append(held, w)
	}
	return held, nil
}

// setAside moves a folder out of the staging area. Nothing in it is touched.
func (a *Agent) setAside(folder, why string) error {
	aside := filepath.Join(a.o.Dir, "set-aside", why)
	if err := os.MkdirAll(aside, 0o700); err != nil { // not for renderers of others
		return fmt.Errorf("setting %s aside: %w", folder, err)
	}
	to := filepath.Join(aside, fmt.Sprintf("%s-%d", filepath.Base(folder), time.Now().UnixMilli()))
	if err := os.Rename(folder, to); err != nil {
		return fmt.Errorf("setting %s aside: %w", folder, err)
	}
	a.o.Told("what " + filepath.Base(folder) + " held is not of this farm; it was set aside in " + to)
	return nil
}

// sort divides what is held by what the service says of it: leases that go
// on, and those of which only finished frames are offered. What belongs to
// another farm is set aside.
func (a *Agent) sort(held []*work, started wire.Started) []*work {
	keep := map[int64]string{}
	for _, k := range started.Keep {
		keep[k.Lease] = k.Frames
	}
	var out []*work
	for _, w := range held {
		if w.life != started.Life {
			a.endRenderer(w)
			if err := a.setAside(w.staging, "of-another-farm"); err != nil {
				a.o.Log.Error("work of another farm", "error", err)
			}
			continue
		}
		left, goesOn := keep[w.lease.ID]
		w.over = !goesOn
		w.lease.Frames = left
		out = append(out, w)
	}
	return out
}

// endRenderer ends what still runs of a lease that is not ours to finish.
func (a *Agent) endRenderer(w *work) {
	before := ask(w.diary, (*journal.Lease).Running)
	if before == nil {
		return
	}
	w.host.launcher = a.starter
	if l, err := w.adopt(before, false); err == nil {
		go func() { // nobody reads it any more
			for range l.marks { //nolint:revive // until the reader is gone
			}
		}()
		l.proc.Stop(time.Duration(w.lease.Recipe.Grace))
		<-l.proc.Gone()
		l.proc.Forget()
		close(l.marks)
	}
}
