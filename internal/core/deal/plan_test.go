package deal

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

// TestTheBestHelperIsTheOneFoundByLooking compares the helper that is found in order
// with the one that is found by looking at all.
func TestTheBestHelperIsTheOneFoundByLooking(t *testing.T) {
	dice := rand.New(rand.NewPCG(1, 2))
	for range 2000 {
		cans := make([]float64, dice.IntN(12))
		var ordered ables
		for i := range cans {
			cans[i] = float64(dice.IntN(40)-8) / 2 // some alike, some below 0
			ordered.put(i, cans[i])
		}
		for range 6 {
			if len(cans) > 0 {
				i := dice.IntN(len(cans))
				ordered.drop(i, cans[i])
				cans[i] = float64(dice.IntN(40)-8) / 2
				ordered.put(i, cans[i])
			}
			frames, each := 1+dice.IntN(8), 0.5+dice.Float64()*3
			want, most := -1, 0
			fits, large := math.Inf(1), 0.0
			for i, can := range cans {
				switch n := int(can/each + 1e-9); {
				case n >= frames:
					if most < frames || can < fits {
						want, fits, most = i, can, frames
					}
				case most < frames && n > 0 && can > large:
					want, large, most = i, can, n
				}
			}
			got, count := ordered.best(frames, each)
			if count != most || most > 0 && got != want {
				t.Fatalf("of %v for %d frames of %v: helper %d for %d, want %d for %d", cans, frames, each, got, count, want, most)
			}
			if !slices.IsSortedFunc(ordered, one.compare) || len(ordered) != len(cans) {
				t.Fatalf("out of order: %v", ordered)
			}
		}
	}
}
