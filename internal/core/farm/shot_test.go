package farm

import (
	"strings"
	"testing"

	"vexillum/internal/core/frames"
)

func TestTheShotRangeOfARun(t *testing.T) {
	span := func(first, last int) *frames.Span { return &frames.Span{First: first, Last: last} }
	set := func(text string) frames.Set {
		s, err := frames.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	run := func(frames, shot string, source ShotSource) *Spec {
		s := &Spec{Job: "a", Kind: Proof, Number: 1, Frames: set(frames)}
		if source != "" {
			whole := set(shot)
			s.Shot = Shot{First: whole.First(), Last: whole.Last(), Source: source}
		}
		return s
	}
	ini := SceneShot{File: "a.ini", Range: span(1, 30)}
	for _, c := range []struct {
		name   string
		asked  string
		said   *frames.Span
		before *Spec
		scene  SceneShot
		shot   string
		source ShotSource
		says   string // of the error where there is no shot
	}{
		{"nothing is known", "31-33", nil, nil, SceneShot{}, "31-33", ShotFrames, ""},
		{"said", "31-33", span(1, 60), nil, ini, "1-60", ShotSaid, ""},
		{"said for the run before", "31-33", nil, run("1-60/10", "1-60", ShotSaid), ini, "1-60", ShotSaid, ""},
		{"said anew", "31-33", span(1, 90), run("1-60/10", "1-60", ShotSaid), ini, "1-90", ShotSaid, ""},
		{"the scene says", "7", nil, nil, ini, "1-30", ShotScene, ""},
		{"the scene says it now", "7", nil, run("1-9", "1-9", ShotFrames), ini, "1-30", ShotScene, ""},
		{"the scene no longer says it", "7", nil, run("1-9", "1-30", ShotScene), SceneShot{}, "1-30", ShotScene, ""},
		{
			"taken from the frames before", "7", nil, run("1-60", "1-60", ShotFrames), SceneShot{}, "1-60", ShotFrames,
			"",
		},
		{"a run of before there were shots", "7", nil, run("1-60", "", ""), SceneShot{}, "1-60", ShotFrames, ""},
		{
			"more frames than before", "1-60", nil, run("1-60/10", "1-51", ShotFrames), SceneShot{}, "1-60", ShotFrames,
			"",
		},
		{
			"outside what is said", "55-70", span(1, 60), nil, SceneShot{}, "", "",
			"frames 61-70 lie outside the shot range 1-60; a longer animation needs --shot 1-70",
		},
		{
			"outside what was said", "61", nil, run("1-60", "1-60", ShotSaid), ini, "", "",
			"frame 61 lies outside the shot range 1-60, as a/proof-1 has it",
		},
		{
			"outside what the scene says", "0-3", nil, nil, ini, "", "",
			"frame 0 lies outside the shot range 1-30, as a.ini has it",
		},
	} {
		shot, err := ChooseShot(set(c.asked), c.said, c.before, c.scene)
		if c.says != "" {
			if err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s: %v, want %q", c.name, err, c.says)
			}
			continue
		}
		if err != nil || shot.String() != c.shot || shot.Source != c.source || !strings.Contains(shot.Why, c.shot) ||
			!strings.Contains(shot.Why, " give") && c.said == nil {
			t.Errorf("%s: %s by %q (%s), %v", c.name, shot, shot.Source, shot.Why, err)
		}
	}
}

func TestAPartIsNamedLikeTheWhole(t *testing.T) {
	s := Spec{Job: "a", Picture: "png", Frames: frames.One(7), Shot: Shot{First: 1, Last: 12000, Source: ShotSaid}}
	if got := s.FrameFile(7); got != "a.00007.png" {
		t.Errorf("a frame of a part is called %s", got)
	}
}

func TestRunsByName(t *testing.T) {
	s := NewState()
	for i, r := range []struct {
		project, job string
		kind         RunKind
		number       int
	}{{"p", "010", Final, 1}, {"p", "010", Final, 2}, {"q", "010", Final, 1}, {"p", "salt", Proof, 1}} {
		s.PutRun(
			&Run{
				ID: RunID(i + 1), State: RunQueued,
				Spec: Spec{Project: r.project, Job: r.job, Kind: r.kind, Number: r.number, Frames: frames.One(1)},
			},
			"", "",
		)
	}
	for name, want := range map[string][]RunID{
		"": {}, " ": {}, "#": {}, "#9": {}, "2": {}, "#2": {2}, "010": {3, 2}, "010/final-1": {3, 1}, "010/final-2": {2},
		"q/010": {3}, "p/010": {2}, "p/010/final-1": {1}, "salt": {4}, "salt/proof-1": {4}, "salt/final-1": {}, "SALT": {},
	} {
		got := s.Named(name)
		ok := len(got) == len(want)
		for i := range want {
			ok = ok && got[i].ID == want[i]
		}
		if !ok {
			t.Errorf("%q means %d runs, want %v", name, len(got), want)
		}
	}
}
