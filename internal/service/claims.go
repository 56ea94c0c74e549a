package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/protocol/accept"
	"vexillum/internal/service/fleet"
)

// Report takes what a node reports. That a frame stands in its place is
// believed where its files are seen there, each with the bytes that it must
// have; otherwise the verdict is to deliver it again, and says why.
func (s *Service) Report(
	ctx context.Context, node farm.NodeID, session int64, reports []accept.Report,
) ([]accept.Verdict, error) {
	f, err := s.Floor()
	if err != nil {
		return nil, err
	}
	claims, err := f.Fleet.Claims(ctx, node, reports, runtime.GOOS)
	if err != nil {
		return nil, err
	}
	unseen := map[int]string{}
	var hangs error // a storage that does not answer is asked once
	for _, c := range claims {
		err := hangs
		if err == nil {
			err = within(ctx, func() error { return see(c) })
		}
		if errors.Is(err, os.ErrDeadlineExceeded) {
			hangs = err
		}
		if err != nil {
			unseen[c.Item] = fmt.Sprintf(
				"the service does not see frame %d of %s in the place %s: %v", c.Frame, c.Run, c.Place, err,
			)
		}
	}
	believed := make([]accept.Report, 0, len(reports))
	for i, r := range reports {
		if unseen[i] == "" {
			believed = append(believed, r)
		}
	}
	verdicts, err := f.Fleet.Report(ctx, node, session, believed)
	if err != nil || len(unseen) == 0 {
		return verdicts, err
	}
	out := make([]accept.Verdict, 0, len(reports))
	for i := range reports {
		if why := unseen[i]; why != "" {
			out = append(out, accept.Verdict{Deliver: true, Why: why})
			continue
		}
		out, verdicts = append(out, verdicts[0]), verdicts[1:]
	}
	return out, nil
}

// see looks whether all files of a frame stand in their place.
func see(c fleet.Claim) error {
	if c.Root == "" {
		return fmt.Errorf("it has no path on %s, where the service runs", runtime.GOOS)
	}
	root, err := os.OpenRoot(c.Root)
	if err != nil {
		return fmt.Errorf("the place is not there: %w", err)
	}
	defer root.Close()
	for _, f := range c.Files {
		found, err := root.Lstat(filepath.FromSlash(f.Path))
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return fmt.Errorf("there is no file %s", f.Path)
		case err != nil:
			return err
		case !found.Mode().IsRegular():
			return fmt.Errorf("%s is not a regular file", f.Path)
		case found.Size() != f.Bytes:
			return fmt.Errorf("%s has %d bytes, and the node reported %d", f.Path, found.Size(), f.Bytes)
		}
	}
	return nil
}
