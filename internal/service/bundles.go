package service

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"sync"
	"time"

	"github.com/dustin/go-humanize"

	"vexillum/internal/bundle"
	"vexillum/internal/core/farm"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// bundles are what a service keeps of scenes that come with all that they need.
type bundles struct {
	store *bundle.Store // nil: this service has no folder for them
	most  int64         // bytes of contents, besides what open runs need

	folder  string
	reading chan struct{} // a slot for a manifest that is looked at

	mu   sync.Mutex
	lent map[loan]lent
	read map[string]*bundle.Manifest // by project and name; few, as they are large
}

// mostRead bounds the manifests that are kept in memory.
const mostRead = 64

func openBundles(folder string, most int64) (*bundles, error) {
	b := &bundles{
		most: most, folder: folder, reading: make(chan struct{}, 1), read: map[string]*bundle.Manifest{},
		lent: map[loan]lent{},
	}
	if folder == "" {
		return b, nil
	}
	var err error
	if b.store, err = bundle.Open(folder); err == nil {
		b.store.Durable()
	}
	return b, err
}

var errNoFolder = refusal.New(refusal.Conflict, "bundle", "this service has no folder in which it could keep bundles")

// manifest returns a bundle of a project by its name, or a *refusal.Refusal.
func (b *bundles) manifest(project, id string) (*bundle.Manifest, error) {
	if b.store == nil {
		return nil, errNoFolder
	}
	key := project + "/" + id
	b.mu.Lock()
	m := b.read[key]
	b.mu.Unlock()
	if m != nil {
		return m, nil
	}
	m, err := b.store.For(project).Manifest(id)
	if errors.Is(err, bundle.ErrNotHere) {
		return nil, refusal.New(refusal.NotFound, "bundle", "there is no bundle %.12s; send it first", id)
	}
	if err != nil {
		return nil, err
	}
	b.mu.Lock()
	if len(b.read) >= mostRead {
		clear(b.read)
	}
	b.read[key] = m
	b.mu.Unlock()
	return m, nil
}

// content returns a content of a bundle.
func (b *bundles) content(project, id, hash string) (bundle.Content, error) {
	m, err := b.manifest(project, id)
	if err != nil {
		return bundle.Content{}, err
	}
	for _, f := range m.Files {
		if f.Hash == hash {
			return f.Content, nil
		}
	}
	return bundle.Content{}, refusal.New(refusal.NotFound, "hash", "the bundle %.12s has no content %.12s", id, hash)
}

// Bounds of what one project keeps on a service.
const (
	mostBundlesOf = 5000 // manifests
	mostUploadsOf = 200_000
	staleAfter    = 24 * time.Hour // without a piece, an upload is dropped
)

// admit refuses a bundle that a project has no room for.
func (b *bundles) admit(project string, m *bundle.Manifest) error {
	of := b.store.For(project)
	used, lacks := of.Usage(), int64(0)
	for _, c := range m.Contents() {
		if !of.Has(c) {
			lacks += c.Size
		}
	}
	most := b.most / 2
	switch {
	case used.Bundles >= mostBundlesOf:
		return refusal.New(
			refusal.NoRoom, "bundle", "the project %s keeps %d bundles already; those that no open run needs go within %v",
			project, used.Bundles, staleAfter,
		)
	case used.Uploads > mostUploadsOf:
		return refusal.New(
			refusal.NoRoom, "bundle", "the project %s is sending %d files already; finish that, or wait %v", project,
			used.Uploads, staleAfter,
		)
	case lacks > 0 && used.Bytes+lacks > most:
		return refusal.New(
			refusal.NoRoom, "bundle", "the project %s has %s of contents here, and with %s more it would have over %s, its "+
				"part of what the service keeps", project, humanize.IBytes(uint64(used.Bytes)),
			humanize.IBytes(uint64(lacks)), humanize.IBytes(uint64(most)),
		)
	}
	return b.room(lacks)
}

// room refuses what would take the room that the database needs.
func (b *bundles) room(bytes int64) error { return roomFor(bytes, b.folder) }

