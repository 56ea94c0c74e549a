package frames

import "fmt"

// Name prints a frame number with at least so many digits, as it stands in
// file names: 0042, -0003.
func Name(frame, digits int) string {
	if frame < 0 {
		return fmt.Sprintf("-%0*d", digits, -frame)
	}
	return fmt.Sprintf("%0*d", digits, frame)
}

// Digits returns how many digits the frames of a set need in file names, at
// least 4, so that names of one run have one length.
func (s Set) Digits() int {
	if s.Empty() {
		return 4
	}
	return max(4, len(fmt.Sprint(max(s.Last(), -s.First()))))
}

// briefParts is how many stretches Brief names.
const briefParts = 6

// Brief prints a set for a sentence: as String does where it is short, else its
// first stretches and how many frames there are. It looks at no more than it
// prints.
func (s Set) Brief() string {
	parts := 0
	for range s.Spans() {
		if parts++; parts > 4*briefParts {
			break
		}
	}
	if parts <= 4*briefParts {
		if text := s.String(); len(text) <= 60 {
			return text
		}
	}
	var shown []Span
	for sp := range s.Spans() {
		if shown = append(shown, sp); len(shown) == briefParts {
			break
		}
	}
	return fmt.Sprintf("%s … (%d in all)", Of(shown...), s.Len())
}
