package trait

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// Expression picks machines by their traits. The zero value picks all.
type Expression struct {
	text  string
	root  term
	names []string
}

// String returns the expression as it was written.
func (e Expression) String() string { return e.text }

// Names returns the names of the traits that the expression asks for.
func (e Expression) Names() []string { return e.names }

// Matches reports whether a machine with these traits is picked.
func (e Expression) Matches(s Set) bool { return e.root == nil || e.root.holds(s) }

// Missing returns the smallest part of the expression, as written, by which a
// machine is not picked: what to tell somebody who asks why. It is empty if
// the machine is picked.
func (e Expression) Missing(s Set) string {
	if e.Matches(s) {
		return ""
	}
	return e.root.missing(s)
}

// SyntaxError says what is wrong with an expression, and where.
type SyntaxError struct {
	Text string
	At   int // characters before the place, from 0
	What string
}

// Error says what is wrong and shows the place.
func (e *SyntaxError) Error() string {
	return fmt.Sprintf("%s at character %d of %q", e.What, e.At+1, e.Text)
}

// Limits of expressions.
const (
	mostText  = 1000 // characters
	mostDepth = 50   // of brackets and negations
)

// ParseExpression reads an expression. Empty text picks all. The error is a
// *SyntaxError.
func ParseExpression(text string) (Expression, error) {
	e := Expression{text: strings.TrimSpace(text)}
	if e.text == "" {
		return e, nil
	}
	p := &parser{text: e.text}
	if utf8.RuneCountInString(e.text) > mostText {
		return Expression{}, p.fail(0, fmt.Sprintf("an expression has at most %d characters; this has more", mostText))
	}
	if !utf8.ValidString(e.text) {
		return Expression{}, p.fail(0, "the text is not UTF-8")
	}
	p.next()
	root, err := p.or()
	if err == nil && p.kind != tokenEnd {
		err = p.fail(
			p.at,
			fmt.Sprintf("%s makes no sense here; && or || is missing before it, or a bracket is not open", p.seen()),
		)
	}
	if err != nil {
		return Expression{}, err
	}
	slices.Sort(p.names)
	e.root, e.names = root, slices.Compact(p.names)
	return e, nil
}

// term is a part of an expression.
type term interface {
	holds(s Set) bool
	missing(s Set) string // of one that does not hold
	write() string
}

type both struct{ a, b term }

func (t both) holds(s Set) bool { return t.a.holds(s) && t.b.holds(s) }
func (t both) write() string    { return t.a.write() + " && " + t.b.write() }
func (t both) missing(s Set) string {
	if !t.a.holds(s) {
		return t.a.missing(s)
	}
	return t.b.missing(s)
}

type either struct{ a, b term }

func (t either) holds(s Set) bool   { return t.a.holds(s) || t.b.holds(s) }
func (t either) missing(Set) string { return t.write() }
func (t either) write() string      { return "(" + t.a.write() + " || " + t.b.write() + ")" }

type not struct{ a term }

func (t not) holds(s Set) bool   { return !t.a.holds(s) }
func (t not) missing(Set) string { return t.write() }
func (t not) write() string {
	if _, ok := t.a.(both); ok {
		return "!(" + t.a.write() + ")"
	}
	return "!" + t.a.write()
}

type present struct{ name string }

func (t present) holds(s Set) bool   { return s.Has(t.name) }
func (t present) missing(Set) string { return t.write() }
func (t present) write() string      { return t.name }

type compared struct{ name, operator, value string }

func (t compared) holds(s Set) bool {
	if t.operator == "!=" { // no value of that name is the same
		return !compared{t.name, "==", t.value}.holds(s)
	}
	return slices.ContainsFunc(s.byName[t.name], func(o Trait) bool {
		c := compare(o.Value, t.value)
		switch t.operator {
		case "==":
			return c == 0
		case "<":
			return c < 0
		case "<=":
			return c <= 0
		case ">":
			return c > 0
		default:
			return c >= 0
		}
	})
}
func (t compared) missing(Set) string { return t.write() }
func (t compared) write() string {
	if t.value == "" || strings.ContainsFunc(t.value, func(c rune) bool { return !bare(c) }) {
		return t.name + t.operator + `"` + t.value + `"`
	}
	return t.name + t.operator + t.value
}

type tokenKind int

const (
	tokenEnd tokenKind = iota
	tokenWord
	tokenQuoted
	tokenSign
	tokenWrong
)

// parser reads tokens with one in hand.
type parser struct {
	text  string
	pos   int // byte behind the token in hand
	kind  tokenKind
	token string
	at    int // byte where it begins
	why   string
	depth int
	names []string
}