// PutBundle takes in the manifest of a bundle for a project, and says which pieces of its
// contents the project still has to send: what others have sent does not count.
func (s *Service) PutBundle(ctx context.Context, project string, data []byte) (wire.BundleState, error) {
	b := s.bundles
	if b.store == nil {
		return wire.BundleState{}, errNoFolder
	}
	f, err := s.Floor()
	if err != nil {
		return wire.BundleState{}, err
	}
	if _, err := f.Setup.Roots(ctx, project, runtime.GOOS); err != nil {
		return wire.BundleState{}, err
	}
	// Manifests may be large: one is looked at at once.
	select {
	case b.reading <- struct{}{}:
		defer func() { <-b.reading }()
	case <-ctx.Done():
		return wire.BundleState{}, ctx.Err()
	}
	m, err := bundle.Read(data)
	if err != nil {
		return wire.BundleState{}, refusal.New(refusal.Invalid, "", "%v", err)
	}
	if err := b.admit(project, m); err != nil {
		return wire.BundleState{}, err
	}
	if err := b.store.For(project).Put(m); err != nil {
		return wire.BundleState{}, err
	}
	return b.state(ctx, project, m)
}

func (b *bundles) state(ctx context.Context, project string, m *bundle.Manifest) (wire.BundleState, error) {
	out := wire.BundleState{ID: m.ID(), Bytes: m.Bytes(), Files: len(m.Files), Missing: []wire.MissingContent{}}
	missing, err := b.store.For(project).Missing(ctx, m)
	if err != nil {
		return out, err
	}
	for _, c := range m.Contents() {
		left := missing[c.Hash]
		for _, i := range left {
			_, length := c.Range(i)
			out.MissingBytes += length
		}
		if len(left) > 0 {
			out.Missing = append(out.Missing, wire.MissingContent{Hash: c.Hash, Pieces: left})
		}
	}
	return out, nil
}

// PutPiece takes in a piece of a content for a project.
func (s *Service) PutPiece(project, id, hash string, piece int, data []byte) error {
	c, err := s.bundles.content(project, id, hash)
	if err != nil {
		return err
	}
	if piece >= c.Count() {
		return refusal.New(refusal.NotFound, "piece", "the content %.12s has %d pieces", hash, c.Count())
	}
	if err := s.bundles.room(int64(len(data))); err != nil {
		return err
	}
	err = s.bundles.store.For(project).PutPiece(c, piece, data)
	if errors.Is(err, bundle.ErrWrongPiece) {
		return refusal.New(
			refusal.Invalid, "piece", "piece %d of %.12s is not what its hash says; send it again", piece, hash,
		)
	}
	return err
}

// Bundle returns the manifest of a bundle of a project.
func (s *Service) Bundle(project, id string) (*bundle.Manifest, error) {
	return s.bundles.manifest(project, id)
}

// BundleForNode returns the manifest of a bundle that a node may render from.
func (s *Service) BundleForNode(ctx context.Context, node farm.NodeID, id string) (*bundle.Manifest, error) {
	f, err := s.Floor()
	if err != nil {
		return nil, err
	}
	project, known := s.bundles.lentTo(node, id, s.o.Now())
	if !known { // each piece asks, and the loop need not
		if project, err = f.Fleet.BundleOf(ctx, node, id); err != nil {
			return nil, err
		}
		s.bundles.lend(node, id, project, s.o.Now(), lentFor)
	}
	return s.bundles.manifest(project, id)
}

// loan is a bundle that a node may have for a while.
type loan struct {
	node farm.NodeID
	id   string
}

// lent is whose it is, and until when it is not asked again.
type lent struct {
	project string
	until   time.Time
}

const (
	lentFor  = 20 * time.Second
	mostLent = 10_000
)

func (b *bundles) lentTo(node farm.NodeID, id string, now time.Time) (project string, known bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	l, known := b.lent[loan{node, id}]
	return l.project, known && now.Before(l.until)
}

func (b *bundles) lend(node farm.NodeID, id, project string, now time.Time, span time.Duration) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.lent) >= mostLent {
		clear(b.lent)
	}
	b.lent[loan{node, id}] = lent{project, now.Add(span)}
}

