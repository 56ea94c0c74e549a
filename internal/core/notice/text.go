package notice

import (
	"regexp"
	"time"
)

// moments are times as sentences of the farm have them.
var moments = regexp.MustCompile(`\b\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ\b`)

// InZone writes the moments in a text as the clock shows them in a zone, with the date where
// that is not the one of now.
func InZone(text string, zone *time.Location, now time.Time) string {
	return moments.ReplaceAllStringFunc(text, func(found string) string {
		at, err := time.Parse(time.RFC3339, found)
		if err != nil {
			return found
		}
		at, today := at.In(zone), now.In(zone)
		form := "15:04 MST"
		if at.YearDay() != today.YearDay() || at.Year() != today.Year() {
			form = "Mon 2 Jan 15:04 MST"
		}
		return at.Format(form)
	})
}
