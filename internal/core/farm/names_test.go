package farm

import (
	"strings"
	"testing"

	"vexillum/internal/core/frames"
)

func TestNamesOfDeliveredFiles(t *testing.T) {
	s := Spec{
		Job: "salt_010", Project: "salt-clock", Kind: Final, Number: 2, Picture: "exr",
		Passes: []Pass{{Name: "depth", Picture: "png"}, {Name: "log", Picture: Data, Ending: ".json"}},
		Frames: frames.Of(frames.Span{First: -3, Last: 12000}),
	}
	for names, want := range map[string][3]string{
		"": {"salt_010.00042.exr", "depth/salt_010.depth.00042.png", "log/salt_010.log.00042.json"},

		"{job}[_{pass}]_##{ending}": {"salt_010_00042.exr", "salt_010_depth_00042.png", "salt_010_log_00042.json"},

		"[{pass}/]v{number}.#######{ending}": {"v2.0000042.exr", "depth/v2.0000042.png", "log/v2.0000042.json"},
		"{project}/{kind}/{job}[-{pass}] #{ending}": {
			"salt-clock/final/salt_010 00042.exr", "salt-clock/final/salt_010-depth 00042.png",
			"salt-clock/final/salt_010-log 00042.json",
		},
	} {
		if err := CheckNames(names); err != nil {
			t.Errorf("%q: %v", names, err)
		}
		s.Names = names
		if got := [3]string{s.PassFile("", 42), s.PassFile("depth", 42), s.PassFile("log", 42)}; got != want {
			t.Errorf("%q: %q, want %q", names, got, want)
		}
	}
	for names, says := range map[string]string{
		"{job}{ending}": "needs the frame's number once", "####-####[{pass}]{ending}": "number once",
		"{job}.####{ending}": "needs {pass}", "{job}.{pass}.####.exr": "ends with {ending}",
		"{shot}[{pass}]####{ending}": "knows no {shot}", "../[{pass}]####{ending}": "no name inside",
		"/[{pass}]####{ending}": "no name inside", "{job[{pass}]####{ending}": "without its other half",
		"a\n[{pass}]####{ending}": "not safe", "[####{pass}]{ending}": "left out",
		"[x]{pass}####{ending}": "does not name it",
		".[{pass}]####{ending}": "hidden", strings.Repeat("a", 301): "more than 300",
	} {
		if err := CheckNames(names); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", names, err)
		}
	}
}

// TestOptionalFilesMayBeMissing compares what a frame may be made of.
func TestOptionalFilesMayBeMissing(t *testing.T) {
	s := Spec{
		Job: "a", Picture: "png",
		Passes: []Pass{{Name: "depth", Picture: "png"}, {Name: "log", Picture: Data, Optional: true}},
	}
	whole := []File{{Hash: "a", Bytes: 1}, {Pass: "depth", Hash: "b", Bytes: 1}, {Pass: "log", Hash: "c", Bytes: 1}}
	for count, want := range map[int]bool{3: true, 2: true, 1: false} {
		files := whole[:count]
		if err := s.CheckFiles(files, FrameHash(files), int64(count)); (err == nil) != want {
			t.Errorf("%d files: %v", count, err)
		}
	}
	s.Passes = s.Passes[1:]
	if err := s.CheckFiles(nil, "a", 1); err != nil {
		t.Error(err)
	}
}
