package farm

import "strings"

// Roots are the two places of a project on one operating system.
type Roots struct {
	Scenes, Frames string // paths; empty where a place has none on the system
	FramesName     string // of the frame place
}

// Roots returns where the places of a project lie on an operating system, named
// as by runtime.GOOS.
func (s *State) Roots(p *Project, os string) Roots {
	return Roots{
		Scenes: s.Places[p.Scenes].Paths[os], Frames: s.Places[p.Frames].Paths[os], FramesName: p.Frames,
	}
}

// PlaceIn returns the place of a project that a text speaks of, as its folder on an operating
// system stands in it; "" where it speaks of none, or of both.
func (s *State) PlaceIn(p *Project, os, text string) string {
	if p == nil || p.Scenes == p.Frames || s.Places[p.Scenes] == nil || s.Places[p.Frames] == nil {
		return ""
	}
	r := s.Roots(p, os)
	scenes, frames := speaksOf(text, r.Scenes), speaksOf(text, r.Frames)
	switch {
	case scenes && frames && speaksOf(r.Scenes, r.Frames): // the scenes are inside
		return p.Scenes
	case scenes && frames && speaksOf(r.Frames, r.Scenes):
		return p.Frames
	case scenes == frames:
		return ""
	case scenes:
		return p.Scenes
	}
	return p.Frames
}

// speaksOf reports whether a folder, or what is in it, stands in a text.
func speaksOf(text, folder string) bool {
	folder = strings.TrimRight(folder, `/\`)
	if folder == "" {
		return false
	}
	for {
		_, after, found := strings.Cut(text, folder)
		if !found {
			return false
		}
		if after == "" || strings.ContainsAny(after[:1], "/\\:;,.\"'`) \t\n") {
			return true
		}
		text = after
	}
}
