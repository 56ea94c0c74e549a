package service

import (
	"context"
	"fmt"
	"io"
	"os"
	"runtime"
	"sync"

	"vexillum/internal/core/farm"
	"vexillum/internal/launcher"
	"vexillum/internal/publish"
	"vexillum/internal/service/refusal"
)

// Upload is a frame that a node sends because it does not see its place.
type Upload struct {
	Node  farm.NodeID
	Lease farm.LeaseID
	Frame int
	Hash  string // of the frame
	Pass  string // which of its files is meant; "" is the picture itself
}

// UploadState says how much of a file is there.
type UploadState struct {
	Have     int64
	Standing publish.Standing // what stands in the frame's place, once it does
}

// target returns where a frame belongs that the node may publish now, and
// which of its files is meant.
func (s *Service) target(ctx context.Context, u Upload) (publish.Target, int, error) {
	f, err := s.Floor()
	if err != nil {
		return publish.Target{}, 0, err
	}
	d, err := f.Fleet.Delivering(ctx, u.Node, u.Lease, u.Frame, u.Hash)
	if err != nil {
		return publish.Target{}, 0, err
	}
	roots, err := f.Setup.Roots(ctx, d.Spec.Project, runtime.GOOS)
	if err != nil {
		return publish.Target{}, 0, err
	}
	to := publish.Target{
		Root: roots.Frames, Folder: d.Spec.Output, Lease: int64(u.Lease), Mark: d.Spec.Mark, Replace: d.Replace,
		Adopt: d.Adopt, Owner: ownerOf(d.Env),
	}
	files := d.Files
	if len(files) == 0 {
		files = []farm.File{{Hash: d.Hash, Bytes: d.Bytes}}
	}
	for _, pass := range append([]string{""}, d.Spec.PassNames()...) {
		to.Names = append(to.Names, publish.File{
			File: farm.File{Pass: pass}, Name: d.Spec.PassFile(pass, u.Frame),
		})
	}
	meant := -1
	for i, f := range files {
		to.Files = append(to.Files, publish.File{File: f, Name: d.Spec.PassFile(f.Pass, u.Frame)})
		if f.Pass == u.Pass {
			meant = i
		}
	}
	if meant < 0 {
		return publish.Target{}, 0, &refusal.Refusal{
			Kind: refusal.Invalid, Field: "pass", Reason: fmt.Sprintf("%s has no pass %q", d.Spec.Name(), u.Pass),
		}
	}
	return to, meant, nil
}

// ownerOf returns whose the files are that the service publishes for a node.
// Accounts and groups of the nodes that this machine does not know are left
// out: the frame matters more.
func ownerOf(env farm.LaunchSettings) publish.Owner {
	var mask *int
	if n, said := env.Permissions(); said {
		mask = &n
	}
	if env.Account == "" && env.Group == "" {
		return publish.Owner{Mask: mask}
	}
	uid, gid, err := launcher.Identify(env.Account, env.Group)
	if err != nil || os.Geteuid() != 0 || uid == 0 && env.Account != "" || gid == 0 && env.Group != "" {
		return publish.Owner{Mask: mask}
	}
	return publish.OwnerOf(uid, gid, mask)
}

// Uploaded says how much of a frame is there.
func (s *Service) Uploaded(ctx context.Context, u Upload) (UploadState, error) {
	to, file, err := s.target(ctx, u)
	if err != nil {
		return UploadState{}, err
	}
	have, standing, err := publish.Have(to, file)
	return UploadState{have, standing}, err
}

// Upload adds a piece to a frame, and publishes the frame when it is whole.
func (s *Service) Upload(ctx context.Context, u Upload, offset int64, piece io.Reader) (UploadState, error) {
	to, file, err := s.target(ctx, u)
	if err != nil {
		return UploadState{}, err
	}
	if s.o.Folder != "" && oneDisk(s.o.Folder, to.Root) { // the node keeps the frame until there is room
		if err := roomFor(0, to.Root); err != nil {
			return UploadState{}, err
		}
	}
	defer s.uploads.one(u.Lease, u.Frame)()
	have, standing, err := publish.Append(to, file, offset, piece)
	return UploadState{have, standing}, err
}

// Refused puts on record that something which a node sent was not taken.
func (s *Service) Refused(ctx context.Context, node farm.NodeID, what, why string) {
	f, err := s.Floor()
	if err == nil {
		err = f.Fleet.Refused(ctx, node, what, why)
	}
	if err != nil {
		s.o.Log.Warn("a refusal is not on record", "node", node, "what", what, "why", why, "error", err)
	}
}

// RefusedLog puts on record that a node has sent what somebody else's lease
// shall have said.
func (s *Service) RefusedLog(ctx context.Context, node farm.NodeID, lease farm.LeaseID) {
	f, err := s.Floor()
	if err == nil {
		err = f.Fleet.Forged(
			ctx, node, lease, "refuse log", fmt.Sprintf("lease %d was never given to this node", lease),
		)
	}
	if err != nil {
		s.o.Log.Warn("a refusal is not on record", "node", node, "lease", lease, "error", err)
	}
}

// turnstile lets one piece of a frame be written at a time.
type turnstile struct {
	mu    sync.Mutex
	gates map[gate]*waiting
}

type gate struct {
	lease farm.LeaseID
	frame int
}

type waiting struct {
	sync.Mutex
	users int
}

// one waits for its turn; done ends it.
func (t *turnstile) one(lease farm.LeaseID, frame int) (done func()) {
	g := gate{lease, frame}
	t.mu.Lock()
	if t.gates == nil {
		t.gates = map[gate]*waiting{}
	}
	w := t.gates[g]
	if w == nil {
		w = &waiting{}
		t.gates[g] = w
	}
	w.users++
	t.mu.Unlock()
	w.Lock()
	return func() {
		w.Unlock()
		t.mu.Lock()
		defer t.mu.Unlock()
		if w.users--; w.users == 0 {
			delete(t.gates, g)
		}
	}
}
