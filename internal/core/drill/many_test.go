package drill

import (
	"fmt"
	"math"
	"slices"
	"testing"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/simulate"
)

// several returns a farm of nodes of unlike speed without jobs.
func several(speeds ...float64) simulate.Farm {
	f := simulate.Farm{
		Seed: 1, Start: time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC), Places: []farm.Place{{Name: "scenes"}},
	}
	for i, s := range speeds {
		f.Nodes = append(f.Nodes, simulate.Node{Name: fmt.Sprintf("kiln-%02d", i+1), Speed: s, Known: s})
	}
	return f
}

// with adds a job of a number of frames that cost the same.
func with(
	f simulate.Farm, name, project string, mode farm.Mode, count int, cost float64, change ...func(*simulate.Job),
) simulate.Farm {
	j := simulate.Job{Startup: cost / 2, Spec: farm.Spec{
		Job: name, Project: project, Kind: farm.Final, Recipe: string(mode), Mode: mode, Tries: 3,
		Frames: frames.Of(frames.Span{First: 1, Last: count}),
	}}
	for range count {
		j.Costs = append(j.Costs, cost)
	}
	for _, c := range change {
		c(&j)
	}
	f.Jobs = append(slices.Clone(f.Jobs), j)
	return f
}

// received returns the reference seconds of work that each job had finished by
// a time, with frames in flight in part.
func received(f simulate.Farm, r *simulate.Report, until float64) map[string]float64 {
	out := map[string]float64{}
	costs := map[string]float64{}
	for _, j := range f.Jobs {
		costs[j.Spec.Job] = j.Costs[0]
	}
	for _, a := range r.Attempts {
		if a.Result == simulate.Done && a.Start < until {
			out[a.Job] += costs[a.Job] * min(1, (until-a.Start)/(a.End-a.Start))
		}
	}
	return out
}

// TestProjectsGetTheirPart lets projects of unlike weight queue more work than
// can be done, in all modes, some of it submitted long after the rest, and
// people of one project beside each other.
func TestProjectsGetTheirPart(t *testing.T) {
	for _, mode := range []farm.Mode{farm.ModeRange, farm.ModeFeed, farm.ModeSingle} {
		f := several(1, 0.5, 2, 1.5, 0.7, 3)
		weights := map[string]float64{"salt-clock": 1, "tidal-room": 2, "gannet": 4}
		for name, w := range weights {
			f.Projects = append(f.Projects, farm.Project{Name: name, Weight: w, Scenes: "scenes"})
		}
		slices.SortFunc(f.Projects, func(a, b farm.Project) int { return int(a.Weight - b.Weight) })
		for i := range 8 {
			for _, p := range f.Projects {
				f = with(
					f, fmt.Sprintf("%s-%d", p.Name, i), p.Name, mode, 3000, 20,
					func(j *simulate.Job) { j.Spec.Owner = []string{"nadia", "tobin"}[i%2] },
				)
			}
		}
		r := played(t, f)
		const until = 16_000 // all have work to do as yet
		for _, finish := range r.Jobs {
			if finish.Finish > 0 && finish.Finish < until && mode != farm.ModeRange {
				break
			}
		}
		byProject, byPerson, all := map[string]float64{}, map[string]float64{}, 0.0
		for job, work := range received(f, r, until) {
			i := slices.IndexFunc(f.Jobs, func(j simulate.Job) bool { return j.Spec.Job == job })
			byProject[f.Jobs[i].Spec.Project] += work
			byPerson[f.Jobs[i].Spec.Project+" "+f.Jobs[i].Spec.Owner] += work
			all += work
		}
		for name, w := range weights {
			if got, want := byProject[name]/all, w/7; math.Abs(got/want-1) > 0.05 {
				t.Errorf("%s: %s of weight %v received %.3f of the work, want %.3f", mode, name, w, got, want)
			}
			if a, b := byPerson[name+" nadia"], byPerson[name+" tobin"]; math.Abs(a/b-1) > 0.1 {
				t.Errorf("%s: of %s, nadia received %.0f and tobin %.0f", mode, name, a, b)
			}
		}
	}
}

// TestWhoComesLaterDoesNotStarve submits a small job of another project while
// a long one of the same priority has all nodes for hours.
func TestWhoComesLaterDoesNotStarve(t *testing.T) {
	f := with(several(1, 1, 1, 1), "tidal_ceiling", "tidal-room", farm.ModeRange, 4000, 30)
	f = with(f, "gannet_open", "gannet", farm.ModeRange, 40, 30, func(j *simulate.Job) { j.Submitted = 900 })
	r := played(t, f)
	// It would take 315 s with all nodes, and twice that with its half of them.
	if took := r.Jobs[1].Finish - 900; took > 1400 {
		t.Errorf("a job of ten minutes took %.0f s beside one of nine hours", took)
	}
}

