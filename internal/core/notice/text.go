package notice

import (
	"time"

	"vexillum/internal/core/farm"
)

// InZone writes the moments in a text as the clock shows them in a zone, with the date where
// that is not the one of now.
func InZone(text string, zone *time.Location, now time.Time) string {
	return farm.Moments(text, func(at time.Time) string {
		at, today := at.In(zone), now.In(zone)
		if at.YearDay() != today.YearDay() || at.Year() != today.Year() {
			return at.Format("Mon 2 Jan 15:04 MST")
		}
		return at.Format("15:04 MST")
	})
}
