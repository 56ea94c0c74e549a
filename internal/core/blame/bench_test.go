package blame

import (
	"fmt"
	"testing"
)

// BenchmarkJudge weighs farms full of trouble: frames that fail on several nodes, and
// nodes that fail frames which others do.
func BenchmarkJudge(b *testing.B) {
	for _, failures := range []int{4, 32, 160} {
		b.Run(fmt.Sprint(failures), func(b *testing.B) {
			e := Evidence{Passed: map[Suspect]float64{}}
			for i := range failures {
				run, node, frame := int64(i%3), int64(i*7%11), int64(i/2)
				f := Failure{Cause: []string{Crash, Memory, MissingFile, Stalled}[i%4]}
				for _, s := range []Suspect{
					{Kind: Run, ID: run}, {Kind: Node, ID: node}, {Kind: Renderer, Name: "povray"},
					{Kind: Place, Name: "scenes"}, {Kind: Place, Name: "frames"}, {Kind: Frame, ID: run, Sub: frame},
					{Kind: Heavy, ID: run, Sub: frame},
				} {
					f.Suspects = append(f.Suspects, s)
					if s.Kind != Frame && s.Kind != Heavy {
						e.Passed[s] = float64(10 * (i % 5))
					}
				}
				e.Failures = append(e.Failures, f)
			}
			for b.Loop() {
				Judge(e)
			}
		})
	}
}
