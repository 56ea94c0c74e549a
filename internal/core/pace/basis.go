package pace

import "vexillum/internal/core/farm"

// Basis is what is known of a run that has told nothing itself.
type Basis string

// The bases, the best first.
const (
	BasisRun    Basis = "run"    // frames of its own
	BasisJob    Basis = "job"    // an earlier run of its job
	BasisRecipe Basis = "recipe" // what frames of its recipe mostly cost
	BasisNone   Basis = "none"
)

// Adopt lets a run that has told nothing go by an open run of its job, as far as that has
// told something and no run before it has. It reports whether that is so.
func (m *Model) Adopt(run, open *farm.Run) bool {
	from := m.runs[open.ID]
	if from == nil || from.curve.count == 0 || m.jobs[jobOf(run)] != nil || m.Seen(run.ID) > 0 {
		return false
	}
	s := from.curve.asShape()
	if s == nil {
		return false
	}
	s.of = settingsOf(open.Spec)
	m.runs[run.ID] = &known{curve: newCurve(run.Spec.Frames, m.scaled(s, run.Spec)), adopted: true}
	return true
}

// BasisOf returns on what the cost of a run's frames rests.
func (m *Model) BasisOf(run *farm.Run) Basis {
	switch {
	case m.Seen(run.ID) > 0:
		return BasisRun
	case m.jobs[jobOf(run)] != nil:
		return BasisJob
	case m.typical[run.Spec.Recipe] != nil:
		return BasisRecipe
	}
	return BasisNone
}
