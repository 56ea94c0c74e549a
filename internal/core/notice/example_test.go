package notice_test

import (
	"fmt"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/notice"
)

// A run is done at night: a channel with quiet hours is told in the morning, and one that has
// none at once. A failure is told at once where the channel wants that.
func Example() {
	night := time.Date(2031, 3, 4, 23, 30, 0, 0, time.UTC)
	done := notice.Notice{Event: farm.EventDone, Title: "salt_010/final-1 is done."}
	failed := notice.Notice{Event: farm.EventFailed, Title: "salt_020/final-1 has failed."}
	quiet := farm.Channel{Quiet: farm.Quiet{From: "22:00", To: "07:00", Urgent: true}}
	fmt.Println(notice.Due(quiet, done, night).Format("Mon 15:04"))
	fmt.Println(notice.Due(farm.Channel{}, done, night).Format("Mon 15:04"))
	fmt.Println(notice.Due(quiet, failed, night).Format("Mon 15:04"))
	// Output:
	// Wed 07:00
	// Tue 23:30
	// Tue 23:30
}
