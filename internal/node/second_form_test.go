package node

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"vexillum/internal/core/triage"
	"vexillum/internal/recipe"
	"vexillum/internal/wire"
)

// worked is what came of a lease whose recipe was changed before.
func worked(t *testing.T, script, set string, change func(w *work)) (f *fake, told []string) {
	t.Helper()
	f = &fake{}
	w := newWork(t, f, script, set)
	change(w)
	if err := finish(t.Context(), w); err != nil {
		t.Fatal(err)
	}
	told = f.told()
	slices.Sort(told)
	return f, slices.DeleteFunc(told, func(s string) bool { return s == "ended 0" })
}

// good returns what was reported of a good frame.
func (f *fake) good(frame int) wire.ReportItem {
	for _, i := range f.items {
		if i.Outcome == wire.OutcomeGood && i.Frame == frame {
			return i
		}
	}
	return wire.ReportItem{}
}

// TestRenderersThatSayWhenFramesEnd say what each took, how much memory they have,
// and what was odd.
func TestRenderersThatSayWhenFramesEnd(t *testing.T) {
	f, told := worked(
		t, "draw:1 say:took_12.5_s say:has_1,024_MB say:done_1 say:odd_light draw:2 say:done_2 draw:3 exit:0", "1-3",
		func(w *work) {
			w.lease.Recipe.Read = recipe.Reading{
				Ends: `^done (\d+)`, Seconds: `^took ([\d.]+) s`, Warnings: []string{"^odd"},
				Memory: &recipe.MemoryRule{Match: `^has ([\d,]+) MB`, Unit: "MiB"},
			}
		},
	)
	want := []string{"delivered 1", "delivered 2", "delivered 3", "good 1", "good 2", "good 3"}
	if !slices.Equal(told, want) {
		t.Fatalf("told %q, want %q", told, want)
	}
	first, second := f.good(1), f.good(2)
	if first.RenderSeconds != 12.5 || first.MemoryBytes != 1<<30 || first.Warning != "" {
		t.Errorf("of frame 1: %+v", first)
	}
	if second.RenderSeconds > 10 || second.Warning != "odd light" {
		t.Errorf("of frame 2: %+v", second)
	}
}

// TestSomeLinesFailAFrameHoweverItEnds fails the frame of which they were said, and no
// other.
func TestSomeLinesFailAFrameHoweverItEnds(t *testing.T) {
	for name, script := range map[string]string{
		"in mid launch": "say:begin_1 draw:1 say:lost_texture say:begin_2 draw:2 exit:0",
		"at its end":    "say:begin_2 draw:2 say:begin_1 draw:1 say:lost_texture exit:0",
		"by no frame":   "draw:1 say:lost_texture exit:0",
	} {
		set := "1-2"
		if name == "by no frame" {
			set = "1"
		}
		_, told := worked(t, script, set, func(w *work) {
			w.lease.Recipe.Read.Causes = []recipe.CauseRule{
				{Match: "lost texture", Cause: triage.CauseMissingFile, Always: true},
			}
		})
		if !slices.Contains(told, "failed 1 missing file") || slices.Contains(told, "good 1") ||
			set == "1-2" && !slices.Contains(told, "good 2") {
			t.Errorf("%s: told %q", name, told)
		}
	}
}

// TestRenderersThatNumberFramesThemselves count from 0 wherever a launch begins.
func TestRenderersThatNumberFramesThemselves(t *testing.T) {
	f, told := worked(t, "say:begin_0 draw:0 say:begin_1 draw:1 exit:0", "5-6", func(w *work) {
		w.lease.Recipe.Numbering = &recipe.Numbering{First: 0, Of: "launch"}
	})
	if want := []string{"delivered 5", "delivered 6", "good 5", "good 6"}; !slices.Equal(told, want) {
		t.Errorf("told %q, want %q", told, want)
	}
	if f.good(6).RenderSeconds > 5 {
		t.Errorf("%+v", f.good(6))
	}
	_, told = worked(t, "draw:4 exit:0", "5", func(w *work) { // the shot begins with 1
		w.lease.Recipe.Numbering = &recipe.Numbering{First: 0, Of: "shot"}
		w.lease.Recipe.FrameFile, w.lease.Recipe.FrameName = "", "f{own_frame}.png"
	})
	if want := []string{"delivered 5", "good 5"}; !slices.Equal(told, want) {
		t.Errorf("of the shot: told %q, want %q", told, want)
	}
}

