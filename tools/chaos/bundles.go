package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"vexillum/internal/bundle"
	"vexillum/internal/wire"
)

// sendBundle makes a bundle of a run's scene and a few MiB beside it, and sends it until
// the service has all of it.
func (f *farm) sendBundle(ctx context.Context, r *rand.Rand, s submitted) (id string, err error) {
	folder := filepath.Join(f.dir, "home", s.job)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return "", err
	}
	text, err := os.ReadFile(filepath.Join(f.dir, "scenes", s.scene))
	if err != nil {
		return "", err
	}
	smoke := make([]byte, 600<<10+r.IntN(1200<<10))
	_, _ = rand.NewChaCha8([32]byte{byte(r.Uint32()), byte(r.Uint32())}).Read(smoke) // it never fails
	for name, data := range map[string][]byte{s.scene: text, "smoke.bin": smoke} {
		if err := os.WriteFile(filepath.Join(folder, name), data, 0o644); err != nil {
			return "", err
		}
	}
	g, err := bundle.Gather(ctx, bundle.Gathering{
		Folder: folder, Scene: s.scene, More: []bundle.Reference{{Name: "smoke.bin", Cache: true}},
	})
	if err != nil {
		return "", err
	}
	err = f.until(ctx, "the bundle of "+s.job+" is sent", func() bool {
		state, err := f.sendOnce(ctx, g.Manifest, folder)
		return err == nil && len(state.Missing) == 0
	})
	f.sent = append(f.sent, g.Manifest)
	return g.Manifest.ID(), err
}

// bundlesOf is where the bundles of the good project are.
const bundlesOf = "/api/v1/projects/salt-clock/bundles"

// sendOnce sends what the service lacks of a bundle, as far as that goes.
func (f *farm) sendOnce(ctx context.Context, m *bundle.Manifest, folder string) (state wire.BundleState, err error) {
	send := func(method, path string, data []byte, out any) error {
		once, cancel := context.WithTimeout(ctx, 5*time.Second)
		defer cancel()
		return f.admin.Send(once, method, path, "application/octet-stream", data, out)
	}
	if err := send(http.MethodPost, bundlesOf, m.Encode(), &state); err != nil {
		return state, err
	}
	for _, missing := range state.Missing {
		for _, file := range m.Files {
			if file.Hash != missing.Hash {
				continue
			}
			data, err := os.ReadFile(filepath.Join(folder, file.Path))
			if err != nil {
				return state, err
			}
			for _, i := range missing.Pieces {
				offset, length := file.Range(i)
				path := fmt.Sprintf(bundlesOf+"/%s/contents/%s/%d", state.ID, file.Hash, i)
				if err := send(http.MethodPut, path, data[offset:offset+length], nil); err != nil {
					return state, err
				}
			}
		}
	}
	return state, send(http.MethodPost, bundlesOf, m.Encode(), &state)
}

// spoilContents does something to what a node keeps of bundles, as somebody might who
// needs the disk: it goes, or some of it is cut off.
func (f *farm) spoilContents(r *rand.Rand) bool {
	dir := filepath.Join(f.dir, nodeName(r.IntN(nodes)), "contents")
	files, err := filepath.Glob(filepath.Join(dir, "c*", "*", "*"))
	if err != nil || len(files) == 0 {
		return false
	}
	name := files[r.IntN(len(files))]
	if r.IntN(2) == 0 {
		return os.Remove(name) == nil
	}
	return os.Truncate(name, int64(r.IntN(1000))) == nil
}