func (p *parser) fail(at int, what string) error {
	return &SyntaxError{Text: p.text, At: utf8.RuneCountInString(p.text[:at]), What: what}
}

func (p *parser) seen() string {
	if p.kind == tokenEnd {
		return "the end"
	}
	return `"` + p.token + `"`
}

// bare reports whether a character may stand in a word without quotes.
func bare(c rune) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune("_.-:/+", c) ||
		c > 127
}

var signs = []string{"&&", "||", "==", "!=", "<=", ">=", "<", ">", "!", "(", ")"}

// next takes the next token in hand.
func (p *parser) next() {
	for p.pos < len(p.text) && strings.ContainsRune(" \t\n\r", rune(p.text[p.pos])) {
		p.pos++
	}
	p.at = p.pos
	rest := p.text[p.pos:]
	if rest == "" {
		p.kind, p.token = tokenEnd, ""
		return
	}
	for _, s := range signs {
		if strings.HasPrefix(rest, s) {
			p.kind, p.token = tokenSign, s
			p.pos += len(s)
			return
		}
	}
	if rest[0] == '"' {
		end := strings.IndexByte(rest[1:], '"')
		if end < 0 {
			p.kind, p.token, p.why = tokenWrong, `"`, "the quote that opens here is not closed"
			p.pos = len(p.text)
			return
		}
		p.kind, p.token = tokenQuoted, rest[1:1+end]
		p.pos += end + 2
		return
	}
	end := strings.IndexFunc(rest, func(c rune) bool { return !bare(c) })
	if end < 0 {
		end = len(rest)
	}
	if end == 0 {
		c, size := utf8.DecodeRuneInString(rest)
		p.kind, p.token = tokenWrong, string(c)
		p.why = map[rune]string{
			'&': "a single & means nothing; write &&", '|': "a single | means nothing; write ||",
			'=': "a single = means nothing; write ==",
		}[c]
		if p.why == "" {
			p.why = fmt.Sprintf("the character %q has no meaning", c)
		}
		p.pos += size
		return
	}
	p.kind, p.token = tokenWord, rest[:end]
	p.pos += end
}

func (p *parser) takes(sign string) bool {
	if p.kind != tokenSign || p.token != sign {
		return false
	}
	p.next()
	return true
}

func (p *parser) or() (term, error) {
	a, err := p.and()
	for err == nil && p.takes("||") {
		var b term
		if b, err = p.and(); err == nil {
			a = either{a, b}
		}
	}
	return a, err
}

func (p *parser) and() (term, error) {
	a, err := p.one()
	for err == nil && p.takes("&&") {
		var b term
		if b, err = p.one(); err == nil {
			a = both{a, b}
		}
	}
	return a, err
}

func (p *parser) one() (term, error) {
	if p.depth++; p.depth > mostDepth {
		return nil, p.fail(p.at, "brackets and negations are nested too deep")
	}
	defer func() { p.depth-- }()
	if p.takes("!") {
		a, err := p.one()
		return not{a}, err
	}
	if open := p.at; p.takes("(") {
		a, err := p.or()
		if err != nil {
			return nil, err
		}
		if !p.takes(")") {
			if p.kind == tokenEnd {
				return nil, p.fail(open, "the bracket that opens here is not closed")
			}
			return nil, p.fail(p.at, fmt.Sprintf("%s makes no sense here; && or || is missing before it", p.seen()))
		}
		return a, nil
	}
	return p.comparison()
}

func (p *parser) comparison() (term, error) {
	if p.kind == tokenWrong {
		return nil, p.fail(p.at, p.why)
	}
	if p.kind != tokenWord {
		return nil, p.fail(p.at, fmt.Sprintf("a trait is expected, not %s,", p.seen()))
	}
	name := p.token
	if !nameForm.MatchString(name) || len(name) > mostName {
		return nil, p.fail(
			p.at, fmt.Sprintf("%q is not a trait name (small letters, digits, dots, hyphens and underscores)", name),
		)
	}
	p.names = append(p.names, name)
	p.next()
	if p.kind == tokenWrong {
		return nil, p.fail(p.at, p.why)
	}
	if p.kind != tokenSign || !slices.Contains([]string{"==", "!=", "<", "<=", ">", ">="}, p.token) {
		return present{name}, nil
	}
	operator := p.token
	p.next()
	if p.kind == tokenWrong {
		return nil, p.fail(p.at, p.why)
	}
	if p.kind != tokenWord && p.kind != tokenQuoted {
		return nil, p.fail(p.at, fmt.Sprintf("a value is expected after %s, not %s,", operator, p.seen()))
	}
	t := compared{name, operator, p.token}
	p.next()
	return t, nil
}
