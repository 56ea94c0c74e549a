package store

import (
	"maps"

	"vexillum/internal/core/farm"
)

// kept says how a kind of Record is kept.
type kept struct {
	// statement writes Records of a rare kind. It takes one JSON array of them, so
	// that many of a kind cost one statement.
	statement string
	// columns gathers Records of a frequent kind instead.
	columns func() columns
	// touches returns the rows that a Record writes, and those that it needs to be
	// there as they are; nil where it stands by itself.
	touches func(farm.Record) (writes, reads []row)
	// bodiless says of which the contents are left out of the log: secrets, and what
	// stands in a table of its own word for word; nil: of none.
	bodiless func(farm.Record) bool
}

// kinds is the table of all kinds of Records.
var kinds = together(nodeKinds, runKinds, setupKinds, handKinds)

func together(tables ...map[farm.Kind]kept) map[farm.Kind]kept {
	all := map[farm.Kind]kept{}
	for _, t := range tables {
		maps.Copy(all, t)
	}
	return all
}

func always(farm.Record) bool { return true }

// of makes what looks at one kind of Record look at any.
func of[T farm.Record](touches func(T) (writes, reads []row)) func(farm.Record) (writes, reads []row) {
	return func(r farm.Record) (writes, reads []row) { return touches(r.(T)) }
}

func run(id farm.RunID) row { return row{table: "run", id: int64(id)} }

func node(id farm.NodeID) row { return row{table: "node", id: int64(id)} }

func nodeToken(id farm.NodeID) row { return row{table: "node token", id: int64(id)} }

func lease(id farm.LeaseID) row { return row{table: "lease", id: int64(id)} }

func frame(id farm.RunID, f int) row { return row{table: "frame", id: int64(id), frame: f} }

func attempts(id farm.RunID) row { return row{table: "attempt", id: int64(id)} }

func framesOf(id farm.RunID) row { return row{table: "frames of run", id: int64(id)} }

func leasesOf(id farm.RunID) row { return row{table: "leases of run", id: int64(id)} }

func hand(id farm.HandID) row { return row{table: "hand", id: int64(id)} }

func named(table, name string) row { return row{table: table, name: name} }
