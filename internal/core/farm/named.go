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
	project, rest, inProject := strings.Cut(name, "/")
	look := func(name string, fits func(jobKey) bool) {
		job, number, whole := strings.Cut(name, "/")
		for _, key := range s.catalogue.jobs[strings.ToLower(job)] {
			if !fits(key) {
				continue
			}
			runs := s.catalogue.byJob[key]
			if newest := newestOf(runs); !whole && newest.Spec.Job == job {
				out = append(out, newest)
			}
			for _, r := range runs {
				if whole && r.Spec.Job == job && r.Spec.Name() == job+"/"+number {
					out = append(out, r)
				}
			}
		}
	}
	look(name, func(jobKey) bool { return true })
	if inProject {
		look(rest, func(key jobKey) bool { return key.project == project })
	}
	slices.SortFunc(out, func(a, b *Run) int { return cmp.Compare(b.ID, a.ID) })
	return slices.Compact(out)
}
