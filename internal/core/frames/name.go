package frames

import "fmt"

// Name prints a frame number with at least a number of digits, as it stands in
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

// Format prints a set in a sentence, as Brief does: a sentence has a bound.
func (s Set) Format(f fmt.State, _ rune) { fmt.Fprint(f, s.Brief()) }

// briefParts is how many stretches Brief names.
const briefParts = 6

// mostPrinted is how many stretches are printed to see whether they are one row.
const mostPrinted = 1000

// Brief prints a set for a sentence: as String does where it is short, else its
// first stretches and how many frames there are. It looks at no more than it
// prints.
func (s Set) Brief() string {
	first := s
	if s.Stretches() > mostPrinted {
		first = s.Take(1)
	}
	if text := first.String(); len(text) <= 60 && first.Len() == s.Len() {
		return text
	}
	var shown []Span
	for sp := range s.Spans() {
		if shown = append(shown, sp); len(shown) == briefParts {
			break
		}
	}
	return fmt.Sprintf("%s … (%d in all)", Of(shown...), s.Len())
}

// Text prints a set as String does, in time that does not grow without bound: of
// more than MaxStretches stretches it prints the row that they are, or else all
// frames from the first to the last.
func (s Set) Text() string {
	if s.Stretches() <= MaxStretches {
		return s.String()
	}
	first, last := s.First(), s.Last()
	if second, ok := s.From(first + 1); ok && second > first+1 {
		p := Part{first, last, second - first}
		if p.Count() == s.Len() && strided(p).Equal(s) {
			return fmt.Sprintf("%d-%d/%d", first, last, p.Step)
		}
	}
	return fmt.Sprintf("%d-%d", first, last)
}
