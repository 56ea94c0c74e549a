package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"testing"
)

// TestNothingSteersTheTerminal writes what a renderer, a folder or a name may
// hold, and our own colours.
func TestNothingSteersTheTerminal(t *testing.T) {
	for text, want := range map[string]string{
		"plain ⅓ text\n\tand more\n": "plain ⅓ text\n\tand more\n",
		"\x1b]0;owned\x07\x1b[2J":    `\u001b]0;owned\u0007\u001b[2J`,
		"100 %\r  0 %":               `100 %\u000d  0 %`,
		"a\u009b31mb\u0085":          `a\u009b31mb\u0085`,
		"salt\u202egnp.exe\u2066":    `salt\u202egnp.exe\u2066`,
		"\x9b31m cut \xc3":           `\u009b31m cut \u00c3`,
		"\x7f\b":                     `\u007f\u0008`,
		"a \ufffd mark":              "a \ufffd mark",
		sgr + "38;5;74mours" + sgr + "0m and \x1b[0m": "\x1b[38;5;74mours\x1b[0m and " + `\u001b[0m`,
	} {
		var out bytes.Buffer
		if _, err := fmt.Fprint(screen{to: &out, asIs: func() bool { return true }}, text); err != nil {
			t.Fatal(err)
		}
		if out.String() != want {
			t.Errorf("%q is written as %q, want %q", text, out.String(), want)
		}
	}
	var out bytes.Buffer
	said := "\u009b31m\u202e\x1b[0m \x7f"
	if err := json.NewEncoder(screen{to: &out, asIs: func() bool { return true }}).Encode(said); err != nil {
		t.Fatal(err)
	}
	var back string
	if err := json.Unmarshal(out.Bytes(), &back); err != nil || back != said {
		t.Errorf("JSON holds %q after %q: %v", back, said, err)
	}
	if bytes.ContainsAny(out.Bytes(), "\x1b\x7f\u009b") {
		t.Errorf("JSON steers the terminal: %q", out.Bytes())
	}
}
