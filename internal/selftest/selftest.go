// Package selftest holds the small frames that a node renders to show that it
// works, and the pictures that must come of them.
//
// It knows neither nodes nor how frames are rendered.
package selftest

import (
	"bytes"
	_ "embed"
	"fmt"
	"image"
	_ "image/png" // the known pictures, and those that are looked at
	"io"
	"math"
	"strings"

	"vexillum/internal/core/farm"
)

// Project is the name of the project to which the runs of self-tests belong.
const Project = farm.OwnProject

// Test is one frame that a node renders.
type Test struct {
	Recipe        string
	Scene         string // name of its scene file
	Text          string // of the scene
	Frame         int
	Width, Height int
	// Tolerance is the mean difference, of 255, that renderings of different
	// versions and processors may have.
	Tolerance float64
	// Reference is how many seconds one core of the reference machine, which has
	// four and the speed 1, renders at the frame.
	Reference float64
	known     []byte
}

var (
	//go:embed salt.practice
	saltScene string
	//go:embed salt.png
	saltPicture []byte
	//go:embed sphere.pov
	sphereScene string
	//go:embed sphere.png
	spherePicture []byte
)

// Tests are all there are: one for each renderer that the farm knows by itself.
var Tests = []Test{
	{
		Recipe: "practice", Scene: "salt.practice", Text: saltScene, Frame: 24, Width: 160,
		Height: 90, Tolerance: 0.02, Reference: 2, known: saltPicture,
	},
	{
		Recipe: "povray", Scene: "sphere.pov", Text: sphereScene, Frame: 1, Width: 320,
		Height: 180, Tolerance: 1.0, Reference: 0.4, known: spherePicture,
	},
}

// Job is the name of the job that tests a recipe on a node.
func Job(node, recipe string) string { return Project + "-" + node + "-" + recipe }

// Tested returns the node and recipe that a job tests, and false for a job
// that is no self-test.
func Tested(job string) (node, recipe string, ok bool) {
	rest, ok := strings.CutPrefix(job, Project+"-")
	if !ok {
		return "", "", false
	}
	for _, t := range Tests {
		if node, ok := strings.CutSuffix(rest, "-"+t.Recipe); ok && node != "" {
			return node, t.Recipe, true
		}
	}
	return "", "", false
}

// Speed returns the speed index of a machine with this renderer: by how long one
// of its cores rendered at the frame. It is 0 where that cannot be told.
func (t Test) Speed(seconds float64, cores int) float64 {
	if seconds <= 0 || cores < 1 {
		return 0
	}
	return t.Reference / seconds * float64(cores) / 4
}

// Difference is how far a picture is from the known one.
type Difference struct {
	Mean float64 // of all channels, of 255
	Most float64 // of one channel of one pixel, of 255
}

// String says it in words.
func (d Difference) String() string {
	if d.Most == 0 {
		return "the same, pixel for pixel"
	}
	return fmt.Sprintf("differs by %.2f of 255 on average, and by %.0f at most", d.Mean, d.Most)
}

// Compare returns how far a rendered picture is from the known one, and whether
// that is near enough. The error says that it is no picture of the right size.
func (t Test) Compare(rendered io.Reader) (Difference, bool, error) {
	known, _, err := image.Decode(bytes.NewReader(t.known))
	if err != nil {
		return Difference{}, false, fmt.Errorf("reading the known picture of %s: %w", t.Recipe, err)
	}
	got, _, err := image.Decode(rendered)
	if err != nil {
		return Difference{}, false, fmt.Errorf("the picture cannot be read: %w", err)
	}
	if got.Bounds().Size() != known.Bounds().Size() {
		return Difference{}, false, fmt.Errorf(
			"the picture has %v pixels, not %v", got.Bounds().Size(), known.Bounds().Size(),
		)
	}
	var d Difference
	sum := 0.0
	a, b := got.Bounds().Min, known.Bounds().Min
	size := known.Bounds().Size()
	for y := range size.Y {
		for x := range size.X {
			r1, g1, b1, _ := got.At(a.X+x, a.Y+y).RGBA()
			r2, g2, b2, _ := known.At(b.X+x, b.Y+y).RGBA()
			for _, pair := range [3][2]uint32{{r1, r2}, {g1, g2}, {b1, b2}} {
				off := math.Abs(float64(pair[0])-float64(pair[1])) / 257
				sum += off
				d.Most = max(d.Most, off)
			}
		}
	}
	d.Mean = sum / float64(3*size.X*size.Y)
	return d, d.Mean <= t.Tolerance, nil
}
