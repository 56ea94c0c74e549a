package bundle

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"vexillum/internal/core/frames"
)

var lastNumber = regexp.MustCompile(`^(.*?)(\d+)(\D*)$`)

// Gaps says which simulation caches, and which other files that a pattern names, are there
// in part: they are numbered, and some are missing between the first and the last.
func (f *Found) Gaps() (sentences []string) {
	type series struct {
		name  string
		cache bool
		have  frames.Set
	}
	var all []*series
	for _, n := range f.Files {
		m := lastNumber.FindStringSubmatch(path.Base(n.Path))
		if !n.Cache && !n.Series || m == nil || len(m[2]) > 9 {
			continue
		}
		number, _ := strconv.Atoi(m[2]) // it has few digits
		name := path.Join(path.Dir(n.Path), m[1]+strings.Repeat("#", len(m[2]))+m[3])
		i := slices.IndexFunc(all, func(s *series) bool { return s.name == name })
		if i < 0 {
			i, all = len(all), append(all, &series{name: name, cache: n.Cache})
		}
		all[i].have = all[i].have.Union(frames.One(number))
	}
	for _, s := range all {
		whole := frames.Of(frames.Span{First: s.have.First(), Last: s.have.Last()})
		if lacks := whole.Minus(s.have); !lacks.Empty() {
			text := "of the files %s there is no %s between %d and %d"
			if s.cache {
				text = "of the simulation cache %s there is no %s between %d and %d"
			}
			sentences = append(sentences, fmt.Sprintf(text, s.name, lacks.Brief(), whole.First(), whole.Last()))
		}
	}
	return sentences
}
