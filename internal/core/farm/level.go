package farm

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// Level is how urgent a run is. More urgent runs come first, no matter who
// submitted them.
type Level string

// The levels, most urgent first. An empty Level is Normal.
const (
	Urgent Level = "urgent" // wranglers only
	High   Level = "high"
	Normal Level = "normal"
	Low    Level = "low"
	Filler Level = "filler"
)

var levelRank = map[Level]int{Urgent: 0, High: 1, Normal: 2, "": 2, Low: 3, Filler: 4}

// Rank orders levels: the lower comes first.
func (l Level) Rank() int { return levelRank[l] }

// String names the level.
func (l Level) String() string {
	if l == "" {
		return string(Normal)
	}
	return string(l)
}

// ParseLevel reads the name of a level; an empty one is normal.
func ParseLevel(text string) (Level, error) {
	if _, ok := levelRank[Level(text)]; !ok {
		return "", fmt.Errorf("%q is not a priority: use urgent, high, normal, low or filler", text)
	}
	return Level(text), nil
}

// Ceiling is the most nodes that a run may have at once. The zero Ceiling is
// none.
type Ceiling struct {
	Nodes   int     `json:"nodes,omitempty"`
	Percent float64 `json:"percent,omitempty"` // of the nodes that could take it
}

// None reports whether there is no ceiling.
func (c Ceiling) None() bool { return c.Nodes == 0 && c.Percent == 0 }

// Most returns how many nodes it allows of those that could take the run;
// at least one.
func (c Ceiling) Most(able int) int {
	switch {
	case c.Nodes > 0:
		return c.Nodes
	case c.Percent > 0:
		return max(1, int(math.Floor(c.Percent/100*float64(able)+1e-9)))
	}
	return math.MaxInt
}

// String writes what ParseCeiling reads.
func (c Ceiling) String() string {
	switch {
	case c.Nodes > 0:
		return strconv.Itoa(c.Nodes)
	case c.Percent > 0:
		return strconv.FormatFloat(c.Percent, 'f', -1, 64) + "%"
	}
	return ""
}

// ParseCeiling reads a number of nodes or a percentage; an empty text is none.
func ParseCeiling(text string) (Ceiling, error) {
	if text == "" {
		return Ceiling{}, nil
	}
	if percent, ok := strings.CutSuffix(text, "%"); ok {
		p, err := strconv.ParseFloat(strings.TrimSpace(percent), 64)
		if err == nil && p > 0 && p <= 100 {
			return Ceiling{Percent: p}, nil
		}
		return Ceiling{}, fmt.Errorf("%q is not a ceiling: a percentage is above 0 %% and at most 100 %%", text)
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 {
		return Ceiling{}, fmt.Errorf(
			"%q is not a ceiling: use a number of nodes such as 8, or a percentage such as 50%%", text,
		)
	}
	return Ceiling{Nodes: n}, nil
}
