package recipe

import (
	"fmt"
	"path"
	"regexp"
	"strconv"
	"strings"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// Shot says how a file beside the scene reports the whole animation.
type Shot struct {
	File   string          `json:"file"`            // name in the scene's folder; {scene_name} is filled in
	Until  string          `json:"until,omitempty"` // pattern from which on nothing is read
	First  Told            `json:"first,omitzero"`
	Last   Told            `json:"last"`
	Values map[string]Told `json:"values,omitempty"` // by the name of a setting
}

// Told is one thing that such a file reports.
type Told struct {
	Match     string `json:"match"`               // pattern; the last match counts, its group is what is told
	Value     string `json:"value,omitempty"`     // is told instead where the pattern matches
	Otherwise string `json:"otherwise,omitempty"` // counts where it does not
}

type shotPattern struct {
	text   string
	groups int
}

func (s *Shot) patterns() map[string]shotPattern {
	if s == nil {
		return nil
	}
	out := map[string]shotPattern{"until": {s.Until, 0}, "first": s.First.pattern(), "last": s.Last.pattern()}
	for name, t := range s.Values {
		out["values."+name] = t.pattern()
	}
	return out
}

func (t Told) pattern() shotPattern {
	if t.Value != "" {
		return shotPattern{t.Match, 0}
	}
	return shotPattern{t.Match, 1}
}

func (s *Shot) check(values map[string]Value) error {
	if s == nil {
		return nil
	}
	for _, m := range inBraces.FindAllStringSubmatch(s.File, -1) {
		if m[1] != "scene_name" {
			return fmt.Errorf("shot.file has the placeholder {%s}; only {scene_name} is filled in there", m[1])
		}
	}
	for name := range s.Values {
		if _, ok := values[name]; !ok {
			return fmt.Errorf("shot.values names the setting %s, which the recipe does not have", name)
		}
	}
	return nil
}

// ShotFile returns which file beside a scene says about its animation, as a path
// in the scene place with slashes; "" if none does.
func (r *Recipe) ShotFile(scene string) string {
	if r.Shot == nil {
		return ""
	}
	name := strings.TrimSuffix(path.Base(scene), path.Ext(scene))
	return path.Join(path.Dir(scene), Fill(r.Shot.File, map[string]string{"scene_name": name}))
}

// ReadShot reads what such a file reports. The error names what in it cannot be.
func (r *Recipe) ReadShot(name string, text []byte) (farm.SceneShot, error) {
	out := farm.SceneShot{File: path.Base(name), Values: map[string]string{}}
	if r.Shot == nil {
		return out, nil
	}
	if r.Shot.Until != "" {
		if at := regexp.MustCompile(r.Shot.Until).FindIndex(text); at != nil {
			text = text[:at[0]]
		}
	}
	for setting, t := range r.Shot.Values {
		value, told := t.find(text)
		if !told {
			continue
		}
		if err := r.Values[setting].check(value); err != nil {
			return out, fmt.Errorf("%s tells the setting %s: %w", out.File, setting, err)
		}
		out.Values[setting] = value
	}
	last, told := r.Shot.Last.find(text)
	if !told {
		return out, nil
	}
	first, _ := r.Shot.First.find(text)
	from, err1 := strconv.Atoi(first)
	to, err2 := strconv.Atoi(last)
	if err1 != nil || err2 != nil || from > to || from < frames.Least || to > frames.Most {
		return out, fmt.Errorf(
			"%s gives a shot range from %q to %q, which is not a range; give one with --shot", out.File, first, last,
		)
	}
	out.Range = &frames.Span{First: from, Last: to}
	return out, nil
}

func (t Told) find(text []byte) (string, bool) {
	if t.Match == "" {
		return t.Otherwise, t.Otherwise != ""
	}
	found := regexp.MustCompile(t.Match).FindAllSubmatch(text, -1)
	switch {
	case len(found) == 0:
		return t.Otherwise, t.Otherwise != ""
	case t.Value != "":
		return t.Value, true
	}
	for _, group := range found[len(found)-1][1:] { // of alternatives, the one that matched
		if len(group) > 0 {
			return string(group), true
		}
	}
	return t.Otherwise, t.Otherwise != ""
}
