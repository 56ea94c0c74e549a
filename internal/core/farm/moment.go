package farm

import "time"

// Moment writes a time for a sentence, as RFC 3339 in UTC and whole seconds.
// Whoever shows the sentence to a person writes it in the zone of that person.
func Moment(at time.Time) string { return at.UTC().Format(time.RFC3339) }
