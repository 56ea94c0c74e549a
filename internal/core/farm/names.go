package farm

import (
	"errors"
	"fmt"
	"path"
	"regexp"
	"strings"

	"vexillum/internal/core/frames"
)

// DefaultNames is how delivered files are named where a project says nothing: each
// pass in a folder of its own.
const DefaultNames = "[{pass}/]{job}[.{pass}].####{ending}"

// nameParts are what a pattern of names may hold in braces.
var nameParts = map[string]bool{
	"job": true, "project": true, "kind": true, "number": true, "pass": true, "ending": true,
}

var (
	nameField    = regexp.MustCompile(`\{([^{}]*)\}`)
	nameOptional = regexp.MustCompile(`\[([^\[\]]*)\]`)
	nameNumber   = regexp.MustCompile(`#+`)
	nameAllowed  = regexp.MustCompile(`^[A-Za-z0-9._/ {}\[\]#+-]+$`)
)

// mostDigits bounds the digits of a frame's number in names.
const mostDigits = 9

// CheckNames says what is wrong with a pattern of names: of each #### the frame's
// number, of each part in braces what it names, and what stands in brackets where
// there is a pass alone.
func CheckNames(pattern string) error {
	if pattern == "" {
		return nil
	}
	numbers := nameNumber.FindAllString(pattern, -1)
	plain := nameOptional.ReplaceAllString(nameField.ReplaceAllString(pattern, "x"), "")
	switch {
	case len(pattern) > 300:
		return errors.New("the pattern of names has more than 300 characters")
	case !nameAllowed.MatchString(pattern):
		return fmt.Errorf(
			"the pattern of names %q holds characters that are not safe in names everywhere; use letters, digits, "+
				"and . _ - + / and spaces", pattern,
		)
	case len(numbers) != 1 || len(numbers[0]) > mostDigits:
		return fmt.Errorf("the pattern of names %q needs the frame's number once, as #### with one # a digit", pattern)
	case nameNumber.FindString(nameOptional.ReplaceAllString(pattern, "")) == "":
		return errors.New("the frame's number stands in brackets, and would be left out of the names of pictures")
	case strings.ContainsAny(plain, "[]{}"):
		return fmt.Errorf("the pattern of names %q has a brace or bracket without its other half", pattern)
	case !strings.HasSuffix(pattern, "{ending}"):
		return errors.New("a pattern of names ends with {ending}, as what files are is told by it")
	case !strings.Contains(pattern, "{pass}"):
		return errors.New("a pattern of names needs {pass}, as the files of a frame would have one name; " +
			"write [.{pass}] to leave it out of those of pictures")
	}
	for _, m := range nameField.FindAllStringSubmatch(pattern, -1) {
		if !nameParts[m[1]] {
			return fmt.Errorf(
				"a pattern of names knows no {%s}; it knows {job}, {project}, {kind}, {number}, {pass} and {ending}",
				m[1],
			)
		}
	}
	for _, part := range nameOptional.FindAllStringSubmatch(pattern, -1) {
		if !strings.Contains(part[1], "{pass}") {
			return fmt.Errorf("[%s] stands in names where there is a pass, and does not name it", part[1])
		}
	}
	s := Spec{Job: "a", Project: "a", Kind: Final, Picture: "png", Names: pattern, Frames: frames.One(1)}
	for _, pass := range []string{"", "depth"} {
		if name := s.PassFile(pass, 1); !strings.HasPrefix(path.Join("/", name), "/"+name) ||
			strings.HasPrefix(path.Base(name), ".") {
			return fmt.Errorf("the pattern of names makes %q, which is no name inside a folder, or a hidden one", name)
		}
	}
	return nil
}

// nameDigits returns how many digits a frame's number has in names at least.
func (s Spec) nameDigits() int { return len(nameNumber.FindString(s.names())) }

func (s Spec) names() string {
	if s.Names == "" {
		return DefaultNames
	}
	return s.Names
}

// FrameFile returns where a frame's picture stands in the run's output folder.
func (s Spec) FrameFile(frame int) string { return s.PassFile("", frame) }

// PassFile returns where a file of a frame stands in the run's output folder. The
// picture itself is the pass "".
func (s Spec) PassFile(pass string, frame int) string {
	folder, before, ending := s.FrameFileParts(pass)
	return path.Join(folder, before+frames.Name(frame, s.Digits())+ending)
}

// Movie returns the media type of the movie that the run makes, as IANA lists it, or "" where
// it makes none.
func (s Spec) Movie() string {
	if s.Picture != "data" {
		return ""
	}
	return map[string]string{".mp4": "video/mp4", ".mov": "video/quicktime", ".webm": "video/webm"}[s.ending("")]
}

// FrameFileParts returns the folder of a pass's files in the run's output folder, and
// what stands before and behind the number in their names.
func (s Spec) FrameFileParts(pass string) (folder, before, behind string) {
	pattern := nameOptional.ReplaceAllStringFunc(s.names(), func(part string) string {
		if pass == "" {
			return ""
		}
		return part[1 : len(part)-1]
	})
	with := map[string]string{
		"job": s.Job, "project": s.Project, "kind": string(s.Kind), "number": fmt.Sprint(s.Number), "pass": pass,
		"ending": s.ending(pass),
	}
	filled := nameField.ReplaceAllStringFunc(pattern, func(part string) string { return with[part[1:len(part)-1]] })
	at := nameNumber.FindStringIndex(filled)
	before, behind = filled[:at[0]], filled[at[1]:]
	folder = path.Dir(before + "0")
	before = strings.TrimPrefix(before, folder+"/")
	if folder == "." {
		folder = ""
	}
	if s.Tiles != nil {
		folder = inTiles(folder)
	}
	return folder, before, behind
}

// Folders returns the folders inside the run's output folder into which its files go,
// besides that itself.
func (s Spec) Folders() (out []string) {
	for _, pass := range append([]string{""}, s.PassNames()...) {
		if folder, _, _ := s.FrameFileParts(pass); folder != "" {
			out = append(out, folder)
		}
	}
	return out
}
