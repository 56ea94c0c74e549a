package store

import "vexillum/internal/core/farm"

// plan gathers Records of a kind into groups, one statement each. A Record
// may move before others, but never past one that touches the same row: the
// rows are as if each Record had been written by itself, in order.
type plan struct {
	groups    []*group
	lastWrite map[row]int // newest group that writes a row
	lastRead  map[row]int // newest group that needs a row to be there as it is
}

type group struct {
	kind    string
	columns columns // of a frequent kind
	rows    array   // of the others
}

// row names a row of a table, or a set of rows that one statement touches.
type row struct {
	table string
	id    int64
	frame int
	name  string
}

// anyName stands for the names of all nodes: one that is given up may be taken
// in the same batch.
var anyName = row{table: "node name"}

// anyProject stands for all projects: a place goes after those that used it.
var anyProject = row{table: "projects"}

func newPlan() *plan { return &plan{lastWrite: map[row]int{}, lastRead: map[row]int{}} }

// add puts a Record into the first group of its kind that keeps the order.
func (p *plan) add(r farm.Record, seq int64, encoded func() ([]byte, error)) error {
	writes, reads := touches(r)
	at := 0
	for _, w := range writes {
		if i, ok := p.lastWrite[w]; ok {
			at = max(at, i+1)
		}
		if i, ok := p.lastRead[w]; ok {
			at = max(at, i+1)
		}
	}
	for _, d := range reads {
		if i, ok := p.lastWrite[d]; ok {
			at = max(at, i+1)
		}
	}
	for at < len(p.groups) && p.groups[at].kind != r.Kind() {
		at++
	}
	if at == len(p.groups) {
		p.groups = append(p.groups, &group{kind: r.Kind(), columns: newColumns(r.Kind())})
	}
	if g := p.groups[at]; g.columns != nil {
		g.columns.add(r, seq)
	} else {
		body, err := encoded()
		if err != nil {
			return err
		}
		if _, kept := r.(farm.RunKept); !kept { // that one carries its own number: the one it is whole up to
			body = withSeq(body, seq)
		}
		g.rows.add(body)
	}
	for _, w := range writes {
		p.lastWrite[w] = at
	}
	for _, d := range reads {
		p.lastRead[d] = max(p.lastRead[d], at)
	}
	return nil
}

