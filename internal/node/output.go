package node

import (
	"bytes"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"vexillum/internal/core/triage"
	"vexillum/internal/recipe"
)

// mark is what one line of a renderer's output reports.
type mark struct {
	begins   *int      // this frame begins, by the renderer's own number
	unnamed  bool      // a frame begins, but the line does not name it
	ends     *int      // this frame is finished
	ended    bool      // the frame in flight is finished, and the line does not name it
	seconds  float64   // that the frame took, as the renderer says; 0: it does not
	memory   int64     // bytes that the renderer says it has
	warning  bool      // the line makes the frame in flight suspect
	fails    string    // cause: the frame has failed, however the renderer ends
	progress *float64  // of the frame in flight, 0 to 1
	text     string    // the line
	feed     string    // a line of the feed protocol, without its "vx "
	last     *saidOf   // all that was said of the frame that ends with this line; nil: none does
	at       time.Time // when it was said
}

// saidOf is what a renderer has said of one frame, the most telling line first, and the cause of a
// failure that it named; empty: none.
type saidOf struct{ words, cause string }

// lastWords is how much of a renderer's output is kept for a failure.
const lastWords = 3 << 10

// reader splits what a renderer says into lines and reads them by a recipe.
type reader struct {
	begins, ends, progress, percent, seconds, memory *regexp.Regexp

	memoryUnit float64
	warnings   []*regexp.Regexp
	causes     []causeRule
	marks      func(mark)
	understood func(line string, m mark, cause string)     // may be nil
	say        func(at time.Time, stream int, text string) // may be nil
	stream     int                                         // of the line in hand
	told       time.Time                                   // when progress was last passed on to say

	mu   sync.Mutex
	at   time.Time      // when the line in hand was said
	part map[int][]byte // unfinished line by stream
	// of the frame in flight; a renderer that goes on after a frame that has failed says of the
	// next what is its own
	tail   []byte
	cause  string // of the first line that names one
	named  string // that line
	flying bool   // a frame has begun, and none has ended since
	begun  *int   // that frame; nil: the line did not name it
}

type causeRule struct {
	match  *regexp.Regexp
	cause  string
	always bool
}

func newReader(r recipe.Reading, marks func(mark)) *reader {
	pattern := func(text string) *regexp.Regexp {
		if text == "" {
			return nil
		}
		return regexp.MustCompile(text)
	}
	out := &reader{
		marks: marks, part: map[int][]byte{}, begins: pattern(r.Begins), ends: pattern(r.Ends),
		progress: pattern(r.Progress), percent: pattern(r.Percent), seconds: pattern(r.Seconds),
	}
	if r.Memory != nil {
		out.memory, out.memoryUnit = pattern(r.Memory.Match), r.Memory.Bytes()
	}
	for _, text := range r.Warnings {
		out.warnings = append(out.warnings, regexp.MustCompile(text))
	}
	for _, c := range r.Causes {
		out.causes = append(out.causes, causeRule{regexp.MustCompile(c.Match), c.Cause, c.Always})
	}
	return out
}

// sayProgress is how often lines of progress are passed on: people follow the
// bar, and want to find something in the log.
const sayProgress = 5 * time.Second

// longestLine bounds a line; what is longer is cut.
const longestLine = 16 << 10

// Said implements launcher.Output. Lines end with a line feed or, as progress
// does, with a carriage return.
func (r *reader) Said(stream int, p []byte, at time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.at, r.stream = at, stream
	buf := append(r.part[stream], p...)
	for {
		end := bytes.IndexAny(buf, "\r\n")
		if end < 0 {
			break
		}
		r.line(string(buf[:end]))
		buf = buf[end+1:]
	}
	if len(buf) > longestLine {
		buf = buf[len(buf)-longestLine:]
	}
	r.part[stream] = append([]byte(nil), buf...)
}

