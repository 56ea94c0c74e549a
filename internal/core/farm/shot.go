package farm

import (
	"fmt"
	"strconv"
	"strings"

	"vexillum/internal/core/frames"
)

// Shot is the shot range of a job: all frames of its animation, whatever part
// of it a run renders. Renderers that reckon the time of a frame from the first
// and last frame get these, so that a frame is the same in every run.
type Shot struct {
	First  int        `json:"first"`
	Last   int        `json:"last"`
	Source ShotSource `json:"source"`
	Why    string     `json:"why"` // how it came about, in a sentence
	// Values are settings that the file beside the scene told.
	Values map[string]string `json:"values,omitempty"`
}

// ShotSource says where a shot range comes from.
type ShotSource string

// The sources of a shot range, the most trusted first.
const (
	ShotSaid   ShotSource = "said"   // by a person, for this run or an earlier one
	ShotScene  ShotSource = "scene"  // by a file beside the scene
	ShotFrames ShotSource = "frames" // taken from the frames that were asked for
)

// SceneShot is what a file beside a scene says about its animation.
type SceneShot struct {
	File   string // its name
	Range  *frames.Span
	Values map[string]string // settings of the recipe

	Width, Height   int      // pixels; 0: it does not say
	Cameras, Layers []string // nil: it does not say
	Inputs          []string // files that it needs
}

// Span returns the shot range as a stretch of frames.
func (s Shot) Span() frames.Span { return frames.Span{First: s.First, Last: s.Last} }

// String prints it as a frame range.
func (s Shot) String() string { return rangeText(s.Span()) }

func rangeText(s frames.Span) string { return frames.Of(s).String() }

// ShotRange returns the shot range of the run. That of runs that were submitted
// before there was one is what they were rendered with: from their first frame
// to their last.
func (s Spec) ShotRange() Shot {
	if s.Shot.Source == "" && !s.Frames.Empty() {
		return Shot{First: s.Frames.First(), Last: s.Frames.Last(), Source: ShotFrames}
	}
	return s.Shot
}

// Digits returns the least digits of frame numbers in file names: as many as the
// longest number of the whole shot has, so that a part is named like the whole.
func (s Spec) Digits() int {
	if s.Names != "" {
		digits := s.nameDigits()
		for _, f := range []int{s.Frames.First(), s.Frames.Last(), s.ShotRange().First, s.ShotRange().Last} {
			digits = max(digits, len(strings.TrimPrefix(strconv.Itoa(f), "-")))
		}
		return digits
	}
	if s.Shot.Source == "" {
		return s.Frames.Digits()
	}
	return max(s.Frames.Digits(), frames.Of(s.Shot.Span()).Digits())
}

// ShotError says that frames lie outside the shot range, and what to do.
type ShotError struct{ Reason string }

// Error returns the reason.
func (e *ShotError) Error() string { return e.Reason }

// ChooseShot decides the shot range of a run that shall render some frames.
// What a person says for it comes first; then what somebody said for the job's
// newest run before it (nil if there is none), then the file beside the scene,
// then what that run was rendered with; else it is taken from the frames. The
// error is a *ShotError.
func ChooseShot(asked frames.Set, said *frames.Span, before *Spec, scene SceneShot) (Shot, error) {
	hull := frames.Span{First: asked.First(), Last: asked.Last()}
	made := func(s frames.Span, source ShotSource, why string, args ...any) (Shot, error) {
		shot := Shot{First: s.First, Last: s.Last, Source: source, Values: scene.Values, Why: fmt.Sprintf(why, args...)}
		if before != nil && len(shot.Values) == 0 && source != ShotFrames {
			shot.Values = before.Shot.Values
		}
		return shot, nil
	}
	outside := func(s frames.Span, who string) (Shot, error) {
		set := asked.Minus(frames.Of(s))
		return Shot{}, &ShotError{
			fmt.Sprintf(
				"%s outside the shot range %s%s; a longer animation needs --shot %s", lie(set), rangeText(s), who,
				rangeText(frames.Span{First: min(s.First, hull.First), Last: max(s.Last, hull.Last)}),
			),
		}
	}
	holds := func(s frames.Span) bool { return s.First <= hull.First && hull.Last <= s.Last }
	earlier := Shot{}
	if before != nil {
		earlier = before.ShotRange()
	}
	switch {
	case said != nil && !holds(*said):
		return outside(*said, "")
	case said != nil:
		return made(*said, ShotSaid, "The shot range is %s, as given.", rangeText(*said))
	case earlier.Source == ShotSaid && !holds(earlier.Span()):
		return outside(earlier.Span(), ", as "+before.Name()+" has it")
	case earlier.Source == ShotSaid:
		return made(
			earlier.Span(), ShotSaid, "The shot range is %s, as in %s; another can be given.", earlier, before.Name(),
		)
	case scene.Range != nil && !holds(*scene.Range):
		return outside(*scene.Range, ", as "+scene.File+" has it")
	case scene.Range != nil:
		return made(
			*scene.Range, ShotScene, "The shot range is %s, as %s says; another can be given.", rangeText(*scene.Range),
			scene.File,
		)
	case before != nil && holds(earlier.Span()):
		return made(
			earlier.Span(), earlier.Source, "The shot range is %s, as in %s; another can be given.", earlier,
			before.Name(),
		)
	case before != nil && earlier.Source == ShotScene:
		return outside(earlier.Span(), ", as "+before.Name()+" has it")
	case before != nil:
		whole := frames.Span{First: min(hull.First, earlier.First), Last: max(hull.Last, earlier.Last)}
		return made(
			whole, ShotFrames,
			"The shot range is taken to be %s; in %s it was %s, so a frame there may differ from the same frame "+
				"here. Better give the range of the whole animation as the shot range.",
			rangeText(whole), before.Name(), earlier,
		)
	}
	return made(
		hull, ShotFrames,
		"The shot range is taken to be %s, from the frames asked for; if they are part of a longer animation, "+
			"give its range as the shot range.",
		rangeText(hull),
	)
}

// lie says which frames lie somewhere.
func lie(set frames.Set) string {
	if set.Len() == 1 {
		return fmt.Sprintf("frame %d lies", set.First())
	}
	return fmt.Sprintf("frames %s lie", set.Brief())
}
