package hands_test

import (
	"fmt"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/hands"
)

// A node falls silent, is heard again, and falls silent once more: that is one thing, which
// has come twice.
func Example() {
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)
	s := farm.NewState()
	var ledger hands.Ledger
	silent := hands.Alert{
		Of: farm.HandOf{Kind: "silent", Node: 3}, Sentence: "kiln-03 has been silent since 20:00.",
	}
	for minute, alerts := range [][]hands.Alert{{silent}, nil, nil, {silent}} {
		for _, r := range ledger.Compare(s, alerts, now.Add(time.Duration(minute)*time.Minute)) {
			if err := s.Apply(r); err != nil {
				fmt.Println(err)
			}
			fmt.Println(minute, r.Kind())
		}
	}
	fmt.Println(s.Hand(1).Count)
	// Output:
	// 0 hand raised
	// 2 hand ended
	// 3 hand raised
	// 2
}
