// Package trait describes machines by traits and picks them by expressions
// such as gpu && memory>=64GiB && !laptop. See docs/traits.md for the grammar.
//
// It knows nothing of nodes and jobs: a Set can describe anything.
package trait

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"
)

// Source says where a trait comes from.
type Source string

// The sources.
const (
	Measured Source = "measured" // reported by the machine itself
	Given    Source = "given"    // by a wrangler
	Assigned Source = "assigned" // follows from a setting, such as a pool
)

// Trait is one thing that is true of a machine. A name may have several
// values, each a Trait.
type Trait struct {
	Name   string `json:"name"`
	Value  string `json:"value"` // empty for one that is merely there
	Source Source `json:"source"`
}

// String returns the trait as it is written: name, or name=value.
func (t Trait) String() string {
	if t.Value == "" {
		return t.Name
	}
	return t.Name + "=" + t.Value
}

// Limits of traits.
const (
	mostName  = 40
	mostValue = 100
)

var nameForm = regexp.MustCompile(`^[a-z][a-z0-9_.-]*$`)

// Parse reads a trait as it is given: name, or name=value.
func Parse(text string) (Trait, error) {
	name, value, has := strings.Cut(text, "=")
	name, value = strings.TrimSpace(name), strings.TrimSpace(value)
	t := Trait{Name: name, Value: value, Source: Given}
	switch {
	case !nameForm.MatchString(name) || len(name) > mostName:
		return t, fmt.Errorf(
			"%q is not a valid trait name: use up to %d small letters, digits, dots, hyphens and underscores, a "+
				"letter first",
			name, mostName,
		)
	case has && value == "":
		return t, fmt.Errorf("the trait %q has no value; write %s alone if it is merely there", text, name)
	case len(value) > mostValue || strings.ContainsFunc(value, func(c rune) bool { return c < ' ' || c == '"' }):
		return t, fmt.Errorf("the value of %s must be up to %d characters on one line, without quotes", name, mostValue)
	}
	return t, nil
}

// Set is the traits of one machine.
type Set struct{ byName map[string][]Trait }

// NewSet returns a set of traits. The same value twice counts once.
func NewSet(traits ...Trait) Set {
	s := Set{byName: map[string][]Trait{}}
	for _, t := range traits {
		if !slices.ContainsFunc(s.byName[t.Name], func(o Trait) bool { return o.Value == t.Value }) {
			s.byName[t.Name] = append(s.byName[t.Name], t)
		}
	}
	return s
}

// All returns the traits by name and value.
func (s Set) All() []Trait {
	var out []Trait
	for _, list := range s.byName {
		out = append(out, list...)
	}
	slices.SortFunc(out, func(a, b Trait) int { return cmp.Or(cmp.Compare(a.Name, b.Name), compare(a.Value, b.Value)) })
	return out
}

// Has reports whether a trait of that name is there, and not said to be off by
// the value no, false or 0.
func (s Set) Has(name string) bool {
	return slices.ContainsFunc(
		s.byName[name], func(t Trait) bool { return t.Value != "no" && t.Value != "false" && t.Value != "0" },
	)
}

// compare orders two values: as amounts where both are some, as versions where
// both are, as text otherwise. Letters of either case are the same.
func compare(a, b string) int {
	if x, ok := amount(a); ok {
		if y, ok := amount(b); ok {
			return cmp.Compare(x, y)
		}
	}
	if x, ok := ParseVersion(a); ok {
		if y, ok := ParseVersion(b); ok {
			return x.Compare(y)
		}
	}
	return cmp.Compare(strings.ToLower(a), strings.ToLower(b))
}

var amountForm = regexp.MustCompile(`^[0-9]+(\.[0-9]+)?([kKMGTPE]i?B|B)$`)

// amount reads a number of bytes, or a whole number. 1.5 alone is a version.
func amount(text string) (float64, bool) {
	if amountForm.MatchString(text) {
		n, err := humanize.ParseBytes(text)
		return float64(n), err == nil
	}
	n, err := strconv.ParseUint(text, 10, 53)
	return float64(n), err == nil
}

// Version is a version in dotted numbers of any length, without zeros at its end: 3.7
// and 3.7.0 are the same.
type Version []uint64

// Compare is negative where v is before w, and 0 where they are the same.
func (v Version) Compare(w Version) int { return slices.Compare(v, w) }

// ParseVersion reads dotted numbers, with or without a v before them; false where the
// text is something else.
func ParseVersion(text string) (Version, bool) {
	var out Version
	for part := range strings.SplitSeq(strings.TrimPrefix(text, "v"), ".") {
		n, err := strconv.ParseUint(part, 10, 63)
		if err != nil {
			return nil, false
		}
		out = append(out, n)
	}
	for len(out) > 1 && out[len(out)-1] == 0 {
		out = out[:len(out)-1]
	}
	return out, len(out) > 0
}
