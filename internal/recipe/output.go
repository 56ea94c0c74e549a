package recipe

import (
	"fmt"
	"regexp"
	"strconv"

	"vexillum/internal/core/trait"
)

// Size says how large the pictures of an output are: as those of the frame when it
// is empty, any, in pixels such as 1024x512, or as a part of the frame such as 50%.
type Size string

// Any is the Size of pictures whose size is not looked at.
const Any Size = "any"

var (
	sizeInPixels = regexp.MustCompile(`^([1-9]\d{0,4})x([1-9]\d{0,4})$`)
	sizeInParts  = regexp.MustCompile(`^([1-9]\d{0,3})%$`)
)

// check says why a Size cannot be.
func (s Size) check() error {
	if s == "" || s == Any || sizeInPixels.MatchString(string(s)) || sizeInParts.MatchString(string(s)) {
		return nil
	}
	return fmt.Errorf("%q is no size; write any, pixels such as 1024x512, or a part of the frame such as 50%%", s)
}

// Of returns the size in pixels where the frame has this one; 0×0 stands for any.
func (s Size) Of(width, height int) (w, h int) {
	number := func(text string) int {
		n, _ := strconv.Atoi(text) // its form was looked at
		return n
	}
	if s == Any {
		return 0, 0
	}
	if m := sizeInPixels.FindStringSubmatch(string(s)); m != nil {
		return number(m[1]), number(m[2])
	}
	if m := sizeInParts.FindStringSubmatch(string(s)); m != nil {
		return max(1, width*number(m[1])/100), max(1, height*number(m[1])/100)
	}
	return width, height
}

var dotted = regexp.MustCompile(`^\d{1,9}(?:\.\d{1,9}){0,7}`)

// versionIn reads the dotted numbers with which a text begins. The error says that there
// are none.
func versionIn(text string) (trait.Version, error) {
	v, ok := trait.ParseVersion(dotted.FindString(text))
	if !ok {
		return nil, fmt.Errorf("%q is no version; write it like 3.7", text)
	}
	return v, nil
}
