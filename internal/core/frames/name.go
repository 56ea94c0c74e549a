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
