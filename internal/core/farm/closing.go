package farm

import (
	"fmt"
	"strings"

	"vexillum/internal/core/frames"
)

// ClosingReason says of a run that ends, or has ended, by itself what became of its frames.
func (r *Run) ClosingReason(state RunState) string {
	frame := "frame"
	if r.Spec.Tiles != nil {
		frame = "tile"
	}
	counted := func(n int, what string) string {
		switch {
		case n == 1 && state == RunGaps:
			return fmt.Sprintf("1 %s is %s", frame, what)
		case n == 1:
			return fmt.Sprintf("its %s is %s", frame, what)
		case state == RunGaps:
			return fmt.Sprintf("%d %ss are %s", n, frame, what)
		}
		return fmt.Sprintf("all %d %ss are %s", n, frame, what)
	}
	parked, skipped := r.NeedsHand(), r.GivenUp()
	switch {
	case state == RunDone:
		return counted(r.Done.Len(), "done")
	case state != RunGaps && skipped.Empty():
		return counted(parked.Len(), "parked")
	case state != RunGaps && parked.Empty():
		return counted(skipped.Len(), "skipped")
	}
	var rest []string
	for _, part := range []struct {
		set  frames.Set
		what string
	}{{parked, "parked"}, {skipped, "skipped"}} {
		if n := part.set.Len(); n == 1 {
			rest = append(rest, fmt.Sprintf("1 is %s: %s", part.what, part.set.Brief()))
		} else if n > 1 {
			rest = append(rest, fmt.Sprintf("%d are %s: %s", n, part.what, part.set.Brief()))
		}
	}
	if r.Done.Empty() {
		return "no " + frame + " is done; " + strings.Join(rest, "; ")
	}
	return counted(r.Done.Len(), "done") + "; " + strings.Join(rest, "; ")
}
