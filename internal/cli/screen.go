package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/term"

	"vexillum/internal/core/farm"
)

// sgr begins a colour of our own. It is no UTF-8, so that nothing which comes
// from elsewhere can hold it.
const sgr = "\xff["

// screen writes texts to a terminal or file so that none of them can steer it:
// what renderers say, names and folders come from anybody. Control characters
// are written as \u001b and the like, which also is right in JSON. Colours of
// our own, which begin with sgr, are let through.
// Moments in sentences of the service are written in the zone of this machine,
// but for what is for programs.
type screen struct {
	to   io.Writer
	asIs func() bool // what is written is for programs, or is not ours; nil: never
	// lost keeps the first write error, as commands do not check each of their writes; nil: it is
	// not kept
	lost *error
}

// Write implements io.Writer.
func (s screen) Write(p []byte) (int, error) {
	text := visible(string(p))
	if s.asIs == nil || !s.asIs() {
		text = inZone(text, time.Now())
	}
	if _, err := io.WriteString(s.to, strings.ReplaceAll(text, sgr, "\x1b[")); err != nil {
		if s.lost != nil && *s.lost == nil {
			*s.lost = err
		}
		return 0, err
	}
	return len(p), nil
}

// moment writes a time as a person here reads it, with its zone.
func moment(at, now time.Time) string { return clock(at, now) + at.Local().Format(" MST") }

// zoned is the heading of a column of times, with their zone.
func zoned(heading string) string { return heading + time.Now().Format(" (MST)") }

// inZone writes the moments in a text as a person here reads them.
func inZone(text string, now time.Time) string {
	return farm.Moments(text, func(at time.Time) string { return moment(at, now) })
}

// visible returns a text with its control characters written out, but for ends
// of lines, tabs and our own colours.
func visible(text string) string {
	if utf8.ValidString(text) && !strings.ContainsFunc(text, steers) {
		return text
	}
	var out strings.Builder
	for i := 0; i < len(text); {
		r, size := utf8.DecodeRuneInString(text[i:])
		switch {
		case r == utf8.RuneError && size == 1 && !strings.HasPrefix(text[i:], sgr):
			fmt.Fprintf(&out, `\u%04x`, text[i])
		case steers(r):
			fmt.Fprintf(&out, `\u%04x`, r)
		default:
			out.WriteString(text[i : i+size])
		}
		i += size
	}
	return out.String()
}

// steers reports whether a character steers a terminal, or the direction in
// which text is read there.
func steers(r rune) bool {
	switch {
	case r == '\n' || r == '\t':
		return false
	case r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069:
		return true
	}
	return unicode.IsControl(r)
}

// colours reports whether a writer is a terminal that wants colours.
func colours(w io.Writer) bool {
	if s, ok := w.(screen); ok {
		w = s.to
	}
	f, ok := w.(*os.File)
	_, no := os.LookupEnv("NO_COLOR")
	return ok && !no && os.Getenv("TERM") != "dumb" && term.IsTerminal(int(f.Fd()))
}
