package plainyaml

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// Position is a place in a file, both counted from 1; zero where it is not known.
type Position struct{ Line, Column int }

// String writes it for a message, or nothing.
func (p Position) String() string {
	if p.Line == 0 {
		return ""
	}
	return fmt.Sprintf("line %d, column %d", p.Line, p.Column)
}

// Where returns where in a file something stands: path leads to it by the names of
// fields and the numbers of items, from 0. Of what is not there it is where the
// nearest thing around it begins.
func Where(data []byte, path ...string) Position {
	file, err := parser.ParseBytes(data, 0)
	if err != nil || len(file.Docs) == 0 {
		return Position{}
	}
	node := file.Docs[0].Body
	at := begin(node)
	for _, step := range path {
		next, place := child(node, step)
		if next == nil {
			break
		}
		node, at = next, place
	}
	return at
}

// child returns what a step leads to, and where its name or value begins.
func child(node ast.Node, step string) (ast.Node, Position) {
	switch n := node.(type) {
	case *ast.MappingNode:
		for _, v := range n.Values {
			if v.Key.GetToken().Value == step {
				return v.Value, begin(v.Key)
			}
		}
	case *ast.MappingValueNode:
		if n.Key.GetToken().Value == step {
			return n.Value, begin(n.Key)
		}
	case *ast.SequenceNode:
		if i, err := strconv.Atoi(step); err == nil && i >= 0 && i < len(n.Values) {
			return n.Values[i], begin(n.Values[i])
		}
	}
	return nil, Position{}
}

// begin returns where a node begins: of a list or a map, where its first part does.
func begin(node ast.Node) Position {
	switch n := node.(type) {
	case nil:
		return Position{}
	case *ast.MappingNode:
		if len(n.Values) > 0 {
			return begin(n.Values[0].Key)
		}
	case *ast.MappingValueNode:
		return begin(n.Key)
	}
	t := node.GetToken()
	if t == nil || t.Position == nil {
		return Position{}
	}
	return Position{t.Position.Line, t.Position.Column}
}

// SyntaxAt returns where a file is no YAML, and why in one line, if err says so.
func SyntaxAt(err error) (at Position, why string) {
	var syntax *yaml.SyntaxError
	if errors.As(err, &syntax) && syntax.Token != nil && syntax.Token.Position != nil {
		return Position{syntax.Token.Position.Line, syntax.Token.Position.Column}, syntax.Message
	}
	why, _, _ = strings.Cut(err.Error(), "\n")
	return Position{}, why
}