func (r *reader) line(line string) {
	if strings.TrimSpace(line) == "" {
		return
	}
	var m mark
	if part, matches := r.progressOf(line); matches {
		if part != nil {
			m.progress, m.at = part, r.at
			r.marks(m)
		}
		if r.understood != nil {
			r.understood(line, m, "")
		}
		if r.say != nil && r.at.Sub(r.told) >= sayProgress {
			r.told = r.at
			r.say(r.at, r.stream, line)
		}
		return // progress is no evidence of anything else
	}
	if r.say != nil {
		r.say(r.at, r.stream, line)
	}
	m.begins, m.unnamed = numberIn(r.begins, line)
	if begins := m.begins != nil || m.unnamed; begins {
		if again := m.begins != nil && r.begun != nil && *m.begins == *r.begun; r.flying && !again {
			m.last = r.frameOver()
		}
		r.flying, r.begun = true, m.begins
	}
	r.tail = append(append(r.tail, line...), '\n')
	if over := len(r.tail) - lastWords; over > 0 {
		r.tail = r.tail[over:]
	}
	cause := ""
	if i := slices.IndexFunc(r.causes, func(c causeRule) bool { return c.match.MatchString(line) }); i >= 0 {
		cause = r.causes[i].cause
		if r.causes[i].always {
			m.fails = cause
		}
		if r.cause == "" {
			r.cause, r.named = cause, strings.TrimSpace(line)
		}
	}
	m.ends, m.ended = numberIn(r.ends, line)
	m.seconds = valueIn(r.seconds, line)
	m.memory = int64(min(valueIn(r.memory, line)*r.memoryUnit, maxMemory))
	m.warning = slices.ContainsFunc(r.warnings, func(w *regexp.Regexp) bool { return w.MatchString(line) })
	if text, ok := strings.CutPrefix(line, "vx "); ok {
		m.feed = text
	}
	if m.ends != nil || m.ended || strings.HasPrefix(m.feed, "done ") {
		m.last = r.frameOver()
	}
	m.at, m.text = r.at, line
	r.marks(m)
	if r.understood != nil {
		r.understood(line, m, cause)
	}
}

// maxMemory bounds what a renderer may say of its memory, in bytes.
const maxMemory = 1 << 50

// numberIn reads the number of a frame in a line. unnamed says that the line
// matches and has none.
func numberIn(pattern *regexp.Regexp, line string) (frame *int, unnamed bool) {
	if pattern == nil {
		return nil, false
	}
	g := pattern.FindStringSubmatch(line)
	if g == nil {
		return nil, false
	}
	for _, text := range g[1:] {
		if n, err := strconv.Atoi(text); err == nil {
			return &n, false
		}
	}
	return nil, true
}

// valueIn reads a positive number in a line; 0 where there is none.
func valueIn(pattern *regexp.Regexp, line string) float64 {
	if pattern == nil {
		return 0
	}
	g := pattern.FindStringSubmatch(line)
	if g == nil {
		return 0
	}
	n, err := strconv.ParseFloat(strings.ReplaceAll(g[1], ",", ""), 64)
	if err != nil || math.IsNaN(n) || math.IsInf(n, 0) {
		return 0
	}
	return max(0, n)
}

// progressOf reads progress: as done of all, or as a bare per cent. What matches and is
// no number says nothing.
func (r *reader) progressOf(line string) (part *float64, matches bool) {
	of := func(done, all string) *float64 {
		d, err1 := strconv.ParseFloat(done, 64)
		a, err2 := strconv.ParseFloat(all, 64)
		if err1 != nil || err2 != nil || a <= 0 || math.IsNaN(d) {
			return nil
		}
		p := min(max(d/a, 0), 1)
		return &p
	}
	if r.progress != nil {
		if g := r.progress.FindStringSubmatch(line); g != nil {
			return of(g[1], g[2]), true
		}
	}
	if r.percent != nil {
		if g := r.percent.FindStringSubmatch(line); g != nil {
			return of(g[1], "100"), true
		}
	}
	return nil, false
}

// words returns the end of what the renderer said since the last frame ended, the most telling
// line first, and the cause that it named, if any.
func (r *reader) words() (text, cause string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.said()
}

// frameOver returns what was said of the frame in flight, which has ended, and forgets it.
func (r *reader) frameOver() *saidOf {
	words, cause := r.said()
	r.tail, r.cause, r.named, r.flying, r.begun = nil, "", "", false, nil
	return &saidOf{words, cause}
}

func (r *reader) said() (text, cause string) {
	text = strings.TrimSpace(string(r.tail))
	telling := r.named
	if telling == "" {
		telling = text[strings.LastIndexByte(text, '\n')+1:]
	}
	if telling == "" {
		return "", r.cause
	}
	return telling + "\n" + text, r.cause
}

// stalled notes that the renderer is ended because it gives no sign of life.
func (r *reader) stalled(why string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.cause, r.named = triage.CauseStalled, why
	r.tail = append(append(r.tail, why...), '\n')
}
