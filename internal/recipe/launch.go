package recipe

import (
	"encoding/json"
	"maps"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"github.com/kballard/go-shellquote"

	"vexillum/internal/core/frames"
)

// Argument is an entry of a recipe's arguments: one text, or a group of them.
type Argument struct {
	When  string   // name of a value without which the group is left out; empty: it always stands
	Each  bool     // the group stands once for each frame of the launch
	Words string   // name of a value whose words, with quotes as in a shell, are the arguments
	Texts []string // of a group; of one text, that alone
}

type group struct {
	When      string   `json:"when,omitempty"`
	Each      string   `json:"each,omitempty"` // frame
	Words     string   `json:"words,omitempty"`
	Arguments []string `json:"arguments,omitempty"`
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
	*a = Argument{g.When, g.Each != "", g.Words, g.Arguments}
	return err
}

// MarshalJSON writes what UnmarshalJSON reads.
func (a Argument) MarshalJSON() ([]byte, error) {
	if !a.group() {
		return json.Marshal(a.Texts[0])
	}
	g := group{When: a.When, Words: a.Words, Arguments: a.Texts}
	if a.Each {
		g.Each = "frame"
	}
	return json.Marshal(g)
}

// group reports whether it is more than one text.
func (a Argument) group() bool { return a.When != "" || a.Each || a.Words != "" || len(a.Texts) != 1 }

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

// Here returns the candidates on this operating system.
func (p Program) Here() []string { return p.Candidates(runtime.GOOS) }

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

// texts returns all texts of a recipe in which placeholders are filled in at a
// launch.
func (r *Recipe) texts() []string {
	texts := slices.Collect(maps.Values(r.Environment))
	for _, a := range r.Arguments {
		texts = append(texts, a.Texts...)
	}
	if r.ResponseFile != nil {
		texts = append(texts, r.ResponseFile.Argument)
	}
	return texts
}

// uses reports whether a launch fills in a placeholder of which this is true.
func (r *Recipe) uses(is func(name string) bool) bool {
	return slices.ContainsFunc(r.texts(), func(text string) bool {
		return slices.ContainsFunc(inBraces.FindAllStringSubmatch(text, -1), func(m []string) bool { return is(m[1]) })
	})
}

// NeedsShot reports whether a launch depends on the shot range.
func (r *Recipe) NeedsShot() bool {
	return r.Numbering != nil && r.Numbering.Of == "shot" ||
		r.uses(func(name string) bool { return strings.HasPrefix(name, "shot_") })
}

// TakesLists reports whether one launch can be of frames that are not consecutive.
func (r *Recipe) TakesLists() bool {
	return r.uses(func(name string) bool { return strings.HasPrefix(name, "frames_") }) ||
		slices.ContainsFunc(r.Arguments, func(a Argument) bool { return a.Each })
}

// TakesFiles reports whether it is told the frames of another run as a list of files.
func (r *Recipe) TakesFiles() bool {
	return r.uses(func(name string) bool { return name == "from_files" })
}

// Launch returns the arguments and the environment of one launch of frames. Each
// argument of the recipe becomes exactly one argument, whatever the values hold; no
// shell is involved.
func (r *Recipe) Launch(with map[string]string, of frames.Set) (arguments, environment []string) {
	for _, a := range r.Arguments {
		switch {
		case a.When != "" && with[a.When] == "":
		case a.Words != "":
			words, _ := shellquote.Split(with[a.Words]) // was looked at when it was chosen
			for _, word := range words {
				arguments = append(arguments, Fill(word, with))
			}
		case a.Each:
			each := maps.Clone(with)
			for f := range of.All() {
				each["frame"], each["own_frame"] = strconv.Itoa(f), strconv.Itoa(f+r.numberingOffset(with))
				for _, text := range a.Texts {
					arguments = append(arguments, Fill(text, each))
				}
			}
		default:
			for _, text := range a.Texts {
				arguments = append(arguments, Fill(text, with))
			}
		}
	}
	for name, v := range r.Environment {
		environment = append(environment, name+"="+Fill(v, with))
	}
	return arguments, environment
}

// numberingOffset reads what the renderer's own number of a frame differs by.
func (r *Recipe) numberingOffset(with map[string]string) int {
	own, err1 := strconv.Atoi(with["own_first"])
	first, err2 := strconv.Atoi(with["first"])
	if err1 != nil || err2 != nil {
		return 0
	}
	return own - first
}

// Offset returns by how much the renderer's own numbers of frames are more than the
// frames, in a launch that begins with a frame of a shot.
func (r *Recipe) Offset(shotFirst, launchFirst int) int {
	if r.Numbering == nil {
		return 0
	}
	switch r.Numbering.Of {
	case "shot":
		return r.Numbering.First - shotFirst
	case "launch":
		return r.Numbering.First - launchFirst
	}
	return r.Numbering.First - 1
}

// Response returns what stands in a response file with these arguments.
func (f *ResponseFile) Response(arguments []string) []byte {
	var out strings.Builder
	for _, a := range arguments {
		if f.Quoted {
			a = `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(a) + `"`
		}
		out.WriteString(a + "\n")
	}
	return []byte(out.String())
}
