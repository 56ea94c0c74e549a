// Package fileschema reads files that people write, in YAML, by their published schema,
// and says what is wrong with them: where, at which field, and in words. It knows nothing
// of what the files are about.
package fileschema

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/dustin/go-humanize/english"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"vexillum/internal/plainyaml"
)

// Mistake is one thing that is wrong with a file.
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

// MistakesError says what is wrong with a file; there is at least one mistake.
type MistakesError struct{ Mistakes []Mistake }

// Error names all of them.
func (e *MistakesError) Error() string {
	var lines []string
	for _, m := range e.Mistakes {
		lines = append(lines, m.String())
	}
	return strings.Join(lines, "; ")
}

// Wrong is a mistake by the way that leads to it in the file.
type Wrong struct {
	Path []string // names of fields and numbers of entries
	What string
}

// Schema is the published form of a kind of file. Use New; a Schema may be used by any
// number of goroutines.
type Schema struct {
	compile func() (compiled, error)
}

// compiled is a schema as it is used.
type compiled struct {
	*jsonschema.Schema
	examples examples
}

// examples are what the schema gives as such, by the pattern of the text that it is of.
type examples map[string]string

// collect finds the examples in a part of a schema.
func (x examples) collect(part any) {
	switch part := part.(type) {
	case []any:
		for _, p := range part {
			x.collect(p)
		}
	case map[string]any:
		pattern, ok := part["pattern"].(string)
		if all, given := part["examples"].([]any); ok && given && len(all) > 0 {
			x[pattern] = fmt.Sprint(all[0])
		}
		for _, p := range part {
			x.collect(p)
		}
	}
}

// New returns the schema of a text of JSON Schema, which is read when it is first needed.
func New(text []byte) *Schema {
	return &Schema{sync.OnceValues(func() (compiled, error) {
		const name = "schema.json"
		document, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
		if err != nil {
			return compiled{}, fmt.Errorf("reading the schema: %w", err)
		}
		c := jsonschema.NewCompiler()
		if err := c.AddResource(name, document); err != nil {
			return compiled{}, fmt.Errorf("reading the schema: %w", err)
		}
		out := compiled{examples: examples{}}
		out.examples.collect(document)
		out.Schema, err = c.Compile(name)
		return out, err
	})}
}

// Read reads a YAML file that fits the schema into a value, as JSON would be. The error is
// a *[MistakesError] where the file is to blame.
func (s *Schema) Read(data []byte, into any) error {
	asJSON, err := plainyaml.ToJSON(data)
	if err != nil {
		at, why := plainyaml.SyntaxAt(err)
		return &MistakesError{[]Mistake{{At: at, What: why}}}
	}
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(asJSON))
	if err != nil {
		return &MistakesError{[]Mistake{{What: err.Error()}}}
	}
	schema, err := s.compile()
	if err != nil {
		return err
	}
	if err := schema.Validate(document); err != nil {
		var invalid *jsonschema.ValidationError
		if !errors.As(err, &invalid) {
			return err
		}
		return Placed(data, schema.examples.misfits(invalid))
	}
	if err := json.Unmarshal(asJSON, into); err != nil {
		return &MistakesError{[]Mistake{{What: err.Error()}}}
	}
	return nil
}

// Placed finds where in the file mistakes are, and puts them in that order.
func Placed(data []byte, found []Wrong) *MistakesError {
	out := &MistakesError{}
	for _, w := range found {
		field := ""
		for i, step := range w.Path {
			switch {
			case step != "" && step[0] >= '0' && step[0] <= '9':
				field += "[" + step + "]"
			case i > 0:
				field += "." + step
			default:
				field = step
			}
		}
		out.Mistakes = append(out.Mistakes, Mistake{plainyaml.Where(data, w.Path...), field, w.What})
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
func (x examples) misfits(e *jsonschema.ValidationError) []Wrong {
	switch k := e.ErrorKind.(type) {
	case *kind.OneOf, *kind.AnyOf: // one of several forms was meant: the one that was begun
		return x.deepest(e)
	case *kind.AdditionalProperties:
		var out []Wrong
		for _, name := range k.Properties {
			out = append(out, Wrong{append(slices.Clone(e.InstanceLocation), name), "there is no such field"})
		}
		return out
	case *kind.Required:
		return []Wrong{{e.InstanceLocation, fmt.Sprintf(
			"%s %s missing", english.WordSeries(k.Missing, "and"), english.PluralWord(len(k.Missing), "is", "are"),
		)}}
	case *kind.Enum:
		if k.Got == nil {
			return []Wrong{{e.InstanceLocation, "it is empty"}}
		}
		var all []string
		for _, v := range k.Want {
			all = append(all, fmt.Sprint(v))
		}
		return []Wrong{{e.InstanceLocation, fmt.Sprintf("%v is not one of %s", k.Got, strings.Join(all, ", "))}}
	case *kind.MinItems:
		return []Wrong{
			{e.InstanceLocation, fmt.Sprintf("it needs at least %s", english.Plural(k.Want, "entry", "entries"))},
		}
	case *kind.MinProperties:
		return []Wrong{{e.InstanceLocation, fmt.Sprintf("it needs at least %s", english.Plural(k.Want, "field", ""))}}
	case *kind.MinLength:
		return []Wrong{{e.InstanceLocation, "it is empty"}}
	case *kind.Pattern:
		if such := x[k.Want]; such != "" {
			what := fmt.Sprintf("%.60q is not written as it should be, such as %s", k.Got, such)
			return []Wrong{{e.InstanceLocation, what}}
		}
		what := fmt.Sprintf("%.60q does not have the form that it should: %s", k.Got, k.Want)
		return []Wrong{{e.InstanceLocation, what}}
	case *kind.Minimum:
		return outOfBounds(e, k.Got, "at least", k.Want)
	case *kind.Maximum:
		return outOfBounds(e, k.Got, "at most", k.Want)
	case *kind.ExclusiveMinimum:
		return outOfBounds(e, k.Got, "more than", k.Want)
	case *kind.ExclusiveMaximum:
		return outOfBounds(e, k.Got, "less than", k.Want)
	case *kind.Type:
		return []Wrong{{e.InstanceLocation, misfitOfType(k)}}
	}
	if len(e.Causes) == 0 {
		return []Wrong{{e.InstanceLocation, e.ErrorKind.LocalizedString(message.NewPrinter(language.English))}}
	}
	var out []Wrong
	for _, c := range e.Causes {
		out = append(out, x.misfits(c)...)
	}
	return out
}

func outOfBounds(e *jsonschema.ValidationError, got *big.Rat, bound string, want *big.Rat) []Wrong {
	is, limit := plainNumber(got), plainNumber(want)
	return []Wrong{{e.InstanceLocation, fmt.Sprintf("it is %s and has to be %s %s", is, bound, limit)}}
}

func plainNumber(r *big.Rat) string {
	f, _ := r.Float64()
	return strconv.FormatFloat(f, 'g', -1, 64)
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
func (x examples) deepest(e *jsonschema.ValidationError) []Wrong {
	var best []Wrong
	depth := -1
	for _, c := range e.Causes {
		if _, other := c.ErrorKind.(*kind.Type); other {
			if best == nil {
				best = x.misfits(c)
			}
			continue
		}
		for _, w := range x.misfits(c) {
			if len(w.Path) > depth {
				best, depth = x.misfits(c), len(w.Path)
			}
		}
	}
	return best
}
