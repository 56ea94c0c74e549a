package farm

import (
	"fmt"
	"strings"
	"testing"
)

func TestWhatIsInUseStays(t *testing.T) {
	s := NewState()
	must := func(r Record) {
		t.Helper()
		if err := s.Apply(r); err != nil {
			t.Fatal(err)
		}
	}
	refused := func(r Record, says string) {
		t.Helper()
		if err := s.Apply(r); err == nil || !strings.Contains(err.Error(), says) {
			t.Fatalf("%T: %v, want %q", r, err, says)
		}
	}
	must(PlaceSet{Name: "scenes"})
	must(PlaceSet{Name: "frames"})
	for _, p := range []string{"gannet", "salt-clock", "tidal-room", "a", "b"} {
		must(ProjectSet{Name: p, Weight: 1, Scenes: "scenes", Frames: "frames"})
	}
	refused(PlaceDropped{Name: "frames"}, "the place frames is used by the projects a, b, gannet and 2 more")
	must(ProjectDropped{Name: "a"})
	must(ProjectDropped{Name: "b"})
	must(PoolSet{Name: "graphics", Projects: []string{"gannet"}})
	refused(ProjectDropped{Name: "gannet"}, "may use the pool graphics")
	must(PoolDropped{Name: "graphics"})
	must(ProjectDropped{Name: "gannet"})
	for i := range 2 {
		must(RunSubmitted{
			Run: RunID(i + 1), Spec: Spec{Job: "salt_010", Kind: "proof", Number: i + 1, Project: "salt-clock"},
			State: RunQueued,
		})
	}
	refused(
		ProjectDropped{Name: "salt-clock"},
		fmt.Sprintf("the runs %s and %s", s.Runs[1].Spec.Name(), s.Runs[2].Spec.Name()),
	)
	refused(PlaceDropped{Name: "scenes"}, "the projects salt-clock and tidal-room")
	must(
		LaunchSettingsSet{Of: LaunchScope{Project: "tidal-room", Recipe: "practice"}, Env: LaunchSettings{Mask: "002"}},
	)
	must(LaunchSettingsSet{Env: LaunchSettings{Mask: "027"}})
	must(ProjectDropped{Name: "tidal-room"})
	if len(s.LaunchSettings) != 1 || s.LaunchSettings[LaunchScope{}].Mask != "027" {
		t.Errorf("launch settings %v, want those of the farm alone", s.LaunchSettings)
	}
	must(PlaceSet{Name: "spare"})
	must(FreezeSet{Of: FreezeScope{Kind: FreezePlace, Name: "spare"}, Freeze: Freeze{Held: true}})
	must(PlaceDropped{Name: "spare"})
	must(PlaceDropped{Name: "spare"}) // gone already
	if len(s.Freezes) != 0 || s.Places["spare"] != nil {
		t.Errorf("places %v, held %v, want nothing of the place that is dropped", s.Places, s.Freezes)
	}
}
