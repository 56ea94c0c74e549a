package farm

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
