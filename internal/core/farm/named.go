package farm

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
)

// Named returns the runs that a name may mean, the newest first: the newest run
// of each job of that name, the run of that full name in each project, or the
// one of a number, written #45. A project may stand before job and run, with a
// slash. An empty name means nothing.
func (s *State) Named(name string) []*Run {
	if number, ok := strings.CutPrefix(name, "#"); ok {
		if id, err := strconv.ParseInt(number, 10, 64); err == nil && s.Runs[RunID(id)] != nil {
			return []*Run{s.Runs[RunID(id)]}
		}
		return nil
	}
	var out []*Run
	for _, run := range s.Runs {
		full := run.Spec.Name()
		if full == name || run.Spec.Project+"/"+full == name {
			out = append(out, run)
		}
	}
	for key, id := range s.newest {
		if run := s.Runs[id]; run.Spec.Job == name || key.project+"/"+run.Spec.Job == name {
			out = append(out, run)
		}
	}
	slices.SortFunc(out, func(a, b *Run) int { return cmp.Compare(b.ID, a.ID) })
	return slices.Compact(out)
}
