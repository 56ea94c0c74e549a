package recipe

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/dustin/go-humanize/english"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"vexillum/internal/plainyaml"
)

// Mistake is one thing that is wrong with a recipe file.
type Mistake struct {
	At    plainyaml.Position
	Field string // such as arguments[2]; empty of the file as a whole
	What  string
}

// String writes it as one line.
func (m Mistake) String() string {
	var parts []string
	for _, p := range []string{m.At.String(), m.Field, m.What} {
		if p != "" {
			parts = append(parts, p)
		}
	}
	return strings.Join(parts, ": ")
}

// MistakesError says what is wrong with a recipe file; there is at least one.
type MistakesError struct{ Mistakes []Mistake }

// Error names all of them.
func (e *MistakesError) Error() string {
	var lines []string
	for _, m := range e.Mistakes {
		lines = append(lines, m.String())
	}
	return strings.Join(lines, "; ")
}

// wrong is a mistake by the way that leads to it in the file.
type wrong struct {
	path []string
	what string
}

// Parse reads a recipe file and checks it against the schema and for patterns and
// placeholders that cannot work. The error is a *[MistakesError].
func Parse(data []byte) (*Recipe, error) {
	asJSON, err := plainyaml.ToJSON(data)
	if err != nil {
		at, why := plainyaml.SyntaxAt(err)
		return nil, &MistakesError{[]Mistake{{At: at, What: why}}}
	}
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(asJSON))
	if err != nil {
		return nil, &MistakesError{[]Mistake{{What: err.Error()}}}
	}
	schema, err := compileSchema()
	if err != nil {
		return nil, err
	}
	if err := schema.Validate(document); err != nil {
		var invalid *jsonschema.ValidationError
		if !errors.As(err, &invalid) {
			return nil, err
		}
		return nil, placed(data, misfits(invalid))
	}
	var r Recipe
	if err := json.Unmarshal(asJSON, &r); err != nil {
		return nil, &MistakesError{[]Mistake{{What: err.Error()}}}
	}
	r.addKnown()
	if found := r.check(); len(found) > 0 {
		return nil, placed(data, found)
	}
	r.text = string(data)
	return &r, nil
}

// placed finds where in the file mistakes are, and puts them in that order.
func placed(data []byte, found []wrong) *MistakesError {
	out := &MistakesError{}
	for _, w := range found {
		field := ""
		for i, step := range w.path {
			switch {
			case step != "" && step[0] >= '0' && step[0] <= '9':
				field += "[" + step + "]"
			case i > 0:
				field += "." + step
			default:
				field = step
			}
		}
		out.Mistakes = append(out.Mistakes, Mistake{plainyaml.Where(data, w.path...), field, w.what})
	}
	slices.SortStableFunc(out.Mistakes, func(a, b Mistake) int {
		if a.At.Line != b.At.Line {
			return a.At.Line - b.At.Line
		}
		return a.At.Column - b.At.Column
	})
	return out
}

// misfits lists where a file does not fit the schema.
func misfits(e *jsonschema.ValidationError) []wrong {
	switch k := e.ErrorKind.(type) {
	case *kind.OneOf, *kind.AnyOf: // one of several forms was meant: the one that was begun
		return deepest(e)
	case *kind.AdditionalProperties:
		var out []wrong
		for _, name := range k.Properties {
			out = append(out, wrong{append(slices.Clone(e.InstanceLocation), name), "there is no such field"})
		}
		return out
	case *kind.Required:
		return []wrong{{e.InstanceLocation, fmt.Sprintf(
			"%s %s missing", english.WordSeries(k.Missing, "and"), english.PluralWord(len(k.Missing), "is", "are"),
		)}}
	case *kind.Enum:
		if k.Got == nil {
			return []wrong{{e.InstanceLocation, "it is empty"}}
		}
		var all []string
		for _, v := range k.Want {
			all = append(all, fmt.Sprint(v))
		}
		return []wrong{{e.InstanceLocation, fmt.Sprintf("%v is not one of %s", k.Got, strings.Join(all, ", "))}}
	case *kind.MinItems:
		return []wrong{
			{e.InstanceLocation, fmt.Sprintf("it needs at least %s", english.Plural(k.Want, "entry", "entries"))},
		}
	case *kind.MinProperties:
		return []wrong{{e.InstanceLocation, fmt.Sprintf("it needs at least %s", english.Plural(k.Want, "field", ""))}}
	case *kind.MinLength:
		return []wrong{{e.InstanceLocation, "it is empty"}}
	case *kind.Pattern:
		return []wrong{{e.InstanceLocation, fmt.Sprintf("%q does not have the form that it should: %s", k.Got, k.Want)}}
	case *kind.Minimum, *kind.Maximum:
		return []wrong{{e.InstanceLocation, "it is out of bounds: " +
			e.ErrorKind.LocalizedString(message.NewPrinter(language.English))}}
	case *kind.Type:
		return []wrong{{e.InstanceLocation, misfitOfType(k)}}
	}
	if len(e.Causes) == 0 {
		return []wrong{{e.InstanceLocation, e.ErrorKind.LocalizedString(message.NewPrinter(language.English))}}
	}
	var out []wrong
	for _, c := range e.Causes {
		out = append(out, misfits(c)...)
	}
	return out
}

// misfitOfType says what stands there and what belongs there.
func misfitOfType(k *kind.Type) string {
	if k.Got == "null" {
		return "it is empty"
	}
	var wanted []string
	for _, t := range k.Want {
		wanted = append(wanted, plainType(t))
	}
	return fmt.Sprintf("it is %s and should be %s", plainType(k.Got), english.WordSeries(wanted, "or"))
}

// plainType returns a type of JSON Schema in the words of a person who writes YAML.
func plainType(t string) string {
	switch t {
	case "object":
		return "a set of fields"
	case "array":
		return "a list"
	case "string":
		return "text"
	case "boolean":
		return "true or false"
	case "integer":
		return "a whole number"
	case "number":
		return "a number"
	}
	return t
}

// deepest returns the misfits of the form that fits furthest: not of one that would
// be another kind of thing, unless all would.
func deepest(e *jsonschema.ValidationError) []wrong {
	var best []wrong
	depth := -1
	for _, c := range e.Causes {
		if _, other := c.ErrorKind.(*kind.Type); other {
			if best == nil {
				best = misfits(c)
			}
			continue
		}
		for _, w := range misfits(c) {
			if len(w.path) > depth {
				best, depth = misfits(c), len(w.path)
			}
		}
	}
	return best
}
