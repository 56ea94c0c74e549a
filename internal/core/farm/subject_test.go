package farm

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"vexillum/internal/core/frames"
)

// TestNamesAreOfOneSubject submits scenes that are called alike in any order, with names and
// without: no name comes to mean two things, and what was rendered once keeps its name.
func TestNamesAreOfOneSubject(t *testing.T) {
	scenes := []string{
		"cam.pov", "a/cam.pov", "b/cam.pov", "b/a/cam.pov", "c/b/a/cam.pov", "d/c/b/a/cam.pov", "e/d/c/b/a/cam.pov",
		"b/Cam.pov", "ünï/cam.pov", "ünì/cam.pov", `C:\show\cam.pov`, "/home/a/cam.pov", "b/cam_left.pov", "x/b_cam.pov",
	}
	taken := 0
	for seed := range uint64(300) {
		dice := rand.New(rand.NewPCG(seed, 11))
		s := NewState()
		names, subjects := map[Subject]string{}, map[string]Subject{}
		for i := range 60 {
			spec := Spec{
				Project: "p", Kind: Final, Scene: scenes[dice.IntN(len(scenes))], Frames: frames.Of(frames.Span{First: 1, Last: 1}),
				Values: map[string]string{"camera": []string{"", "left", "right"}[dice.IntN(3)]},
			}
			of := spec.Subject()
			naming := &Naming{State: s, Project: "p"}
			chosen := dice.IntN(2) == 0
			if dice.IntN(6) == 0 { // somebody names it
				name := fmt.Sprint("cam", dice.IntN(2))
				err := naming.Take(name, of)
				if by, held := subjects[name]; held != (err != nil) && (err != nil || by != of) {
					t.Fatalf("seed %d: %s is %v, and taken for %v: %v", seed, name, by, of, err)
				}
				if err != nil {
					taken++
					continue
				}
				spec.Job = name
			} else {
				_, spec.Job, _ = naming.Choose(JobNameOf(spec.Scene), "", chosen, of)
				if before := names[of]; before != "" && before != spec.Job {
					t.Fatalf("seed %d: %v was %s and is %s", seed, of, before, spec.Job)
				}
				names[of] = spec.Job
			}
			if err := CheckJobName(spec.Job); err != nil {
				t.Fatal(err)
			}
			if by, held := subjects[spec.Job]; held && by != of {
				t.Fatalf("seed %d: %s is %v and %v", seed, spec.Job, by, of)
			}
			subjects[spec.Job] = of
			spec.Number = s.NextNumber("p", spec.Job, Final)
			spec.Output = fmt.Sprint(spec.Job, spec.Number)
			if err := s.Apply(RunSubmitted{Run: RunID(i + 1), Spec: spec, State: RunQueued, Order: int64(i)}); err != nil {
				t.Fatal(err)
			}
		}
	}
	if taken < 100 {
		t.Errorf("a name was another's %d times: that shows little", taken)
	}
}

// TestOldRunsOfOtherScenes keeps apart runs of one job from before it had only one scene.
func TestOldRunsOfOtherScenes(t *testing.T) {
	s := NewState()
	spec := func(scene string, number int) Spec {
		return Spec{
			Project: "p", Job: "cam", Kind: Final, Number: number, Scene: scene, Output: fmt.Sprint(number),
			Frames: frames.Of(frames.Span{First: 1, Last: number}),
		}
	}
	for i, scene := range []string{"a/cam.pov", "b/cam.pov", "a/cam.pov", "b/cam.pov"} {
		if err := s.Apply(RunSubmitted{Run: RunID(i + 1), Spec: spec(scene, i+1), State: RunQueued, Order: int64(i)}); err != nil {
			t.Fatal(err)
		}
	}
	for scene, want := range map[string]RunID{"a/cam.pov": 3, "b/cam.pov": 4} {
		asked := spec(scene, 9)
		if got := s.NewestBefore(asked, asked.Subject()); got == nil || got.ID != want {
			t.Errorf("before another run of %s comes %v, not %d", scene, got, want)
		}
	}
	n := &Naming{State: s, Project: "p"}
	if _, name, _ := n.Choose("cam", "", false, Subject{Scene: "b/cam.pov"}); name != "cam" {
		t.Errorf("the scene of the newest run is called %s", name)
	}
	if _, name, other := n.Choose("cam", "", false, Subject{Scene: "a/cam.pov"}); name != "a_cam" || other == nil {
		t.Errorf("the other scene is called %s, for %v", name, other)
	}
}
