package farm

import "time"

// Moment writes a time for a sentence, as RFC 3339 in UTC and whole seconds.
// The page or command that shows the sentence writes it in its reader's zone.
func Moment(at time.Time) string { return at.UTC().Format(time.RFC3339) }
