package main

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"slices"
	"time"

	"vexillum/internal/bundle"
	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// Two artists of projects of their own try to get at what others do, while all else breaks. What
// they should not be able to do is a breach, and fails the round.

var hostile = []string{"raven", "magpie"}

// recruit lets the hostile artists in.
func (f *farm) recruit(ctx context.Context) error {
	for _, name := range hostile {
		if err := f.admin.Do(
			ctx, http.MethodPatch, "/api/v1/people/"+name, wire.PersonChange{Role: "artist", Password: password}, nil,
		); err != nil {
			return err
		}
		project := wire.ProjectChange{Scenes: "scenes", Frames: "frames", Members: map[string]string{name: "lead"}}
		if err := f.admin.Do(ctx, http.MethodPatch, "/api/v1/projects/"+name, project, nil); err != nil {
			return err
		}
		c, err := client.New(f.admin.Addresses(), "")
		if err != nil {
			return err
		}
		if c, _, err = c.SignIn(ctx, name, password, "chaos"); err != nil {
			return err
		}
		f.hostile = append(f.hostile, c)
	}
	// What they are after belongs to a closed project.
	admin := map[string]string{"admin": "lead"}
	return f.admin.Do(
		ctx, http.MethodPatch, "/api/v1/projects/salt-clock", wire.ProjectChange{Members: admin}, nil,
	)
}

// raids lets them try some things.
func (f *farm) raids(r *rand.Rand, count int, met map[string]int) {
	for range count {
		if f.raid(r) {
			met["raids of hostile artists, answered with a no"]++
		}
	}
}

// raid lets one of them try one thing, and reports whether it was answered.
func (f *farm) raid(r *rand.Rand) bool {
	i := r.IntN(len(f.hostile))
	c, own := f.hostile[i], "/api/v1/projects/"+hostile[i]+"/bundles"
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	refused := func(what string, err error) bool {
		var p *wire.Problem
		switch {
		case err == nil:
			f.breaches = append(f.breaches, what)
		case errors.As(err, &p) && p.Status < http.StatusInternalServerError:
			return true
		}
		return false // nobody has answered
	}
	if len(f.now) == 0 {
		return false
	}
	run := f.now[r.IntN(len(f.now))]
	at := fmt.Sprintf("/api/v1/runs/%d", run.id)
	switch r.IntN(7) {
	case 0: // other pieces under the hash of their file
		if len(f.sent) == 0 {
			return false
		}
		m := *f.sent[r.IntN(len(f.sent))]
		m.Files = slices.Clone(m.Files)
		for k := range m.Files {
			if c := &m.Files[k].Content; len(c.Pieces) > 1 {
				c.Pieces = slices.Clone(c.Pieces)
				slices.Reverse(c.Pieces)
				c.Pieces[0] = bundle.HashOf([]byte("raid"))
				err := f.hostile[i].Send(ctx, http.MethodPost, own, "application/octet-stream", m.Encode(), nil)
				return refused("other pieces were taken under the hash of a file", err)
			}
		}
		return false
	case 1: // their bundle, told by its name
		if len(f.sent) == 0 {
			return false
		}
		m := f.sent[r.IntN(len(f.sent))]
		in := wire.Submit{
			Job: "raid", Project: hostile[i], Scene: m.Scene, Bundle: m.ID(), Frames: "1", Width: 64, Height: 36,
		}
		return refused("a run was submitted with another project's bundle", c.Do(ctx, http.MethodPost, "/api/v1/runs", in, nil))
	case 2: // what is missing of their bundle: all of it
		if len(f.sent) == 0 {
			return false
		}
		m := f.sent[r.IntN(len(f.sent))]
		var state wire.BundleState
		if c.Send(ctx, http.MethodPost, own, "application/octet-stream", m.Encode(), &state) != nil {
			return false
		}
		if state.MissingBytes != m.Bytes() {
			f.breaches = append(f.breaches, fmt.Sprintf("of a bundle %d of %d bytes are missing", state.MissingBytes, m.Bytes()))
		}
		for _, file := range m.Files { // and rubbish in its place
			path := fmt.Sprintf("%s/%s/contents/%s/0", own, state.ID, file.Hash)
			if c.Send(ctx, http.MethodPut, path, "application/octet-stream", make([]byte, min(file.Size, 1<<20)), nil) == nil {
				f.breaches = append(f.breaches, "rubbish was taken for a piece")
			}
		}
		return true
	case 3:
		return refused("a run was cancelled", c.Do(ctx, http.MethodPost, at+"/cancel", nil, nil))
	case 4:
		in := wire.Preflighting{Run: run.id, Frame: true}
		return refused("nodes were asked about a run", c.Do(ctx, http.MethodPost, "/api/v1/preflights", in, nil))
	case 5:
		return refused("a run was seen", c.Do(ctx, http.MethodGet, at+"/history", nil, nil))
	}
	in := wire.Submit{Job: run.job, Project: "salt-clock", Scene: run.scene, Frames: "1", Width: 64, Height: 36}
	return refused("a run was submitted to a closed project", c.Do(ctx, http.MethodPost, "/api/v1/runs", in, nil))
}