// Piece returns a piece of a content of a bundle that a node may render from.
func (s *Service) Piece(ctx context.Context, node farm.NodeID, id, hash string, piece int) ([]byte, error) {
	m, err := s.BundleForNode(ctx, node, id)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(m.Files, func(f bundle.File) bool { return f.Hash == hash })
	if i < 0 {
		return nil, refusal.New(refusal.NotFound, "hash", "the bundle %.12s has no content %.12s", id, hash)
	}
	data, err := s.bundles.store.ReadPiece(m.Files[i].Content, piece)
	if errors.Is(err, bundle.ErrNotHere) {
		return nil, refusal.New(
			refusal.NotFound, "piece",
			"the service does not have piece %d of %.12s any more; send the bundle again, and the runs go on", piece,
			hash,
		)
	}
	return data, err
}

// wholeBundle returns the manifest of a bundle that a run can be submitted with.
func (s *Service) wholeBundle(ctx context.Context, project, id string) (*bundle.Manifest, error) {
	m, err := s.bundles.manifest(project, id)
	if err != nil {
		return nil, err
	}
	state, err := s.bundles.state(ctx, project, m)
	if err != nil {
		return nil, err
	}
	if state.MissingBytes > 0 {
		return nil, refusal.New(
			refusal.Conflict, "bundle", "%d bytes of the bundle %.12s are not here yet; send them first",
			state.MissingBytes, id,
		)
	}
	return m, nil
}

// sweepEvery is how often contents are taken away of which there are too many.
const sweepEvery = 10 * time.Minute

// sweepContents keeps the contents within their limit: what open runs need stays.
func (s *Service) sweepContents(ctx context.Context, f *floor.Floor) {
	if s.bundles.store == nil {
		return
	}
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(sweepEvery):
		}
		ids, err := f.Queue.Bundles(ctx)
		if err != nil {
			continue
		}
		needed := map[string]bool{}
		for id, project := range ids {
			m, err := s.bundles.manifest(project, id)
			if err != nil {
				continue
			}
			for _, file := range m.Files {
				needed[file.Hash] = true
			}
		}
		if _, err := s.bundles.store.Sweep(s.bundles.most, func(hash string) bool { return needed[hash] }); err != nil {
			s.o.Log.Warn("sweeping the contents of bundles", "error", err)
		}
		stale := func(id string) bool { _, open := ids[id]; return open }
		if !s.gauge.ClockIsSteady() {
			continue
		}
		if err := s.bundles.store.DropStale(s.o.Now().Add(-staleAfter), stale); err != nil {
			s.o.Log.Warn("sweeping unfinished uploads", "error", err)
		}
	}
}

// bundledScene returns the bundle that a submission's scene is in, and notes its hash
// and how much of it is new against the one before of the job.
func (s *Service) bundledScene(ctx context.Context, spec *farm.Spec, before string) (*bundle.Manifest, error) {
	m, err := s.wholeBundle(ctx, spec.Project, spec.Bundle)
	if err != nil {
		return nil, err
	}
	c, found := m.Find(spec.Scene)
	if !found {
		return nil, refusal.New(
			refusal.Invalid, "scene", "the bundle %.12s has no file %s; its scene is %s", spec.Bundle, spec.Scene,
			m.Scene,
		)
	}
	spec.SceneSHA, spec.BundleBytes = c.Hash, m.Bytes()
	if before == "" || before == spec.Bundle {
		return m, nil
	}
	if b, err := s.bundles.manifest(spec.Project, before); err == nil { // else nodes are thought to lack all of it
		spec.BundleBefore, spec.BundleNew = before, m.New(b)
	}
	return m, nil
}

// lookedAt returns the beginning of a file of a bundle.
func (b *bundles) lookedAt(m *bundle.Manifest, name string, most int64) ([]byte, bool, error) {
	c, found := m.Find(name)
	if !found {
		return nil, false, nil
	}
	var out []byte
	for i := 0; i < c.Count() && int64(len(out)) < most; i++ {
		data, err := b.store.ReadPiece(c, i)
		if err != nil {
			return nil, true, fmt.Errorf("reading %s: %w", name, err)
		}
		out = append(out, data...)
	}
	return out[:min(int64(len(out)), most)], true, nil
}
