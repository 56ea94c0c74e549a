// Package plainyaml reads YAML files that others have written: plain values, lists
// and maps. Aliases are refused, with which a few lines can stand for more than
// any machine has room for, and so is what is too long or nested too deeply.
//
// It knows nothing of what the files mean.
package plainyaml

import (
	"bytes"
	"errors"
	"fmt"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/token"
)

// Bounds of a file.
const (
	MostBytes = 16 << 20
	mostDepth = 64
)

// ToJSON returns the file as JSON.
func ToJSON(data []byte) ([]byte, error) {
	if len(data) > MostBytes {
		return nil, fmt.Errorf("the file has %d bytes, and at most %d are read", len(data), MostBytes)
	}
	if !utf8.Valid(data) || bytes.IndexByte(data, 0) >= 0 {
		return nil, errors.New("the file is not text in UTF-8")
	}
	depth, open := 0, 0
	for _, t := range lexer.Tokenize(string(data)) {
		switch t.Type {
		case token.AliasType, token.AnchorType, token.MergeKeyType:
			return nil, fmt.Errorf(
				"line %d, column %d: %q: aliases are not supported; write the values out", t.Position.Line,
				t.Position.Column, t.Value,
			)
		case token.MappingStartType, token.SequenceStartType:
			open++
		case token.MappingEndType, token.SequenceEndType:
			open--
		}
		depth = max(depth, open, t.Position.IndentNum)
		if depth > mostDepth {
			return nil, fmt.Errorf("line %d: it is nested more than %d deep", t.Position.Line, mostDepth)
		}
	}
	return yaml.YAMLToJSON(data)
}
