package node

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"vexillum/internal/publish"
	"vexillum/internal/wire"
)

// Times of looking at places.
const (
	looksAtPlaces = 5 * time.Minute // while all is well
	looksSoon     = 20 * time.Second
	placeAnswers  = 10 * time.Second // until a storage is thought to hang
)

// Bounds of measuring how fast a place is.
const (
	placeProbe   = 4 << 20 // bytes
	leastMeasure = 64 << 10
	placeEntries = 200 // that are looked at for a file to read
)

// rates are how fast a place was found to be, in bytes a second.
type rates struct{ read, write int64 }

// placeWatch looks at places again and again.
type placeWatch struct {
	a        *Agent
	measured map[string]rates              // by path
	under    map[wire.NodePlace]chan sight // looks that have not come to their end
}

// sight is what came of a look.
type sight struct {
	seen wire.PlaceSeen
	fast rates
}

// watchPlaces looks at the places of projects, and tells the service what this node
// sees of them: at the begin, when they are others, and now and then.
func (a *Agent) watchPlaces(ctx context.Context) {
	w := &placeWatch{a: a, measured: map[string]rates{}, under: map[wire.NodePlace]chan sight{}}
	// All nodes may have come at the same moment: how fast places are is measured later.
	wait, measure := looksSoon/2+rand.N(looksSoon), false
	for {
		var in wire.NodePlaces
		if err := a.persist(ctx, http.MethodGet, "/node/v1/places", nil, &in); err != nil {
			return
		}
		a.placesMark.Store(&in.Mark)
		out := wire.PlacesSeen{Session: a.session, Places: []wire.PlaceSeen{}}
		for _, p := range in.Places {
			seen := w.look(ctx, p, measure)
			if seen.Why != "" {
				wait = looksSoon
			}
			out.Places = append(out.Places, seen)
		}
		if err := a.persist(ctx, http.MethodPost, "/node/v1/places", out, nil); err != nil {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-a.otherPlaces:
		case <-time.After(wait):
			measure = true
		}
		wait = looksAtPlaces
	}
}

// look looks at one place. What hangs is left behind, and goes on when the storage does:
// no second look is begun beside it.
func (w *placeWatch) look(ctx context.Context, p wire.NodePlace, measure bool) wire.PlaceSeen {
	done := w.under[p]
	if done == nil {
		done = make(chan sight, 1)
		w.under[p] = done
		eye, known := placeEye{w.a.me.Name, w.a.life, measure}, w.measured[p.Path]
		go func() {
			seen, fast := eye.see(p, known)
			done <- sight{seen, fast}
		}()
	}
	select {
	case s := <-done:
		delete(w.under, p)
		w.measured[p.Path] = s.fast
		return s.seen
	case <-ctx.Done():
	case <-time.After(placeAnswers):
	}
	return wire.PlaceSeen{Name: p.Name, Why: fmt.Sprintf("%s does not answer within %v", p.Path, placeAnswers)}
}

// placeEye looks at places for a node of a farm.
type placeEye struct {
	node, life string
	measure    bool // how fast they are, once
}

// see looks at a place.
func (l placeEye) see(p wire.NodePlace, known rates) (wire.PlaceSeen, rates) {
	out := wire.PlaceSeen{Name: p.Name}
	no := func(text string, args ...any) (wire.PlaceSeen, rates) {
		out.Why = fmt.Sprintf(text, args...)
		return out, known
	}
	if p.Path == "" {
		return no("the place %s has no path on this system", p.Name)
	}
	entries, err := firstEntries(p.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return no("there is no folder %s", p.Path)
	case errors.Is(err, fs.ErrPermission):
		return no("%s may not be read", p.Path)
	case err != nil:
		return no("%s cannot be read: %v", p.Path, err)
	}
	marked := publish.Marked(p.Path, l.life) == nil
	if p.Reads {
		if len(entries) == 0 {
			return no("%s is empty, so it may be a mount point without its storage", p.Path)
		}
		out.Reads = true
		if known.read == 0 && l.measure {
			known.read = readRate(p.Path, entries)
		}
	}
	if p.Writes {
		if !marked {
			return no("%s has no mark of this farm, so it may be an empty mount point", p.Path)
		}
		bytes := 0
		if known.write == 0 && l.measure {
			bytes = placeProbe
		}
		rate, err := l.writeRate(p.Path, bytes)
		if err != nil {
			return no("%s cannot be written to: %v", p.Path, err)
		}
		out.Writes, known.write = true, max(known.write, rate)
	}
	out.ReadRate, out.WriteRate = known.read, known.write
	return out, known
}

// firstEntries returns some of what stands in a folder.
func firstEntries(path string) ([]fs.DirEntry, error) {
	dir, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	entries, err := dir.ReadDir(placeEntries)
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return entries, err
}

// readRate returns how fast the largest of some files is read; 0 where all are small.
func readRate(path string, entries []fs.DirEntry) int64 {
	largest, most := "", int64(leastMeasure)
	look := func(folder string, entries []fs.DirEntry) {
		for _, e := range entries {
			if info, err := e.Info(); err == nil && info.Mode().IsRegular() && info.Size() > most {
				largest, most = filepath.Join(folder, e.Name()), info.Size()
			}
		}
	}
	look(path, entries)
	for i, e := range entries {
		if e.IsDir() && i < placeEntries/10 {
			folder := filepath.Join(path, e.Name())
			if inside, err := firstEntries(folder); err == nil {
				look(folder, inside)
			}
		}
	}
	if largest == "" {
		return 0
	}
	file, err := os.Open(largest)
	if err != nil {
		return 0
	}
	defer file.Close()
	begin := time.Now()
	n, err := io.Copy(io.Discard, io.LimitReader(file, placeProbe))
	if err != nil || n < leastMeasure {
		return 0
	}
	return int64(float64(n) / max(1e-6, time.Since(begin).Seconds()))
}

// writeRate writes a file, makes it durable and removes it; 0 where it is empty. One
// that an earlier process has left is written over.
func (l placeEye) writeRate(path string, bytes int) (int64, error) {
	name := filepath.Join(path, ".vexillum-probe-"+l.node)
	file, err := os.Create(name)
	if err != nil {
		return 0, err
	}
	defer os.Remove(name)
	data := make([]byte, bytes)
	for i := range data { // what is all alike some storages do not write
		data[i] = byte(rand.Uint32())
	}
	begin := time.Now()
	_, err = file.Write(data)
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil || bytes == 0 {
		return 0, err
	}
	return int64(float64(bytes) / max(1e-6, time.Since(begin).Seconds())), nil
}
