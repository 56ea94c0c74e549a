package health_test

import (
	"fmt"
	"time"

	"vexillum/internal/core/health"
)

// A machine whose clock is off.
func Example() {
	signs := health.Signs{Name: "kiln-03", ClockOff: 90 * time.Second, DiskFree: -1, Renderers: 1}
	for _, f := range health.Look(signs, time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)) {
		fmt.Println(f.Kind+":", f.Sentence)
	}
	// Output: clock: The clock of kiln-03 is 90 s ahead of the service's.
}
