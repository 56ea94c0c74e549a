package farm

import (
	"regexp"
	"time"
)

// Moment writes a time for a sentence, as RFC 3339 in UTC and whole seconds.
// The page or command that shows the sentence writes it in its reader's zone.
func Moment(at time.Time) string { return at.UTC().Format(time.RFC3339) }

var moments = regexp.MustCompile(`\b\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ\b`)

// Moments returns a text in which all that Moment has written is written anew.
func Moments(text string, write func(at time.Time) string) string {
	return moments.ReplaceAllStringFunc(text, func(found string) string {
		at, err := time.Parse(time.RFC3339, found)
		if err != nil {
			return found
		}
		return write(at)
	})
}
