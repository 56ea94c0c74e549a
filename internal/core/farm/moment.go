package farm

import (
	"regexp"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
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

// Sentence makes one of a reason or of what an error says: it begins with a capital letter and
// ends with a full stop. Of nothing it makes nothing.
func Sentence(text string) string {
	if text == "" {
		return ""
	}
	word, _, _ := strings.Cut(text, " ")
	if !strings.ContainsFunc(strings.TrimRight(word, ",.:;"), func(r rune) bool { return !unicode.IsLower(r) }) {
		first, size := utf8.DecodeRuneInString(text)
		text = string(unicode.ToUpper(first)) + text[size:] // names such as kiln-04 stay as they are
	}
	return strings.TrimSuffix(text, ".") + "."
}