// TestALaunchMayHaveGaps hands frames to a renderer that takes lists, and its
// arguments in a file.
func TestALaunchMayHaveGaps(t *testing.T) {
	launches := 0
	var line []string
	_, told := worked(
		t, "say:begin_1 draw:1 say:begin_5 draw:5 say:begin_6 draw:6 say:begin_9 draw:9 exit:0", "1,5-6,9",
		func(w *work) {
			r := &w.lease.Recipe
			r.Arguments = []recipe.Argument{
				{Texts: []string{"--list={frames_commas}"}}, {Texts: []string{"{frames_ranges}"}},
				{Each: true, Texts: []string{"-f", "{frame:03}"}}, {Texts: []string{"{frames_file}"}},
			}
			r.ResponseFile = &recipe.ResponseFile{Argument: "@{response_file}", Quoted: true}
			w.host.launched = func(_ string, arguments, _ []string) {
				launches++
				text, err := os.ReadFile(strings.TrimPrefix(arguments[0], "@"))
				if err != nil || len(arguments) != 1 {
					t.Errorf("launched with %q, %v", arguments, err)
				}
				line = strings.Split(strings.TrimSpace(string(text)), "\n")
				list, err := os.ReadFile(strings.Trim(line[len(line)-1], `"`))
				if string(list) != "1\n5\n6\n9\n" || err != nil {
					t.Errorf("the list is %q, %v", list, err)
				}
			}
		},
	)
	want := []string{
		`"--list=1,5,6,9"`, `"1,5-6,9"`, `"-f"`, `"001"`, `"-f"`, `"005"`, `"-f"`, `"006"`, `"-f"`, `"009"`,
	}
	if launches != 1 || len(line) < 1 || !slices.Equal(line[:len(line)-1], want) {
		t.Errorf("%d launches, with %q", launches, line)
	}
	if len(told) != 8 || slices.ContainsFunc(told, func(s string) bool { return strings.HasPrefix(s, "failed") }) {
		t.Errorf("told %q", told)
	}
}

// TestOutputsOfAllKinds writes files beside the picture: required, optional, of a size
// of their own, in folders, and looked at by a command.
func TestOutputsOfAllKinds(t *testing.T) {
	whole := "say:begin_1 draw:1 write:data/log.1.txt=fine write:cache.0001.bin=x exit:0"
	program, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	without := func(part string) string { return strings.Replace(whole, part, "", 1) }
	all := []string{"a.0001.png", "cache/a.cache.0001.bin", "log/a.log.0001.txt"}
	look := []string{program, "{file}"}
	for name, c := range map[string]struct {
		script string
		check  []string
		env    string
		want   string
		files  []string
	}{
		"all there":      {whole, nil, "", "good 1", all},
		"one left out":   {without("write:cache.0001.bin=x "), nil, "", "good 1", []string{all[0], all[2]}},
		"needed":         {without("write:data/log.1.txt=fine "), nil, "", "failed 1 no frame", nil},
		"empty":          {strings.Replace(whole, "=fine", "=", 1), nil, "", "failed 1 wrong output", nil},
		"refused":        {whole, look, "say:it_is_cut_off exit:4", "failed 1 wrong output", nil},
		"looked at":      {whole, look, "exit:0", "good 1", all},
		"no such check":  {whole, []string{"/no/such/program"}, "", "failed 1 wrong output", nil},
		"of another way": {strings.Replace(whole, "data/log.1.txt", "log.1.txt", 1), nil, "", "failed 1 no frame", nil},
	} {
		t.Run(name, func(t *testing.T) {
			if c.env != "" {
				t.Setenv("RENDERER", c.env)
			}
			var out string
			f, told := worked(t, c.script, "1", func(w *work) {
				w.lease.Recipe.Outputs = map[string]recipe.Output{
					"log":   {File: `^data/log\.(\d+)\.txt$`, Picture: "data", Ending: ".txt", Check: c.check},
					"cache": {Name: "cache.{frame:04}.bin", Picture: "data", Ending: ".bin", Optional: true},
				}
				for name, ending := range map[string]string{"cache": ".bin", "log": ".txt"} {
					w.lease.Passes = append(w.lease.Passes, wire.LeasePass{
						Name: name, FilePrefix: "a." + name + ".", FileEnding: ending,
					})
				}
				slices.SortFunc(
					w.lease.Passes, func(a, b wire.LeasePass) int { return strings.Compare(a.Name, b.Name) },
				)
				out = filepath.Join(w.lease.OutputRoot, w.lease.Output)
				_ = os.MkdirAll(w.lease.OutputRoot, 0o755)
			})
			if !slices.Contains(told, c.want) {
				t.Fatalf("told %q, want %q: %+v", told, c.want, f.items)
			}
			var got []string
			_ = filepath.WalkDir(out, func(path string, e os.DirEntry, err error) error {
				if err == nil && !e.IsDir() {
					inside, _ := filepath.Rel(out, path)
					got = append(got, filepath.ToSlash(inside))
				}
				return nil
			})
			if !slices.Equal(got, c.files) {
				t.Errorf("delivered %q, want %q", got, c.files)
			}
		})
	}
}

