package recipe

import (
	"encoding/json"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"vexillum/internal/core/frames"
)

// Argument is an entry of a recipe's arguments: one text, or a group that appears
// only where a value is set.
type Argument struct {
	When  string // name of a value; empty: always
	Texts []string
}

type group struct {
	When      string   `json:"when"`
	Arguments []string `json:"arguments"`
}

// UnmarshalJSON reads a text or a group.
func (a *Argument) UnmarshalJSON(data []byte) error {
	var text string
	if json.Unmarshal(data, &text) == nil {
		*a = Argument{Texts: []string{text}}
		return nil
	}
	var g group
	err := json.Unmarshal(data, &g)
	*a = Argument{g.When, g.Arguments}
	return err
}

// MarshalJSON writes what UnmarshalJSON reads.
func (a Argument) MarshalJSON() ([]byte, error) {
	if a.When == "" && len(a.Texts) == 1 {
		return json.Marshal(a.Texts[0])
	}
	return json.Marshal(group{a.When, a.Texts})
}

// Program is the program of a renderer: one for all systems, or candidates for each.
type Program struct {
	only  string
	bySys map[string][]string // by runtime.GOOS
}

// ProgramNamed is a program of one name on all systems.
func ProgramNamed(name string) Program { return Program{only: name} }

// Candidates returns what to look for on an operating system, named as by
// runtime.GOOS, in order. "{vexillum}" is this program itself.
func (p Program) Candidates(os string) []string {
	if p.only != "" {
		return []string{p.only}
	}
	return p.bySys[os]
}

// UnmarshalJSON reads a name, or lists of names by operating system.
func (p *Program) UnmarshalJSON(data []byte) error {
	*p = Program{}
	if json.Unmarshal(data, &p.only) == nil {
		return nil
	}
	return json.Unmarshal(data, &p.bySys)
}

// MarshalJSON writes what UnmarshalJSON reads.
func (p Program) MarshalJSON() ([]byte, error) {
	if p.only != "" {
		return json.Marshal(p.only)
	}
	return json.Marshal(p.bySys)
}

// inBraces is a placeholder: its name, what is added to it, and to how many digits
// it is written.
var inBraces = regexp.MustCompile(`\{([a-z_]+)([+-]\d{1,9})?(?::0(\d))?\}`)

// Fill replaces the placeholders of one text, such as {scene}, {frame-1} or
// {frame:04}. Unknown ones, and numbers that are none, stay as they are.
func Fill(text string, with map[string]string) string {
	return inBraces.ReplaceAllStringFunc(text, func(whole string) string {
		m := inBraces.FindStringSubmatch(whole)
		value, known := with[m[1]]
		if !known || m[2] == "" && m[3] == "" {
			if known {
				return value
			}
			return whole
		}
		number, err := strconv.Atoi(value)
		if err != nil {
			return whole
		}
		if m[2] != "" {
			add, _ := strconv.Atoi(m[2]) // its form is that of a number
			number += add
		}
		digits, _ := strconv.Atoi(m[3]) // none: 0
		return frames.Name(number, digits)
	})
}

// NeedsShot reports whether a launch depends on the shot range.
func (r *Recipe) NeedsShot() bool {
	texts := slices.Collect(maps.Values(r.Environment))
	for _, a := range r.Arguments {
		texts = append(texts, a.Texts...)
	}
	return slices.ContainsFunc(texts, func(text string) bool {
		return slices.ContainsFunc(inBraces.FindAllStringSubmatch(text, -1), func(m []string) bool {
			return strings.HasPrefix(m[1], "shot_")
		})
	})
}

// Launch returns the arguments and the environment of one launch. Each argument of
// the recipe becomes exactly one argument, whatever the values hold; no shell is
// involved.
func (r *Recipe) Launch(with map[string]string) (arguments, environment []string) {
	for _, a := range r.Arguments {
		if a.When != "" && with[a.When] == "" {
			continue
		}
		for _, text := range a.Texts {
			arguments = append(arguments, Fill(text, with))
		}
	}
	for name, v := range r.Environment {
		environment = append(environment, name+"="+Fill(v, with))
	}
	return arguments, environment
}
