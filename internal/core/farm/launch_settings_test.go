package farm

import (
	"fmt"
	"strings"
	"testing"
)

func TestWhatIsSaidLaterWins(t *testing.T) {
	s := NewState()
	said := map[LaunchScope]LaunchSettings{
		{}: {
			Account: "render", Group: "film", Mask: "002",
			Variables: map[string]string{"A": "farm", "B": "farm"},
		},
		{Recipe: "povray"}: {
			Mask: "022", Variables: map[string]string{"B": "recipe", "C": "recipe"},
		},
		{Project: "salt-clock"}:                {Group: "salt", Variables: map[string]string{"C": "project"}},
		{Project: "salt-clock", Recipe: "jig"}: {Account: "jigger"},
	}
	for of, e := range said {
		if err := s.Apply(LaunchSettingsSet{Of: of, Env: e}); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct{ project, recipe, want string }{
		{"gannet", "practice", "render film 002 map[A:farm B:farm]"},
		{"gannet", "povray", "render film 022 map[A:farm B:recipe C:recipe]"},
		{"salt-clock", "povray", "render salt 022 map[A:farm B:recipe C:project]"},
		{"salt-clock", "jig", "jigger salt 002 map[A:farm B:farm C:project]"},
	} {
		e := s.LaunchSettingsFor(c.project, c.recipe)
		if got := fmt.Sprint(e.Account, " ", e.Group, " ", e.Mask, " ", e.Variables); got != c.want {
			t.Errorf("%s with %s: %s, want %s", c.project, c.recipe, got, c.want)
		}
	}
	if got := said[LaunchScope{}].Variables["C"]; got != "" {
		t.Error("what is said for the farm was changed by what is said for others")
	}
	if err := s.Apply(LaunchSettingsSet{Of: LaunchScope{}}); err != nil || len(s.LaunchSettings) != 3 {
		t.Errorf("what is taken back stays: %v %v", s.LaunchSettings, err)
	}
}

func TestLaunchSettingsThatCannotBe(t *testing.T) {
	many := map[string]string{}
	for i := range 201 {
		many[fmt.Sprint("V", i)] = "x"
	}
	for _, c := range []struct {
		env         LaunchSettings
		field, says string
	}{
		{LaunchSettings{Account: "render", Group: "film", Mask: "0027", Variables: map[string]string{"PATH_TO": "/x y=z"}}, "", ""},
		{LaunchSettings{Account: "-x"}, "account", "not a valid account name"},
		{LaunchSettings{Group: "a b"}, "group", "not a valid group name"},
		{LaunchSettings{Mask: "008"}, "mask", "not a file mask"},
		{LaunchSettings{Mask: "1777"}, "mask", "not a file mask"},
		{LaunchSettings{Variables: map[string]string{"1A": ""}}, "variables", "not a valid name for a variable"},
		{LaunchSettings{Variables: map[string]string{"vexillum_x": ""}}, "variables", "set by the farm itself"},
		{LaunchSettings{Variables: map[string]string{"A": "x\ny"}}, "variables", "one line"},
		{LaunchSettings{Variables: map[string]string{"A": strings.Repeat("x", 4001)}}, "variables", "4000 characters"},
		{LaunchSettings{Variables: many}, "variables", "more than 200"},
	} {
		field, err := c.env.Check()
		if field != c.field || (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%+v: %s %v, want %s %q", c.env, field, err, c.field, c.says)
		}
	}
}

func TestWhoCanRunAsTold(t *testing.T) {
	for _, c := range []struct {
		means   Means
		permits []Permission // of the farm's administrator
		env     LaunchSettings
		says    string
	}{
		{Means{Account: "render", RendersAs: "render"}, nil, LaunchSettings{}, ""},
		{Means{Account: "render", RendersAs: "render"}, nil, LaunchSettings{Account: "render"}, ""},
		{Means{Account: "root", RendersAs: "vexillum-render", Switches: true}, nil, LaunchSettings{Account: "render"}, "no administrator"},
		{Means{Account: "root", Switches: true}, []Permission{"account=render"}, LaunchSettings{Account: "render"}, "join --permit account=render"},
		{Means{Account: "root", Switches: true, Permits: []string{"account=render"}}, []Permission{"account=render"}, LaunchSettings{Account: "render"}, ""},
		{Means{Account: "nadia", Permits: []string{"account=render"}}, []Permission{"account=render"}, LaunchSettings{Account: "render"}, "start it as render"},
		{Means{Account: "root", Switches: true, Permits: []string{"account=render"}}, []Permission{"account=render"}, LaunchSettings{Group: "shadow"}, "group shadow"},
		{Means{Account: "root", Switches: true, Permits: []string{"account=root"}}, []Permission{"account=root"}, LaunchSettings{Account: "root"}, "never run as root"},
		{Means{Account: "root", Switches: true, RendersAs: "render"}, nil, LaunchSettings{Variables: map[string]string{"LD_PRELOAD": "/x.so"}}, ""},
		{Means{}, []Permission{"account=render"}, LaunchSettings{Account: "render"}, ""}, // it does not tell; the launch will
	} {
		n := &Node{Name: "desk-nadia", Facts: Facts{Means: c.means}, Settings: Settings{Permits: c.permits}}
		err := n.CanRunAs(c.env)
		if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%+v as %+v: %v, want %q", c.means, c.env, err, c.says)
		}
	}
}

func TestPermissionsNameAccountsAndGroups(t *testing.T) {
	for text, good := range map[string]bool{
		"account=render": true, "group=film": true, "account=STUDIO\\render": true, "root": false, "code": false,
		"account=": false, "account=root": false, "group=0": false, "account=00000": false, "group=wheel": false,
		"account=group=x": false, "account=a b": false, "": false,
	} {
		if err := Permission(text).Check(); (err == nil) != good {
			t.Errorf("%q: %v", text, err)
		}
	}
}
