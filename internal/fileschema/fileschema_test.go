package fileschema

import (
	"errors"
	"testing"
)

const form = `{
	"type": "object", "required": ["name"], "additionalProperties": false,
	"properties": {
		"name": {"type": "string", "minLength": 1},
		"mode": {"enum": ["range", "whole"]},
		"count": {"type": "integer", "minimum": 1, "maximum": 9},
		"speed": {"type": "number", "exclusiveMinimum": 0, "exclusiveMaximum": 2.5},
		"list": {"type": "array", "minItems": 1, "items": {"type": "string", "pattern": "^[a-z]+$"}},
		"either": {"anyOf": [{"type": "string"}, {"type": "object", "required": ["x"]}]}
	}
}`

// TestWhatIsWrongIsSaidWhereItStands reads files with one mistake each.
func TestWhatIsWrongIsSaidWhereItStands(t *testing.T) {
	s := New([]byte(form))
	for text, want := range map[string]string{
		"name: vase\n":              "",
		"":                          "it is empty",
		"mode: range\n":             "line 1, column 1: name is missing",
		"name: ''\n":                "line 1, column 1: name: it is empty",
		"name: 3\n":                 "line 1, column 1: name: it is a number and should be text",
		"name: a\nmode: sideways\n": "line 2, column 1: mode: sideways is not one of range, whole",
		"name: a\ncount: 0\n":       "line 2, column 1: count: it is 0 and has to be at least 1",
		"name: a\ncount: 10\n":      "line 2, column 1: count: it is 10 and has to be at most 9",
		"name: a\ncount: 1.5\n":     "line 2, column 1: count: it is a number and should be a whole number",
		"name: a\nspeed: 0\n":       "line 2, column 1: speed: it is 0 and has to be more than 0",
		"name: a\nspeed: 2.5\n":     "line 2, column 1: speed: it is 2.5 and has to be less than 2.5",
		"name: a\nlist: []\n":       "line 2, column 1: list: it needs at least 1 entry",
		"name: a\nlist: [B]\n":      `line 2, column 8: list[0]: "B" does not have the form that it should: ^[a-z]+$`,
		"name: a\neither: {y: 1}\n": "line 2, column 1: either: x is missing",
		"name: a\nnome: b\ncount: 0\n": "line 2, column 1: nome: there is no such field; " +
			"line 3, column 1: count: it is 0 and has to be at least 1",
		"name: [\n": "line 1, column 7: sequence end token ']' not found",
	} {
		var into map[string]any
		err := s.Read([]byte(text), &into)
		var mistakes *MistakesError
		switch {
		case want == "" && err != nil:
			t.Errorf("%q: %v", text, err)
		case want != "" && (!errors.As(err, &mistakes) || err.Error() != want):
			t.Errorf("%q: %v, want %s", text, err, want)
		}
	}
	var into map[string]any
	var mistakes *MistakesError
	if err := New([]byte(`{"type": 3}`)).Read([]byte("a: 1"), &into); err == nil || errors.As(err, &mistakes) {
		t.Errorf("a schema that is none: %v", err)
	}
}

// FuzzRead reads whatever there is: it must not panic.
func FuzzRead(f *testing.F) {
	s := New([]byte(form))
	f.Add([]byte("name: a\nlist: [a, B]\n"))
	f.Fuzz(func(_ *testing.T, data []byte) {
		if len(data) < 4096 {
			var into map[string]any
			_ = s.Read(data, &into)
		}
	})
}