// TestTheUrgentComesAtTheBorder submits urgent work to a farm that is busy for
// hours: nodes finish their frames in flight, and what they had begun is not
// lost.
func TestTheUrgentComesAtTheBorder(t *testing.T) {
	for _, mode := range []farm.Mode{farm.ModeRange, farm.ModeFeed, farm.ModeSingle} {
		f := with(several(1, 1, 2, 2), "tidal_ceiling", "tidal-room", mode, 2000, 30)
		f = with(f, "gannet_open", "gannet", farm.ModeRange, 60, 30, func(j *simulate.Job) {
			j.Submitted, j.Spec.Level = 900, farm.Urgent
		})
		r := played(t, f)
		bound := Bound(f, 1) - 900
		if took := r.Jobs[1].Finish - 900; took > 1.25*(bound+30) {
			t.Errorf(
				"%s: urgent work took %.0f s; alone on the farm it takes %.0f, and a frame is over after 30 s", mode,
				took, bound,
			)
		}
		for _, a := range r.Attempts {
			if a.Result != simulate.Done {
				t.Errorf("%s: %+v", mode, a)
			}
		}
	}
}

// TestLicencesAreNeverExceeded plays jobs that share a licence, counted in each
// way, and counts launches that are up at once.
func TestLicencesAreNeverExceeded(t *testing.T) {
	for _, per := range []farm.Counting{farm.PerProcess, farm.PerNode, farm.PerDevice} {
		f := several(1, 1, 1, 1, 1)
		f.Licences = []farm.Licence{{Name: "tidal", Count: 2}}
		licensed := func(j *simulate.Job) { j.Spec.Licence = &farm.LicenceNeed{Name: "tidal", Per: per} }
		for i, mode := range []farm.Mode{farm.ModeRange, farm.ModeFeed, farm.ModeSingle} {
			f = with(f, fmt.Sprint("tidal_", i), "tidal-room", mode, 60, 10, licensed)
		}
		f = with(f, "salt_010", "salt-clock", farm.ModeRange, 90, 10)
		r := played(t, f)
		for _, a := range r.Attempts {
			used := map[string]bool{}
			for _, b := range r.Attempts {
				if b.Job != "salt_010" && b.Start <= a.Start && a.Start < b.End {
					used[b.Node] = true
				}
			}
			if len(used) > 2 {
				t.Fatalf("%s: %d licences are used at %.0f s, there are 2", per, len(used), a.Start)
			}
		}
		if r.Jobs[3].Finish > 500 {
			t.Errorf(
				"%s: what needs no licence was done after %.0f s, though three nodes could do nothing else", per,
				r.Jobs[3].Finish,
			)
		}
	}
}

// TestLoadsFromAPlaceAreLimited plays a start of many nodes at once.
func TestLoadsFromAPlaceAreLimited(t *testing.T) {
	f := several(1, 1, 1, 1, 1, 1)
	f.Places[0].Loads = 2
	f.Projects = []farm.Project{{Name: "salt-clock", Weight: 1, Scenes: "scenes"}}
	f = with(f, "salt_010", "salt-clock", farm.ModeRange, 240, 10, func(j *simulate.Job) { j.Startup = 30 })
	r := played(t, f)
	first := map[string]float64{}
	for _, a := range r.Attempts {
		if _, seen := first[a.Node]; !seen || a.Start < first[a.Node] {
			first[a.Node] = a.Start
		}
	}
	var starts []float64
	for _, at := range first {
		starts = append(starts, at)
	}
	slices.Sort(starts)
	for i, at := range starts {
		if want := 30 * float64(1+i/2); math.Abs(at-want) > 1 {
			t.Errorf("launch %d had loaded after %.0f s, want %.0f: two at once, 30 s each", i+1, at, want)
		}
	}
}

// TestANewSceneStartsOnAFew looks that the crowd joins with the first frame.
func TestANewSceneStartsOnAFew(t *testing.T) {
	f := with(
		several(1, 1, 1, 1, 1, 1), "salt_010", "salt-clock", farm.ModeRange, 240, 10,
		func(j *simulate.Job) { j.Spec.StartOn = 2 },
	)
	r := played(t, f)
	early, late := map[string]bool{}, map[string]bool{}
	for _, a := range r.Attempts {
		if a.Start < 15 {
			early[a.Node] = true
		}
		late[a.Node] = true
	}
	if len(early) != 2 || len(late) != 6 {
		t.Errorf("%d nodes began before a frame was done, want 2; %d rendered in all, want 6", len(early), len(late))
	}
}

