package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/term"
)

// sgr begins a colour of our own. It is no UTF-8, so that nothing which comes
// from elsewhere can hold it.
const sgr = "\xff["

// screen writes texts to a terminal or file so that none of them can steer it:
// what renderers say, names and folders come from anybody. Control characters
// are written as \u001b and the like, which also is right in JSON. Colours of
// our own, which begin with sgr, are let through.
type screen struct{ to io.Writer }

// Write implements io.Writer.
func (s screen) Write(p []byte) (int, error) {
	if _, err := io.WriteString(s.to, strings.ReplaceAll(visible(string(p)), sgr, "\x1b[")); err != nil {
		return 0, err
	}
	return len(p), nil
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

// colours tells whether a writer is a terminal that wants colours.
func colours(w io.Writer) bool {
	if s, ok := w.(screen); ok {
		w = s.to
	}
	f, ok := w.(*os.File)
	_, no := os.LookupEnv("NO_COLOR")
	return ok && !no && os.Getenv("TERM") != "dumb" && term.IsTerminal(int(f.Fd()))
}
