package scenefile

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"vexillum/internal/recipe"
)

// glass is a recipe whose scenes name what they need.
const glass = `recipe: 2
name: glass
title: Glass
mode: single
stop: kill
repeatable: true
program: glass
probe: {arguments: ["--version"], version: '(\d+)'}
scenes: [".glass"]
picture: png
arguments: ["{scene}"]
frame_file: '^frame(\d+)\.png$'
inputs:
  - {match: 'use (\S+)', follow: true}
  - {match: 'cache (\S+)', cache: true}
read: {begins: 'frame (\d+)'}
`

func glassRecipe(t *testing.T) *recipe.Recipe {
	t.Helper()
	r, err := recipe.Parse([]byte(glass))
	if err != nil {
		t.Fatal(err)
	}
	return r
}

type place struct {
	t   *testing.T
	dir string
}

func (p place) put(name, text string) {
	p.t.Helper()
	at := filepath.Join(p.dir, name)
	if err := errors.Join(os.MkdirAll(filepath.Dir(at), 0o755), os.WriteFile(at, []byte(text), 0o644)); err != nil {
		p.t.Fatal(err)
	}
}

// aPlace has a scene that needs a file, which needs another, and a cache.
func aPlace(t *testing.T) place {
	p := place{t, t.TempDir()}
	p.put("shots/vase.glass", "use ../lib/stand.inc\ncache smoke.####.vol\n")
	p.put("lib/stand.inc", "use glaze.inc\n")
	p.put("lib/glaze.inc", "salt\n")
	for _, n := range []int{1, 2, 3} {
		p.put(fmt.Sprintf("shots/smoke.%04d.vol", n), strings.Repeat("v", n))
	}
	p.put("luts/day.cube", "1\n")
	return p
}

// TestAPinIsOfAllThatASceneNeeds changes one file after the other, in each way in which
// it can be changed: the pin is another, and is the same again when all is as it was.
func TestAPinIsOfAllThatASceneNeeds(t *testing.T) {
	p, r := aPlace(t), glassRecipe(t)
	looker := NewLooker(nil)
	pin := func(l *Looker, with ...string) Pin {
		t.Helper()
		out, err := l.Pin(t.Context(), p.dir, "shots/vase.glass", r, with)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	first := pin(looker)
	if first.Files != 5 || len(first.Gaps)+len(first.Missing)+len(first.Changed) > 0 {
		t.Errorf("the pin is %+v", first)
	}
	if again := pin(looker); again.Hash != first.Hash || pin(NewLooker(nil)).Hash != first.Hash {
		t.Error("another look at the same is another pin")
	}
	if told := pin(looker, "luts/*.cube"); told.Files != 6 || told.Hash == first.Hash {
		t.Errorf("with a file told besides: %+v", told)
	}
	for name, change := range map[string]func(name string){
		"shots/vase.glass": func(n string) { p.put(n, "use ../lib/stand.inc\ncache smoke.####.vol\n# brighter\n") },
		"lib/glaze.inc":    func(n string) { p.put(n, "ash!\n") },
		"lib/stand.inc": func(n string) {
			if err := os.Remove(filepath.Join(p.dir, n)); err != nil {
				t.Fatal(err)
			}
		},
		"shots/smoke.0002.vol": func(n string) { p.put(n, "xx") }, // of the same size
		"shots/smoke.0004.vol": func(n string) { p.put(n, "vvvv") },
	} {
		before, err := os.ReadFile(filepath.Join(p.dir, name))
		gone := errors.Is(err, fs.ErrNotExist)
		pin(looker)
		change(name)
		now := pin(looker)
		if now.Hash == first.Hash || !slices.Contains(now.Changed, name) || pin(NewLooker(nil)).Hash != now.Hash {
			t.Errorf("%s is changed, and the pin is %+v", name, now)
		}
		if gone {
			_ = os.Remove(filepath.Join(p.dir, name)) // the next look shows whether it is gone
		} else {
			p.put(name, string(before))
		}
		if back := pin(looker); back.Hash != first.Hash {
			t.Errorf("%s is as it was, and the pin is %+v", name, back)
		}
	}
	// A time alone changes nothing.
	if err := os.Chtimes(filepath.Join(p.dir, "lib/glaze.inc"), time.Time{}, time.Now().Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	if touched := pin(looker); touched.Hash != first.Hash {
		t.Errorf("a file is touched, and the pin is %+v", touched)
	}
	alone, err := looker.Pin(t.Context(), p.dir, "shots/vase.glass", nil, nil)
	if err != nil || alone.Files != 0 || alone.Hash == first.Hash {
		t.Errorf("the scene alone: %+v, %v", alone, err)
	}
}

// TestLargeFilesArePinnedByParts changes a large file where it is looked at, and its size.
func TestLargeFilesArePinnedByParts(t *testing.T) {
	p, r := aPlace(t), glassRecipe(t)
	data := bytes.Repeat([]byte("volume"), wholeUpTo/6+9000)
	const name = "shots/smoke.0003.vol"
	look := func() string {
		t.Helper()
		pin, err := NewLooker(nil).Pin(t.Context(), p.dir, "shots/vase.glass", r, nil)
		if err != nil {
			t.Fatal(err)
		}
		return pin.Hash
	}
	p.put(name, string(data))
	seen := map[string]bool{look(): true}
	for _, at := range []int{0, len(data) - 1} {
		data[at] ^= 1
		p.put(name, string(data))
		seen[look()] = true
	}
	p.put(name, string(data[:len(data)-1]))
	if seen[look()] = true; len(seen) != 4 {
		t.Errorf("%d states are told apart, want 4", len(seen))
	}
}

func TestWhatIsMissingIsSaid(t *testing.T) {
	p, r := aPlace(t), glassRecipe(t)
	for _, name := range []string{"shots/smoke.0002.vol", "lib/glaze.inc"} {
		if err := os.Remove(filepath.Join(p.dir, name)); err != nil {
			t.Fatal(err)
		}
	}
	found := NewLooker(nil).needs(t.Context(), p.dir, "shots/vase.glass", r, nil, time.Minute)
	if found.Pin == "" || !slices.Equal(found.Missing, []string{"glaze.inc, which lib/stand.inc names"}) ||
		!slices.Equal(
			found.Gaps,
			[]string{"of the simulation cache shots/smoke.####.vol there is no 2 between 1 and 3"},
		) {
		t.Errorf("found %+v", found)
	}
	p.put("luts/day.3.cube", "3\n")
	p.put("luts/day.1.cube", "1\n")
	told := NewLooker(nil).needs(t.Context(), p.dir, "shots/vase.glass", r, []string{"luts/*.cube"}, time.Minute)
	if !slices.Contains(told.Gaps, "of the files luts/day.#.cube there is no 2 between 1 and 3") {
		t.Errorf("of files that a pattern names it is said: %v", told.Gaps)
	}
	if late := NewLooker(nil).needs(t.Context(), p.dir, "shots/vase.glass", r, nil, 0); late.Pin != "" ||
		!strings.Contains(late.Why, "within 0s") {
		t.Errorf("without time for a look: %+v", late)
	}
	if none := NewLooker(nil).needs(t.Context(), p.dir, "none.glass", r, nil, time.Minute); none.Why == "" {
		t.Errorf("of no scene: %+v", none)
	}
}
