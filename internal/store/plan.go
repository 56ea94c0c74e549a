package store

import (
	"fmt"

	"vexillum/internal/core/farm"
)

// plan gathers Records of a kind into groups, one statement each. A Record
// may move before others, but never past one that touches the same row: the
// rows are as if each Record had been written by itself, in order.
type plan struct {
	groups    []*group
	lastWrite map[row]int // newest group that writes a row
	lastRead  map[row]int // newest group that needs a row to be there as it is
}

type group struct {
	kind    farm.Kind
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
	k := kinds[r.Kind()]
	if k.statement == "" && k.columns == nil {
		return fmt.Errorf("no row of the table says how a %q is kept", r.Kind())
	}
	var writes, reads []row
	if k.touches != nil {
		writes, reads = k.touches(r)
	}
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
		g := &group{kind: r.Kind()}
		if k.columns != nil {
			g.columns = k.columns()
		}
		p.groups = append(p.groups, g)
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