// TestAFrameMayTakeOnlySoLong ends a renderer that goes on saying things.
func TestAFrameMayTakeOnlySoLong(t *testing.T) {
	script := "say:begin_1 " + strings.Repeat("sleep:200ms say:tick ", 100) + "draw:1 exit:0"
	began := time.Now()
	f, told := worked(t, script, "1", func(w *work) { w.lease.Recipe.FrameTime = recipe.Duration(time.Second) })
	if !slices.Contains(told, "failed 1 stalled") || time.Since(began) > 10*time.Second ||
		!strings.Contains(f.items[0].Message, "longer than 1s") {
		t.Errorf("after %v told %q: %+v", time.Since(began), told, f.items)
	}
}

// TestAnErrorAfterTheLastFrameSpoilsNone: what was said to be finished counts, however
// the renderer ends.
func TestAnErrorAfterTheLastFrameSpoilsNone(t *testing.T) {
	for script, want := range map[string][]string{
		"draw:1 say:done_1 draw:2 say:done_2 exit:3": {"delivered 1", "delivered 2", "good 1", "good 2"},
		"draw:1 say:done_1 exit:3":                   {"delivered 1", "failed 2 crash", "good 1"},
	} {
		_, told := worked(t, script, "1-2", func(w *work) { w.lease.Recipe.Read = recipe.Reading{Ends: `^done (\d+)`} })
		if !slices.Equal(told, want) {
			t.Errorf("%s: told %q, want %q", script, told, want)
		}
	}
}

// TestWhatIsSaidOfOneFrameIsNotOfAnother lets a renderer go on after a frame that has failed,
// and fail for good at a later one, for something else.
func TestWhatIsSaidOfOneFrameIsNotOfAnother(t *testing.T) {
	causes := []recipe.CauseRule{
		{Match: "^no file", Cause: triage.CauseMissingFile}, {Match: "^scene is broken", Cause: triage.CauseScene},
	}
	for what, c := range map[string]struct {
		script string
		read   recipe.Reading
	}{
		"that says when frames begin": {
			"say:begin_1 draw:1 say:begin_2 say:scene_is_broken say:begin_2 say:begin_3 draw:3 say:begin_4 say:no_file exit:1",
			recipe.Reading{Begins: `^begin (\d+)`, Causes: causes},
		},
		"that says when they end": {
			"draw:1 say:done_1 say:scene_is_broken say:done_2 draw:3 say:done_3 say:no_file exit:1",
			recipe.Reading{Ends: `^done (\d+)`, Causes: causes},
		},
		"that says both": {
			"say:begin_1 draw:1 say:done_1 say:begin_2 say:scene_is_broken say:done_2 say:begin_3 draw:3 say:done_3 " +
				"say:begin_4 say:no_file exit:1",
			recipe.Reading{Begins: `^begin (\d+)`, Ends: `^done (\d+)`, Causes: causes},
		},
	} {
		f, told := worked(t, c.script, "1-4", func(w *work) { w.lease.Recipe.Read = c.read })
		want := []string{
			"delivered 1", "delivered 3", "failed 2 scene error", "failed 4 missing file", "good 1", "good 3",
		}
		if !slices.Equal(told, want) {
			t.Errorf("one %s: told %q, want %q", what, told, want)
		}
		for _, item := range f.items {
			if says := "scene is broken"; item.Frame == 4 && strings.Contains(item.Message, says) {
				t.Errorf("one %s: of frame 4 it says %q", what, item.Message)
			}
		}
	}
}
