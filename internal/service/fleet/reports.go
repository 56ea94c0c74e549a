package fleet

import (
	"context"
	"path"
	"slices"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/protocol/accept"
	"vexillum/internal/service/refusal"
)

// Report takes what a node reports, in order, and answers each item. An item
// that is told again gets the same answer and changes nothing.
func (d *Desk) Report(
	ctx context.Context, id farm.NodeID, session int64, reports []accept.Report,
) ([]accept.Verdict, error) {
	verdicts := make([]accept.Verdict, 0, len(reports))
	err := d.do(ctx, func(t *transaction) error {
		if _, err := t.session(id, session); err != nil {
			return err
		}
		for _, r := range reports {
			verdict := d.e.Report(id, r)
			verdicts = append(verdicts, verdict)
			if verdict.Forged {
				t.forged(id, r.Lease, "refuse report", verdict.Why)
			}
		}
		return nil
	})
	return verdicts, err
}

// Claim is a frame of which a node says that it stands in its place.
type Claim struct {
	Item  int // of the reports
	Frame int
	Run   string // its name
	Place string // the name of the frame place
	Root  string // its path on the system asked for; empty: it has none there
	Files []ClaimedFile
}

// ClaimedFile is one file of it.
type ClaimedFile struct {
	Path  string // inside the place, with slashes
	Bytes int64
}

// Claims returns what of the reports is done if it is true.
func (d *Desk) Claims(
	ctx context.Context, id farm.NodeID, reports []accept.Report, os string,
) (out []Claim, err error) {
	if !slices.ContainsFunc(reports, func(r accept.Report) bool { return r.Outcome == accept.Delivered }) {
		return nil, nil
	}
	err = d.do(ctx, func(t *transaction) error {
		out = nil
		for i, r := range reports {
			run := accept.Awaits(t.State, id, r)
			if run == nil {
				continue
			}
			p := t.State.Projects[run.Spec.Project]
			claim := Claim{
				Item: i, Frame: r.Frame, Run: run.Spec.Name(), Place: p.Frames,
				Root: t.State.Places[p.Frames].Paths[os],
			}
			files := r.Files
			if len(files) == 0 {
				files = []farm.File{{Bytes: r.Bytes}}
			}
			for _, file := range files {
				claim.Files = append(
					claim.Files,
					ClaimedFile{path.Join(run.Spec.Output, run.Spec.PassFile(file.Pass, r.Frame)), file.Bytes},
				)
			}
			out = append(out, claim)
		}
		return nil
	})
	return out, err
}

// forgery names what a node reported and can never have been. Each is put on
// record once, and not more than there is any sense in.
type forgery struct {
	node  farm.NodeID
	lease farm.LeaseID
}

const mostForgeries = 1000

func (t *transaction) forged(id farm.NodeID, lease farm.LeaseID, action, why string) {
	if key := (forgery{id, lease}); !t.d.forged[key] && len(t.d.forged) < mostForgeries {
		t.d.forged[key] = true
		t.Append(farm.Audited{
			Actor: t.State.NodeName(id), Action: action, Subject: t.State.NodeName(id), To: why, Node: id, At: t.Now,
		})
	}
}

// Forged puts on record, once, what a node has told of a lease and can never
// have been.
func (d *Desk) Forged(ctx context.Context, id farm.NodeID, lease farm.LeaseID, action, why string) error {
	return d.do(ctx, func(t *transaction) error {
		t.forged(id, lease, action, why)
		return nil
	})
}

// Delivery is a frame that a node is to publish.
type Delivery struct {
	Spec    farm.Spec
	Hash    string // see farm.FrameHash
	Bytes   int64
	Files   []farm.File // of a frame with passes
	Replace bool        // another picture may stand in its place
	Adopt   []string    // hashes that may stand in its place already
	Env     farm.LaunchSettings
}

// Leased returns the run of a lease that a node holds.
func (d *Desk) Leased(
	ctx context.Context, id farm.NodeID, lease farm.LeaseID,
) (run farm.RunID, spec farm.Spec, err error) {
	err = d.do(ctx, func(t *transaction) error {
		l := t.State.Lease(lease)
		if l == nil || l.Node != id || !l.Open() {
			return refusal.New(refusal.Conflict, "lease", "lease %d is over or was never given to this node", lease)
		}
		run, spec = l.Run, t.State.Runs[l.Run].Spec
		return nil
	})
	return run, spec, err
}

// Delivering returns the frame that the node is to publish with this hash. A
// *refusal.Refusal says that it is none.
func (d *Desk) Delivering(
	ctx context.Context, id farm.NodeID, lease farm.LeaseID, frame int, hash string,
) (Delivery, error) {
	var out Delivery
	err := d.do(ctx, func(t *transaction) error {
		l := t.State.Lease(lease)
		if l == nil || l.Node != id {
			return refusal.New(refusal.Conflict, "lease", "lease %d is over or was never given to this node", lease)
		}
		run := t.State.Runs[l.Run]
		d, ok := run.Delivering[frame]
		if !ok || d.Node != id || d.Hash != hash {
			return refusal.New(
				refusal.Conflict, "hash",
				"frame %d of %s is not to be delivered by this node with this hash; report it good first", frame,
				run.Spec.Name(),
			)
		}
		t.d.e.Seen(id)
		out = Delivery{
			Spec: run.Spec, Hash: d.Hash, Bytes: d.Bytes, Files: d.Files, Replace: run.Redo.Has(frame),
			Env: t.State.LaunchSettingsFor(run.Spec.Project, run.Spec.Recipe),
		}
		if trouble := run.Trouble[frame]; trouble != nil {
			out.Adopt = trouble.Accepted
		}
		return nil
	})
	return out, err
}

// Refused puts on record that something which a node sent was not taken.
func (d *Desk) Refused(ctx context.Context, id farm.NodeID, what, why string) error {
	return d.do(ctx, func(t *transaction) error {
		t.Append(
			farm.Audited{
				Actor: t.State.NodeName(id), Action: "refuse " + what, Subject: t.State.NodeName(id), To: why,
				Node: id, At: t.Now,
			},
		)
		return nil
	})
}
