// Package explain answers why: why a node does what it does, why a run stands
// where it stands, where a frame is. Each answer is one sentence that names what
// would clear what is in the way. It decides nothing: what it says is what the
// dealer would do.
package explain

import (
	"strings"

	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/pace"
)

// Explainer explains one farm. It belongs to the owner of the State.
type Explainer struct {
	d *deal.Dealer
	s *farm.State
	m *pace.Model
}

// New returns the Explainer of what a dealer does with a farm.
func New(d *deal.Dealer, s *farm.State, m *pace.Model) *Explainer { return &Explainer{d, s, m} }

func some(names []string) string {
	const most = 3
	if len(names) > most {
		return strings.Join(names[:most], ", ") + " …"
	}
	return strings.Join(names, ", ")
}
