package selftest

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"strings"
	"testing"
)

func TestOnlyTheKnownPicturePasses(t *testing.T) {
	for _, test := range Tests {
		d, ok, err := test.Compare(bytes.NewReader(test.known))
		if err != nil || !ok || d.Most != 0 || d.String() != "the same, pixel for pixel" {
			t.Errorf("%s: %v %v %v", test.Recipe, d, ok, err)
		}
		img, err := png.Decode(bytes.NewReader(test.known))
		if err != nil {
			t.Fatal(err)
		}
		altered := func(shift int, only image.Rectangle) *bytes.Buffer {
			out := image.NewNRGBA(img.Bounds())
			for y := range test.Height {
				for x := range test.Width {
					c := color.NRGBAModel.Convert(img.At(x, y)).(color.NRGBA)
					if (image.Point{X: x, Y: y}).In(only) {
						c.R = uint8(min(255, max(0, int(c.R)+shift)))
					}
					out.Set(x, y, c)
				}
			}
			var buf bytes.Buffer
			if err := png.Encode(&buf, out); err != nil {
				t.Fatal(err)
			}
			return &buf
		}
		if d, ok, _ := test.Compare(altered(20, img.Bounds())); ok || d.Most < 10 {
			t.Errorf("%s: a picture that is too red passes: %v", test.Recipe, d)
		}
		if d, ok, _ := test.Compare(altered(-255, image.Rect(0, 0, test.Width, test.Height/5))); ok {
			t.Errorf("%s: a picture with a broken stripe passes: %v", test.Recipe, d)
		}
		if _, _, err := test.Compare(strings.NewReader("no picture")); err == nil {
			t.Error("what is no picture passes")
		}
	}
	if _, ok, err := Tests[0].Compare(bytes.NewReader(Tests[1].known)); ok || err == nil {
		t.Error("a picture of another size passes")
	}
}

func TestNamesOfJobs(t *testing.T) {
	for _, node := range []string{"kiln-01", "desk-practice", "practice"} {
		for _, test := range Tests {
			if n, r, ok := Tested(Job(node, test.Recipe)); n != node || r != test.Recipe || !ok {
				t.Errorf("%s is of %s and %s", Job(node, test.Recipe), n, r)
			}
		}
	}
	for _, job := range []string{"salt_010", "self-test", "self-test-", "self-test-kiln-01", "self-test-practice", "self-test-x-other"} {
		if n, r, ok := Tested(job); ok {
			t.Errorf("%s is taken for a test of %s on %s", job, r, n)
		}
	}
}
