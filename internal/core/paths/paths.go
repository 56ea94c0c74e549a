// Package paths holds the rules for paths that are kept once and spelled by each
// machine in its own way: relative, with slashes, and such that every system the
// farm runs on can have a file of that name. It touches no file.
package paths

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// Bounds of a path, in bytes: what the strictest of the systems takes.
const (
	mostName = 255
	mostPath = 1000
)

// reserved are names of devices on Windows, with any ending.
var reserved = []string{
	"con", "prn", "aux", "nul", "com1", "com2", "com3", "com4", "com5", "com6", "com7", "com8", "com9", "lpt1", "lpt2",
	"lpt3", "lpt4", "lpt5", "lpt6", "lpt7", "lpt8", "lpt9",
}

// Check says why a path is none that every machine can have below a folder; nil if
// it is.
func Check(text string) error {
	switch {
	case text == "":
		return errors.New("the path is empty")
	case len(text) > mostPath:
		return fmt.Errorf("the path has more than %d bytes", mostPath)
	case !utf8.ValidString(text):
		return fmt.Errorf("the path %q is not written in UTF-8", text)
	case strings.HasPrefix(text, "/") || len(text) > 1 && text[1] == ':':
		return fmt.Errorf("the path %q begins at a drive or the root; give one inside the folder", text)
	}
	for name := range strings.SplitSeq(text, "/") {
		if err := checkName(name); err != nil {
			return fmt.Errorf("the path %q: %w", text, err)
		}
	}
	return nil
}

func checkName(name string) error {
	stem, _, _ := strings.Cut(strings.ToLower(name), ".")
	switch {
	case name == "":
		return errors.New("a name in it is empty")
	case name == "." || name == "..":
		return fmt.Errorf("%s leads elsewhere", name)
	case len(name) > mostName:
		return fmt.Errorf("a name in it has more than %d bytes", mostName)
	case strings.HasSuffix(name, ".") || strings.HasSuffix(name, " "):
		return fmt.Errorf("%q ends with a dot or a space, which Windows drops", name)
	case slices.Contains(reserved, strings.TrimRight(stem, " ")):
		return fmt.Errorf("%q is the name of a device on Windows", name)
	}
	for _, r := range name {
		if unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp) {
			return fmt.Errorf("%q holds the invisible character %U, which makes a name look like another", name, r)
		}
		if strings.ContainsRune(`\:*?"<>|`, r) || unicode.IsControl(r) {
			return fmt.Errorf("%q holds %q, which not every system takes in names", name, r)
		}
	}
	return nil
}

// Clash returns two of the paths that some system takes for one: they differ in
// capitals or in how accents are composed alone, or one is a folder of the other; two empty texts if there are none.
func Clash(all []string) (a, b string) {
	cased := cases.Fold()
	fold := func(text string) string { return norm.NFC.String(cased.String(norm.NFKC.String(text))) }
	known := map[string]string{}
	for _, p := range all {
		key := fold(p)
		if other, twice := known[key]; twice {
			return other, p
		}
		known[key] = p
	}
	folders := map[string]string{} // as spelled
	for _, p := range all {
		for dir := path.Dir(p); dir != "."; dir = path.Dir(dir) {
			key := fold(dir)
			if other, isFile := known[key]; isFile {
				return other, p
			}
			if other, seen := folders[key]; seen && other != dir {
				return other, dir
			}
			folders[key] = dir
		}
	}
	return "", ""
}

// Spell returns a path below a root as a system writes it, named as by runtime.GOOS.
func Spell(os, root, relative string) string {
	if os != "windows" {
		return path.Join(root, relative)
	}
	return strings.TrimRight(root, `\/`) + `\` + strings.ReplaceAll(relative, "/", `\`)
}

// Relative returns the path below a root that a system spells in this way, or false
// where it does not lie there.
func Relative(os, root, spelled string) (relative string, inside bool) {
	if os == "windows" {
		slashes := func(text string) string { return strings.ReplaceAll(text, `\`, "/") }
		root, spelled = slashes(root), slashes(spelled)
	}
	root = strings.TrimRight(root, "/") + "/"
	if len(spelled) <= len(root) {
		return "", false
	}
	begin := spelled[:len(root)]
	if begin != root && (os == "linux" || !strings.EqualFold(begin, root)) {
		return "", false
	}
	relative = spelled[len(root):]
	return relative, Check(relative) == nil
}
