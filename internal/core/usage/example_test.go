package usage_test

import (
	"fmt"

	"vexillum/internal/core/usage"
)

// Samples become one row a step: the mean, and the most.
func Example() {
	var t usage.Tally
	for _, p := range []float64{0.2, 0.4, 0.9} {
		t.Add(usage.Sample{Processor: p})
	}
	fmt.Printf("%.2f\n", t.Sample().Processor)
	// Output: 0.50
}
