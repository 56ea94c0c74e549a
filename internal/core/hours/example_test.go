package hours_test

import (
	"fmt"
	"time"

	"vexillum/internal/core/hours"
)

// A desk that renders at night, on a Wednesday at noon.
func Example() {
	week, err := hours.ParseWeek("mon-fri 19:00-08:00; sat,sun 00:00-24:00")
	if err != nil {
		fmt.Println(err)
		return
	}
	desk := hours.Hours{Week: week, Zone: "Europe/Dublin"}
	on, change := desk.At(time.Date(2031, 3, 5, 12, 0, 0, 0, time.UTC))
	fmt.Println("on duty:", on, "until", change.UTC().Format(time.RFC3339))
	// Output: on duty: false until 2031-03-05T19:00:00Z
}
