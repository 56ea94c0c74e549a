package floor

import (
	"context"

	"vexillum/internal/core/accept"
	"vexillum/internal/core/farm"
)

// Report takes what a node reports, in order, and answers each item. An item
// that is told again gets the same answer and changes nothing.
func (f *Floor) Report(ctx context.Context, id farm.NodeID, session int64, reports []accept.Report) ([]accept.Verdict, error) {
	verdicts := make([]accept.Verdict, 0, len(reports))
	err := f.do(ctx, func(t *turn) error {
		if _, err := t.session(id, session); err != nil {
			return err
		}
		for _, r := range reports {
			records, verdict := accept.Take(t.s, id, r, t.now)
			t.append(records...)
			verdicts = append(verdicts, verdict)
			if key := (forgery{id, r.Lease}); verdict.Forged && !f.forged[key] && len(f.forged) < mostForgeries {
				f.forged[key] = true
				t.append(farm.Audited{Actor: t.s.NodeName(id), Action: "refuse report", Subject: t.s.NodeName(id), To: verdict.Why, Node: id, At: t.now})
			}
		}
		return nil
	})
	return verdicts, err
}

// forgery names what a node reported and can never have been. Each is put on
// record once, and not more than there is any sense in.
type forgery struct {
	node  farm.NodeID
	lease farm.LeaseID
}

const mostForgeries = 1000

// Delivery is a frame that a node is to publish.
type Delivery struct {
	Spec    farm.Spec
	Hash    string // see farm.FrameHash
	Bytes   int64
	Files   []farm.File // of a frame with passes
	Replace bool        // another picture may stand in its place
	Adopt   []string    // hashes that may stand in its place already
	Env     farm.Environment
}

// Delivering returns the frame that the node is to publish with this hash. A
// *Refusal says that it is none.
func (f *Floor) Delivering(ctx context.Context, id farm.NodeID, lease farm.LeaseID, frame int, hash string) (Delivery, error) {
	var out Delivery
	err := f.do(ctx, func(t *turn) error {
		l := t.s.Lease(lease)
		if l == nil || l.Node != id {
			return refuse(Conflict, "lease", "lease %d is over or was never given to this node", lease)
		}
		run := t.s.Runs[l.Run]
		d, ok := run.Delivering[frame]
		if !ok || d.Node != id || d.Hash != hash {
			return refuse(Conflict, "hash", "frame %d of %s is not to be delivered by this node with this hash; report it good first", frame, run.Spec.Name())
		}
		t.f.live[id].seen = t.now
		out = Delivery{Spec: run.Spec, Hash: d.Hash, Bytes: d.Bytes, Files: d.Files, Replace: run.Redo.Has(frame), Env: t.s.EnvironmentFor(run.Spec.Project, run.Spec.Recipe)}
		if trouble := run.Trouble[frame]; trouble != nil {
			out.Adopt = trouble.Accepted
		}
		return nil
	})
	return out, err
}

// Refused puts on record that something which a node sent was not taken.
func (f *Floor) Refused(ctx context.Context, id farm.NodeID, what, why string) error {
	return f.do(ctx, func(t *turn) error {
		t.append(farm.Audited{Actor: t.s.NodeName(id), Action: "refuse " + what, Subject: t.s.NodeName(id), To: why, Node: id, At: t.now})
		return nil
	})
}
