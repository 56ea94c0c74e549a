package farm

import (
	"maps"
	"slices"
	"testing"
)

// TestWhoSeesAProject asks for all roles, on the farm and in a project.
func TestWhoSeesAProject(t *testing.T) {
	open := Project{Name: "open", Members: map[string]ProjectRole{"ines": Lead}}
	closed := Project{Name: "closed", Closed: true, Members: map[string]ProjectRole{"nadia": Member, "ines": Lead}}
	all := []*Project{&open, &closed}
	for _, c := range []struct {
		name        string
		role        Role
		sees, leads bool
	}{
		{"tobin", Viewer, false, false},
		{"tobin", Artist, false, false},
		{"tobin", Wrangler, true, true},
		{"tobin", Admin, true, true},
		{"nadia", Viewer, true, false},
		{"nadia", Artist, true, false},
		{"ines", Viewer, true, false}, // a viewer changes nothing
		{"ines", Artist, true, true},
		{"", "", false, false},
	} {
		who := Person{Name: c.name, Role: c.role}
		if open.Admits(who) != true || closed.Admits(who) != c.sees || closed.Led(who) != c.leads {
			t.Errorf("%+v: sees %v, leads %v", who, closed.Admits(who), closed.Led(who))
		}
		sight := NewSight(who, slices.Values(all))
		if sight.Sees("closed") != c.sees || sight.All() != c.sees || !sight.Sees("open") || !sight.Sees("") {
			t.Errorf("%+v has the sight %+v", who, sight)
		}
		s := NewState()
		s.Projects = map[string]*Project{"open": &open, "closed": &closed}
		if s.SightOf(who).Key() != sight.Key() {
			t.Errorf("%+v sees otherwise in the state", who)
		}
		run := &Run{Spec: Spec{Project: "closed", Owner: "owner"}}
		if s.MaySteer(run, who) != c.leads || !s.MaySteer(run, Person{Name: "owner", Role: Artist}) {
			t.Errorf("%+v may steer: %v", who, s.MaySteer(run, who))
		}
	}
}

// TestMembersLeave takes somebody off the farm who belongs to projects.
func TestMembersLeave(t *testing.T) {
	s := NewState()
	members := map[string]ProjectRole{"nadia": Member, "ines": Lead}
	for _, r := range []Record{
		PersonSet{Name: "nadia", Role: Artist}, PersonSet{Name: "ines", Role: Artist},
		PlaceSet{Name: "p"},
		ProjectSet{Name: "a", Scenes: "p", Frames: "p", Members: members, Closed: true},
		ProjectSet{Name: "b", Scenes: "p", Frames: "p", Members: map[string]ProjectRole{"nadia": Lead}},
		PersonRemoved{Name: "nadia"},
	} {
		if err := s.Apply(r); err != nil {
			t.Fatal(err)
		}
	}
	if !maps.Equal(s.Projects["a"].Members, map[string]ProjectRole{"ines": Lead}) || s.Projects["b"].Members != nil {
		t.Errorf("%v and %v", s.Projects["a"].Members, s.Projects["b"].Members)
	}
	if len(members) != 2 {
		t.Error("the record was changed")
	}
	if err := s.CheckMembers(map[string]ProjectRole{"nadia": Member}); err == nil {
		t.Error("somebody who is not there may belong")
	}
}
