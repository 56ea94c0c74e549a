package farm

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// catalogue finds runs among all that there ever were without looking at each.
type catalogue struct {
	byJob    map[jobKey][]*Run
	jobs     map[string][]jobKey // of a name, whatever its capitals, in any project
	byFolder map[string][]*Run   // by output folder, whatever its capitals
	byScene  map[sceneKey][]*Run
	ended    []*Run         // in the order in which they ended
	parked   map[RunID]*Run // with parked frames
}

// sceneKey is a scene in a project; see [Subject].
type sceneKey struct{ project, scene string }

func newCatalogue() catalogue {
	return catalogue{
		byJob: map[jobKey][]*Run{}, jobs: map[string][]jobKey{}, byFolder: map[string][]*Run{},
		byScene: map[sceneKey][]*Run{}, parked: map[RunID]*Run{},
	}
}

func (c *catalogue) add(r *Run) {
	job, folder := keyOfJob(r.Spec.Project, r.Spec.Job), strings.ToLower(r.Spec.Output)
	if c.byJob[job] == nil {
		c.jobs[job.job] = append(c.jobs[job.job], job)
	}
	c.byJob[job] = append(c.byJob[job], r)
	c.byFolder[folder] = append(c.byFolder[folder], r)
	if scene := r.Spec.Subject().Scene; scene != "" {
		key := sceneKey{r.Spec.Project, scene}
		c.byScene[key] = append(c.byScene[key], r)
	}
	if r.State.Closed() {
		c.end(r)
	}
	c.park(r)
}

// park notes whether a run has parked frames.
func (c *catalogue) park(r *Run) {
	if r.Parked.Empty() {
		delete(c.parked, r.ID)
	} else {
		c.parked[r.ID] = r
	}
}

func byEnd(a, b *Run) int { return cmp.Or(a.EndedAt.Compare(b.EndedAt), cmp.Compare(a.ID, b.ID)) }

// end notes that a run has ended; reopen that it goes on.
func (c *catalogue) end(r *Run) {
	at, _ := slices.BinarySearchFunc(c.ended, r, byEnd)
	c.ended = slices.Insert(c.ended, at, r)
}

func (c *catalogue) reopen(r *Run) {
	if at, ok := slices.BinarySearchFunc(c.ended, r, byEnd); ok {
		c.ended = slices.Delete(c.ended, at, at+1)
	}
}

// check returns an error if the catalogue is not that of the farm.
func (c *catalogue) check(s *State) error {
	ended, parked := 0, 0
	for _, r := range s.Runs {
		if !slices.Contains(s.RunsOf(r.Spec.Project, r.Spec.Job), r) || !slices.Contains(s.RunsInto(r.Spec.Output), r) {
			return fmt.Errorf("%s is not in the catalogue", r.Spec.Name())
		}
		if _, listed := slices.BinarySearchFunc(c.ended, r, byEnd); listed != r.State.Closed() {
			return fmt.Errorf("%s is %s, and listed as ended: %v", r.Spec.Name(), r.State, listed)
		}
		if r.State.Closed() {
			ended++
		}
		if !r.Parked.Empty() {
			parked++
		}
	}
	if ended != len(c.ended) || parked != len(c.parked) || !slices.IsSortedFunc(c.ended, byEnd) {
		return fmt.Errorf(
			"%d runs ended and %d have parked frames; listed are %d and %d", ended, parked, len(c.ended), len(c.parked),
		)
	}
	return nil
}

// RunsOf returns all runs of a job, the oldest first. Capitals do not matter. The
// caller must not change the slice.
func (s *State) RunsOf(project, job string) []*Run { return s.catalogue.byJob[keyOfJob(project, job)] }

// RunsOfScene returns all runs of a scene of a project, whatever the look, the oldest first. The
// caller must not change the slice.
func (s *State) RunsOfScene(project, scene string) []*Run {
	return s.catalogue.byScene[sceneKey{project, scene}]
}

// RunsInto returns the runs whose output goes into a folder of any place.
// Capitals do not matter. The caller must not change the slice.
func (s *State) RunsInto(folder string) []*Run { return s.catalogue.byFolder[strings.ToLower(folder)] }

// Ended yields the runs that have ended, the newest first.
func (s *State) Ended(yield func(*Run) bool) {
	for _, r := range slices.Backward(s.catalogue.ended) {
		if !yield(r) {
			return
		}
	}
}

// WithParked yields the runs that have parked frames, in no order.
func (s *State) WithParked(yield func(*Run) bool) {
	for _, r := range s.catalogue.parked {
		if !yield(r) {
			return
		}
	}
}
