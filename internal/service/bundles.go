package service

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

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

	mu   sync.Mutex
	read map[string]*bundle.Manifest // by name; few, as they are large
}

// mostRead bounds the manifests that are kept in memory.
const mostRead = 64

func openBundles(folder string, most int64) (*bundles, error) {
	b := &bundles{most: most, read: map[string]*bundle.Manifest{}}
	if folder == "" {
		return b, nil
	}
	var err error
	b.store, err = bundle.Open(folder)
	return b, err
}

// manifest returns a bundle by its name, or a *refusal.Refusal.
func (b *bundles) manifest(id string) (*bundle.Manifest, error) {
	if b.store == nil {
		return nil, refusal.New(refusal.Conflict, "bundle", "this service has no folder in which it could keep bundles")
	}
	b.mu.Lock()
	m := b.read[id]
	b.mu.Unlock()
	if m != nil {
		return m, nil
	}
	m, err := b.store.Manifest(id)
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
	b.read[id] = m
	b.mu.Unlock()
	return m, nil
}

// content returns a content of a bundle.
func (b *bundles) content(id, hash string) (bundle.Content, error) {
	m, err := b.manifest(id)
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

// PutBundle takes in the manifest of a bundle, and says which pieces of its contents
// are still to be sent.
func (s *Service) PutBundle(data []byte) (wire.BundleState, error) {
	if s.bundles.store == nil {
		_, err := s.bundles.manifest("")
		return wire.BundleState{}, err
	}
	m, err := bundle.Read(data)
	if err != nil {
		return wire.BundleState{}, refusal.New(refusal.Invalid, "", "%v", err)
	}
	if err := s.bundles.store.Put(m); err != nil {
		return wire.BundleState{}, err
	}
	return s.bundles.state(m)
}

func (b *bundles) state(m *bundle.Manifest) (wire.BundleState, error) {
	out := wire.BundleState{ID: m.ID(), Bytes: m.Bytes(), Files: len(m.Files), Missing: []wire.MissingContent{}}
	missing, err := b.store.Missing(m)
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

// PutPiece takes in a piece of a content.
func (s *Service) PutPiece(id, hash string, piece int, data []byte) error {
	c, err := s.bundles.content(id, hash)
	if err != nil {
		return err
	}
	if piece >= c.Count() {
		return refusal.New(refusal.NotFound, "piece", "the content %.12s has %d pieces", hash, c.Count())
	}
	err = s.bundles.store.PutPiece(c, piece, data)
	if errors.Is(err, bundle.ErrWrongPiece) {
		return refusal.New(
			refusal.Invalid, "piece", "piece %d of %.12s is not what its hash says; send it again", piece, hash,
		)
	}
	return err
}

// Bundle returns the manifest of a bundle.
func (s *Service) Bundle(id string) (*bundle.Manifest, error) { return s.bundles.manifest(id) }

// Piece returns a piece of a content.
func (s *Service) Piece(id, hash string, piece int) ([]byte, error) {
	c, err := s.bundles.content(id, hash)
	if err != nil {
		return nil, err
	}
	data, err := s.bundles.store.ReadPiece(c, piece)
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
func (s *Service) wholeBundle(id string) (*bundle.Manifest, error) {
	m, err := s.bundles.manifest(id)
	if err != nil {
		return nil, err
	}
	state, err := s.bundles.state(m)
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
		for _, id := range ids {
			m, err := s.bundles.manifest(id)
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
	}
}

// bundledScene returns the bundle that a submission's scene is in, and notes its hash
// and how much of it is new against the one before of the job.
func (s *Service) bundledScene(spec *farm.Spec, before string) (*bundle.Manifest, error) {
	m, err := s.wholeBundle(spec.Bundle)
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
	if b, err := s.bundles.manifest(before); err == nil { // else nodes are thought to lack all of it
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
