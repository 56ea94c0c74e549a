package frames_test

import (
	"fmt"

	"vexillum/internal/core/frames"
)

// A frame range as people write it, and what is left of it after some frames are
// done.
func Example() {
	shot, err := frames.Parse("1-20,30-40/2")
	if err != nil {
		fmt.Println(err)
		return
	}
	done := frames.Of(frames.Span{First: 1, Last: 15})
	left := shot.Minus(done)
	fmt.Println(shot.Len(), "frames;", left.Len(), "are left:", left)
	fmt.Println(left.Take(3), left.Has(31))
	// Output:
	// 26 frames; 11 are left: 16-20,30-40/2
	// 16-18 false
}