// touches returns the rows that a Record writes and those that it needs.
func touches(r farm.Record) (writes, reads []row) {
	run := func(id farm.RunID) row { return row{table: "run", id: int64(id)} }
	node := func(id farm.NodeID) row { return row{table: "node", id: int64(id)} }
	lease := func(id farm.LeaseID) row { return row{table: "lease", id: int64(id)} }
	frame := func(id farm.RunID, f int) row { return row{table: "frame", id: int64(id), frame: f} }
	attempts := func(id farm.RunID) row { return row{table: "attempt", id: int64(id)} }
	framesOf := func(id farm.RunID) row { return row{table: "frames of run", id: int64(id)} }
	leasesOf := func(id farm.RunID) row { return row{table: "leases of run", id: int64(id)} }
	named := func(table, name string) row { return row{table: table, name: name} }
	switch r := r.(type) {
	case farm.PlaceSet:
		return []row{named("place", r.Name)}, nil
	case farm.LicenceSet:
		return []row{named("licence", r.Name)}, nil
	case farm.RunSet:
		return []row{run(r.Run)}, nil
	case farm.ProjectSet:
		return []row{named("project", r.Name)}, []row{named("place", r.Scenes), named("place", r.Frames), anyProject}
	case farm.PlaceDropped: // projects that used it have gone or changed before
		return []row{named("place", r.Name), named("stay", farm.StayOf{Kind: farm.StayPlace, Name: r.Name}.String()), anyProject}, nil
	case farm.ProjectDropped:
		return []row{named("project", r.Name), named("launch settings of", r.Name)}, []row{anyProject}
	case farm.PersonSet:
		return []row{named("person", r.Name)}, nil
	case farm.PersonRemoved: // those that were issued before need the person
		return []row{named("person", r.Name)}, nil
	case farm.TokenIssued:
		return []row{named("token", r.Hash)}, []row{named("person", r.Person), node(r.Node), {table: "node token", id: int64(r.Node)}}
	case farm.TokenRevoked:
		return []row{named("token", r.Hash)}, nil
	case farm.KeyIssued:
		return []row{named("key", r.Hash)}, nil
	case farm.NodeEnrolled:
		return []row{node(r.Node)}, []row{named("key", r.KeyHash), anyName}
	case farm.NodeStarted:
		writes = []row{node(r.Node)}
		for _, id := range r.Kept {
			writes = append(writes, lease(id))
		}
		return writes, nil
	case farm.NodeReach:
		return []row{node(r.Node)}, nil
	case farm.NodeDuty:
		return []row{node(r.Node)}, nil
	case farm.NodeHealth:
		return []row{node(r.Node)}, nil
	case farm.NodeSet: // its rows of pools are looked at when it is read, not when it is written
		return []row{node(r.Node)}, nil
	case farm.NodeAnnounced:
		return []row{node(r.Node)}, []row{anyName}
	case farm.NodeRenamed:
		return []row{node(r.Node), anyName}, nil
	case farm.NodeRetired:
		return []row{node(r.Node), anyName, {table: "node token", id: int64(r.Node)}}, nil
	case farm.PoolSet:
		return []row{named("pool", r.Name)}, nil
	case farm.StaySet:
		return []row{named("stay", r.Of.String())}, nil
	case farm.LaunchSettingsSet:
		return []row{named("launch settings", r.Of.String()), named("launch settings of", r.Of.Project)}, nil
	case farm.PoolDropped:
		return []row{named("pool", r.Name)}, nil
	case farm.KeyRevoked:
		return []row{named("key", r.Hash)}, nil
	case farm.RunSubmitted:
		return []row{run(r.Run)}, []row{named("project", r.Spec.Project)}
	case farm.RunMoved:
		return []row{run(r.Run)}, nil
	case farm.RunKept:
		return []row{run(r.Run)}, nil
	case farm.LeaseOpened:
		return []row{lease(r.Lease)}, []row{run(r.Run), node(r.Node), leasesOf(r.Run)}
	case farm.LeaseExtended, farm.LeaseTrimmed, farm.LeaseEnded:
		return []row{lease(leaseOf(r))}, []row{leasesOf(r.About().Run)}
	case farm.FrameAccepted:
		return []row{frame(r.Run, r.Frame)}, []row{run(r.Run), framesOf(r.Run)}
	case farm.FrameDone:
		return []row{frame(r.Run, r.Frame)}, []row{framesOf(r.Run)}
	case farm.DeliveryLost:
		return []row{frame(r.Run, r.Frame), leasesOf(r.Run)}, []row{framesOf(r.Run)}
	case farm.FrameFailed:
		return []row{lease(r.Lease)}, []row{run(r.Run), attempts(r.Run), leasesOf(r.Run)}
	case farm.FrameParked:
		return []row{frame(r.Run, r.Frame), run(r.Run)}, nil
	case farm.FramesRedone: // and all that is known of its frames and leases
		return []row{run(r.Run), leasesOf(r.Run), framesOf(r.Run), attempts(r.Run)}, nil
	case farm.FramesRetried:
		return []row{run(r.Run), attempts(r.Run)}, nil
	}
	return nil, nil // audits stand by themselves
}

// leaseOf returns the lease that a Record changes.
func leaseOf(r farm.Record) farm.LeaseID {
	switch r := r.(type) {
	case farm.LeaseExtended:
		return r.Lease
	case farm.LeaseTrimmed:
		return r.Lease
	case farm.LeaseEnded:
		return r.Lease
	}
	return 0
}