// TestSequences looks at the order in which frames are begun.
func TestSequences(t *testing.T) {
	for _, mode := range []farm.Mode{farm.ModeRange, farm.ModeFeed, farm.ModeSingle} {
		for sequence, want := range map[farm.Sequence][]int{farm.Forward: {1, 2}, farm.Reverse: {200, 199}, farm.ScoutsFirst: {1, 23}} {
			f := with(
				several(1), "salt_010", "salt-clock", mode, 200, 10,
				func(j *simulate.Job) { j.Spec.Sequence = sequence },
			)
			if mode == farm.ModeRange && sequence == farm.Reverse {
				f, want = with(
					several(1), "salt_010", "salt-clock", mode, 200, 10,
					func(j *simulate.Job) { j.Spec.Sequence, j.Spec.Chunk = sequence, 1 },
				), []int{
					200, 199,
				}
			}
			r := played(t, f)
			if got := []int{
				r.Attempts[0].Frame, r.Attempts[1].Frame,
			}; sequence != farm.ScoutsFirst &&
				!slices.Equal(got, want) {
				t.Errorf("%s %s: begins with %v, want %v", mode, sequence, got, want)
			}
			if sequence == farm.ScoutsFirst {
				var got []int
				for _, a := range r.Attempts[:7] {
					got = append(got, a.Frame)
				}
				slices.Sort(got)
				if !slices.Equal(got, []int{1, 34, 67, 100, 133, 166, 200}) {
					t.Errorf("%s: scouts %v", mode, got)
				}
			}
		}
	}
}

// TestARaceEndsAWaitForASlowNode has a node that is far slower than was
// thought in the middle of the last frame.
func TestARaceEndsAWaitForASlowNode(t *testing.T) {
	for _, mode := range []farm.Mode{farm.ModeRange, farm.ModeFeed, farm.ModeSingle} {
		f := with(several(1, 1, 0.02), "salt_010", "salt-clock", mode, 30, 10)
		f.Nodes[2].Known = 1
		r := played(t, f)
		done, stopped := map[int]int{}, 0
		for _, a := range r.Attempts {
			if a.Result == simulate.Done {
				done[a.Frame]++
			}
			if a.Result == simulate.Stopped {
				stopped++
			}
		}
		for frame := 1; frame <= 30; frame++ {
			if done[frame] != 1 {
				t.Errorf("%s: frame %d was done %d times", mode, frame, done[frame])
			}
		}
		if r.Finish > 260 || stopped == 0 {
			t.Errorf(
				"%s: it ends after %.0f s with %d tries stopped; the slow node alone needs 505 s for its first frame",
				mode, r.Finish, stopped,
			)
		}
	}
}

// TestSilentNodesAreRacedFor has the last frame on a node that vanishes: others
// do not wait until it is given up.
func TestSilentNodesAreRacedFor(t *testing.T) {
	f := with(several(1, 1), "salt_010", "salt-clock", farm.ModeFeed, 20, 10)
	f.Nodes[1].Leaves = 96
	r := played(t, f)
	if r.Finish > 96+15+30 {
		t.Errorf("it ends after %.0f s: the node fell silent at 111 s, and one more frame takes 15 s", r.Finish)
	}
}

// TestFewPlacesGoToFastNodes lets a slow node begin a run that may have one node
// only, and a fast one come later: it gets the place at a frame border, and one
// that is hardly faster does not.
func TestFewPlacesGoToFastNodes(t *testing.T) {
	for _, mode := range []farm.Mode{farm.ModeRange, farm.ModeFeed, farm.ModeSingle} {
		for what, limit := range map[string]func(*simulate.Job){
			"ceiling": func(j *simulate.Job) { j.Spec.Ceiling = farm.Ceiling{Nodes: 1} },
			"licence": func(j *simulate.Job) { j.Spec.Licence = &farm.LicenceNeed{Name: "tidal", Per: farm.PerProcess} },
		} {
			f := with(several(0.5, 4, 0.505), "salt_010", "salt-clock", mode, 60, 10, limit)
			f.Licences = []farm.Licence{{Name: "tidal", Count: 1}}
			f.Nodes[1].Joins, f.Nodes[2].Joins = 100, 50
			r := played(t, f)
			// 100 s, the frame in flight, a start-up, and what is left at 2.5 s a frame.
			most := 100 + 20 + 5 + 56*2.5 + 10
			if mode == farm.ModeSingle {
				most += 56 * 5
			}
			by := map[string]int{}
			for _, a := range r.Attempts {
				if a.Result != simulate.Done {
					t.Errorf("%s, %s: frame %d is %s", mode, what, a.Frame, a.Result)
				}
				by[a.Node]++
			}
			if r.Finish > most || by["kiln-01"] > 7 || by["kiln-03"] > 0 {
				t.Errorf(
					"%s, %s: it ends after %.0f s, should by %.0f s; frames by node: %v", mode, what, r.Finish, most,
					by,
				)
			}
		}
	}
}
