package bundle

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
)

// Keep takes a bundle into a store from the folder that it was gathered in. What the store
// has already is not read. A file that has changed since it was gathered is an error.
func (s *Store) Keep(ctx context.Context, m *Manifest, folder string) error {
	if err := s.Put(m); err != nil {
		return err
	}
	missing, err := s.Missing(ctx, m)
	if err != nil {
		return err
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return fmt.Errorf("opening the folder of the scene: %w", err)
	}
	defer root.Close()
	for _, f := range m.Files {
		if len(missing[f.Hash]) == 0 {
			continue
		}
		if err := s.keepFile(ctx, root, f, missing[f.Hash]); err != nil {
			return fmt.Errorf("keeping %s: %w", f.Path, err)
		}
		delete(missing, f.Hash)
	}
	return nil
}

func (s *Store) keepFile(ctx context.Context, root *os.Root, f File, pieces []int) error {
	file, err := root.Open(filepath.FromSlash(f.Path))
	if err != nil {
		return err
	}
	defer file.Close()
	for _, i := range pieces {
		if err := ctx.Err(); err != nil {
			return context.Cause(ctx)
		}
		offset, length := f.Range(i)
		data := make([]byte, length)
		if _, err := file.ReadAt(data, offset); err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		if err := s.PutPiece(f.Content, i, data); err != nil {
			return err
		}
	}
	return nil
}
