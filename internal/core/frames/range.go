package frames

import (
	"fmt"
	"strconv"
	"strings"
)

const (
	// Least is the least frame number. It leaves room for arithmetic in 32 bits,
	// which is what databases and renderers use.
	Least = -1_000_000_000
	// Most is the greatest frame number.
	Most = 1_000_000_000

	// MaxCount is the largest number of frames that one range may name.
	MaxCount = 10_000_000

	// MaxStretches is the largest number of separate stretches that one range
	// may name: 1-9/2 has five.
	MaxStretches = 100_000

	maxParts = 10_000
	maxText  = 128 * 1024
)

// Part is one piece of a frame range: First, First+Step … up to Last.
type Part struct {
	First, Last int
	Step        int // 1 or more
}

// Count returns how many frames the part names.
func (p Part) Count() int { return (p.Last-p.First)/p.Step + 1 }

// add adds the frames of a part, one by one where it has a step.
func (p Part) add(b *builder) {
	if p.Step == 1 {
		b.add(Span{p.First, p.Last})
		return
	}
	for f := p.First; f <= p.Last; f += p.Step {
		b.add(Span{f, f})
	}
}

// ParseError says where a frame range could not be read, and why.
type ParseError struct {
	Text     string // what was given, shortened if it is long
	Position int    // offset in bytes, from 0
	Reason   string
}

// Error says what is wrong, where, and how a range is written.
func (e *ParseError) Error() string {
	if strings.TrimSpace(e.Text) == "" {
		return "the frame range is empty; write it like 1-180, 1-180/2 or 1,5,9-20"
	}
	return fmt.Sprintf(
		"frame range %q: %s at character %d; write it like 1-180, 1-180/2 or 1,5,9-20", e.Text, e.Reason, e.Position+1,
	)
}

// Parse reads a frame range such as "1-180", "1-180/2", "1,5,9-20" or
// "-10--1" and returns its frames. Spaces around numbers and commas are
// allowed; frames named twice count once. The error is a *ParseError.
func Parse(text string) (Set, error) {
	fail := func(at int, reason string, args ...any) (Set, error) {
		return Set{}, &ParseError{Text: shorten(text), Position: at, Reason: fmt.Sprintf(reason, args...)}
	}
	if len(text) > maxText {
		return fail(maxText, "it is longer than %d characters", maxText)
	}
	if strings.TrimSpace(text) == "" {
		return fail(0, "it is empty")
	}
	if n := strings.Count(text, ",") + 1; n > maxParts {
		return fail(0, "it has %d parts, more than %d,", n, maxParts)
	}
	var b builder
	total, stretches, at := 0, 0, 0
	for piece := range strings.SplitSeq(text, ",") {
		part, offset, reason := parsePart(piece)
		if reason != "" {
			return fail(at+offset, "%s", reason)
		}
		total += part.Count()
		if total > MaxCount {
			return fail(at, "it names more than %d frames", MaxCount)
		}
		stretches++
		if part.Step > 1 {
			stretches += part.Count() - 1
		}
		if stretches > MaxStretches {
			return fail(at, "it names more than %d separate stretches of frames", MaxStretches)
		}
		part.add(&b)
		at += len(piece) + 1
	}
	return b.set(), nil
}

// ParseSpan reads a range of consecutive frames such as "1-180", or one frame.
// The error is a *ParseError.
func ParseSpan(text string) (Span, error) {
	part, offset, reason := parsePart(text)
	switch {
	case reason != "":
		return Span{}, &ParseError{Text: shorten(text), Position: offset, Reason: reason}
	case part.Step != 1:
		return Span{}, &ParseError{
			Text: shorten(text), Position: strings.IndexByte(text, '/'), Reason: "a whole animation has no step",
		}
	}
	return Span{part.First, part.Last}, nil
}

// parsePart reads one piece between commas. A reason other than "" means that
// it could not, with the offset inside the piece.
func parsePart(piece string) (p Part, offset int, reason string) {
	s := scanner{text: piece}
	s.spaces()
	if s.done() {
		return p, s.at, "a number is missing"
	}
	if p.First, reason = s.number(); reason != "" {
		return p, s.at, reason
	}
	p.Last, p.Step = p.First, 1
	s.spaces()
	if s.take('-') {
		s.spaces()
		before := s.at
		if p.Last, reason = s.number(); reason != "" {
			return p, s.at, "the last frame is missing or " + reason
		}
		if p.Last < p.First {
			return p, before, fmt.Sprintf("the last frame %d is before the first frame %d", p.Last, p.First)
		}
		s.spaces()
	}
	if s.take('/') {
		s.spaces()
		before := s.at
		if p.Step, reason = s.number(); reason != "" {
			return p, s.at, "the step is missing or " + reason
		}
		if p.Step < 1 {
			return p, before, "the step must be 1 or more"
		}
		s.spaces()
	}
	if !s.done() {
		return p, s.at, fmt.Sprintf("%q does not belong there", piece[s.at:s.at+1])
	}
	return p, 0, ""
}

type scanner struct {
	text string
	at   int
}

func (s *scanner) done() bool { return s.at >= len(s.text) }

func (s *scanner) spaces() {
	for !s.done() && (s.text[s.at] == ' ' || s.text[s.at] == '\t') {
		s.at++
	}
}

func (s *scanner) take(c byte) bool {
	if s.done() || s.text[s.at] != c {
		return false
	}
	s.at++
	return true
}

func (s *scanner) number() (int, string) {
	start := s.at
	s.take('-')
	for !s.done() && s.text[s.at] >= '0' && s.text[s.at] <= '9' {
		s.at++
	}
	n, err := strconv.Atoi(s.text[start:s.at])
	if err != nil && s.at-start <= 1 {
		s.at = start
		return 0, "not a number"
	}
	if err != nil || n < Least || n > Most {
		s.at = start
		return 0, fmt.Sprintf("not between %d and %d", Least, Most)
	}
	return n, ""
}

func shorten(text string) string {
	const most = 60
	if len(text) <= most {
		return text
	}
	return text[:most] + "…"
}
