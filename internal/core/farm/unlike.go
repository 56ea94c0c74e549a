package farm

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// Difference is one thing that two runs were not submitted alike with.
type Difference struct {
	What  string // such as size, or setting quality
	Was   string // with the one; empty: nothing
	Is    string // with the other
	Value bool   // What is the name of a setting of the recipe
}

// Unlike returns how a run differs from what another was submitted with, in the order in
// which people look: where its scene and frames come from, how it renders, how it is
// dealt. Names, numbers and folders, which always differ, are left out.
func (s Spec) Unlike(before Spec) (out []Difference) {
	note := func(what, was, is string) {
		if was != is {
			out = append(out, Difference{What: what, Was: was, Is: is})
		}
	}
	note("kind", string(before.Kind), string(s.Kind))
	note("scene", before.Scene, s.Scene)
	note("where it was sent from", before.Origin, s.Origin)
	if before.Scene == s.Scene {
		note("content of the scene", brief(before.SceneSHA), brief(s.SceneSHA))
	}
	note("files besides", strings.Join(before.With, ", "), strings.Join(s.With, ", "))
	if before.Scene == s.Scene && before.SceneSHA == s.SceneSHA && before.Pin != "" && s.Pin != "" &&
		slices.Equal(before.With, s.With) {
		note("content of its files", brief(before.Pin), brief(s.Pin))
	}
	note("bundle", brief(before.Bundle), brief(s.Bundle))
	note("frames", before.Frames.String(), s.Frames.String())
	note("shot", before.ShotRange().String(), s.ShotRange().String())
	note("size", sizeText(before), sizeText(s))
	note("recipe", recipeText(before), recipeText(s))
	names := slices.Sorted(maps.Keys(before.Values))
	for name := range s.Values {
		if _, both := before.Values[name]; !both {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		if was, is := before.Values[name], s.Values[name]; was != is {
			out = append(out, Difference{name, was, is, true})
		}
	}
	note("tiles", tilesText(before.Tiles), tilesText(s.Tiles))
	note("passes", strings.Join(before.PassNames(), ", "), strings.Join(s.PassNames(), ", "))
	note("names of files", cmp.Or(before.Names, DefaultNames), cmp.Or(s.Names, DefaultNames))
	note("waits for", afterText(before.After), afterText(s.After))
	note("reads the frames of", runText(before.From), runText(s.From))
	note("needs", before.Needs, s.Needs)
	note("takes", before.Takes.String(), s.Takes.String())
	note("priority", before.Level.String(), s.Level.String())
	note("ceiling", before.Ceiling.String(), s.Ceiling.String())
	note("due", dueText(before.Due), dueText(s.Due))
	note("order of frames", string(before.Sequence), string(s.Sequence))
	note("frames a lease", countText(before.Chunk), countText(s.Chunk))
	note("waits after the scouts", yes(before.Wait), yes(s.Wait))
	note("silent at most", secondsText(before.Stall), secondsText(s.Stall))
	note("tries", fmt.Sprint(before.Tries), fmt.Sprint(s.Tries))
	note("held after failed frames", countText(before.HoldAfter), countText(s.HoldAfter))
	note("owner", before.Owner, s.Owner)
	return out
}

// brief shortens a hash so that people can still tell it from others.
func brief(hash string) string { return hash[:min(12, len(hash))] }

func sizeText(s Spec) string { return fmt.Sprintf("%d×%d", s.Width, s.Height) }

func recipeText(s Spec) string {
	if s.RecipeVersion == 0 {
		return s.Recipe
	}
	return fmt.Sprintf("%s, version %d", s.Recipe, s.RecipeVersion)
}

func dueText(at time.Time) string {
	if at.IsZero() {
		return ""
	}
	return Moment(at)
}

func yes(is bool) string {
	if is {
		return "yes"
	}
	return "no"
}

func tilesText(t *Tiles) string {
	if t == nil {
		return ""
	}
	return fmt.Sprintf("%d of frame %d", len(t.Rects), t.Frame)
}

func runText(id RunID) string {
	if id == 0 {
		return ""
	}
	return fmt.Sprintf("#%d", id)
}

func afterText(list []After) string {
	var out []string
	for _, a := range list {
		text := runText(a.Run)
		if a.Frames {
			text += " by frames"
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}

func secondsText(seconds float64) string {
	if seconds == 0 {
		return ""
	}
	return fmt.Sprintf("%g s", seconds)
}

func countText(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}
