package farm

import "testing"

// TestPlaceIn finds the place that a message is about.
func TestPlaceIn(t *testing.T) {
	s := NewState()
	place := func(name, path string) { s.Places[name] = &Place{Name: name, Paths: map[string]string{"linux": path}} }
	place("scenes", "/srv/scenes")
	place("frames", "/srv/frames/")
	place("inside", "/srv/scenes/out")
	place("nowhere", "")
	p := &Project{Scenes: "scenes", Frames: "frames"}
	inside := &Project{Scenes: "scenes", Frames: "inside"}
	for _, c := range []struct {
		of         *Project
		text, want string
	}{
		{p, "cannot open /srv/scenes/tex/brass.png: no such file", "scenes"},
		{p, "the frame place is not there: open /srv/frames: no such file", "frames"},
		{p, "/srv/scenes2/a is not there, nor is /srv/scenes-old", ""},
		{p, "/srv/scenes2/a is not there, but /srv/scenes is", "scenes"},
		{p, "copying /srv/scenes/a to /srv/frames/a", ""},
		{p, "exit status 1", ""},
		{inside, "open /srv/scenes/out/salt.0001.png", "inside"},
		{inside, "open /srv/scenes/salt.pov", "scenes"},
		{&Project{Scenes: "scenes", Frames: "scenes"}, "/srv/scenes", ""},
		{&Project{Scenes: "nowhere", Frames: "frames"}, "open /srv/frames/x", "frames"},
		{nil, "/srv/frames", ""},
	} {
		if got := s.PlaceIn(c.of, "linux", c.text); got != c.want {
			t.Errorf("%q is about %q, want %q", c.text, got, c.want)
		}
	}
	if got := s.PlaceIn(p, "windows", "/srv/frames/x"); got != "" {
		t.Errorf("on another system it is about %q", got)
	}
}
