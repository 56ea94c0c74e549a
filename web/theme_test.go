package web

import (
	"fmt"
	"math"
	"os"
	"regexp"
	"strconv"
	"testing"
)

// themes reads the colours of both themes.
func themes(t *testing.T) map[string]map[string]string {
	t.Helper()
	css, err := os.ReadFile("src/theme.css")
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]map[string]string{"night": {}, "day": {}}
	variable := regexp.MustCompile(`(--[\w-]+):\s*(#[0-9a-f]{6});`)
	for name := range out {
		for _, block := range regexp.MustCompile(fmt.Sprintf(
			`(?s)(?:name: "%s"|\[data-theme="%s"\] \{)(.*?)\}`, name, name,
		)).FindAllSubmatch(css, -1) {
			for _, v := range variable.FindAllSubmatch(block[1], -1) {
				out[name][string(v[1])] = string(v[2])
			}
		}
	}
	return out
}

// contrast is the ratio of WCAG 2.2.
func contrast(a, b string) float64 {
	x, y := luminance(a), luminance(b)
	return (max(x, y) + 0.05) / (min(x, y) + 0.05)
}

func luminance(colour string) float64 {
	channel := func(at int) float64 {
		n, _ := strconv.ParseUint(colour[at:at+2], 16, 8)
		v := float64(n) / 255
		if v <= 0.03928 {
			return v / 12.92
		}
		return math.Pow((v+0.055)/1.055, 2.4)
	}
	return 0.2126*channel(1) + 0.7152*channel(3) + 0.0722*channel(5)
}

// TestColoursOfStates looks that what is drawn is told from its ground, and that
// what is rendered and what is done differ in lightness too, in both themes.
func TestColoursOfStates(t *testing.T) {
	for theme, c := range themes(t) {
		for _, ground := range []string{"--color-base-100", "--color-base-200", "--color-base-300"} {
			for _, drawn := range []string{
				"--s-rendering", "--s-done", "--s-todo", "--s-dealt", "--s-held", "--s-failed", "--s-sidelined",
				"--line",
			} {
				if r := contrast(c[drawn], c[ground]); r < 3 {
					t.Errorf("%s: %s on %s has a contrast of %.2f, less than 3", theme, drawn, ground, r)
				}
			}
			for _, text := range []string{
				"--color-base-content", "--muted", "--faint", "--brass", "--s-text-rendering", "--s-text-done",
				"--s-failed", "--s-held",
			} {
				if r := contrast(c[text], c[ground]); r < 4.5 {
					t.Errorf("%s: %s as text on %s has a contrast of %.2f, less than 4.5", theme, text, ground, r)
				}
			}
		}
		if r := contrast(c["--s-rendering"], c["--s-done"]); r < 1.8 {
			t.Errorf("%s: rendering and done differ by %.2f only", theme, r)
		}
		if r := contrast(c["--s-rendering"], c["--s-verifying"]); r < 1.5 {
			t.Errorf("%s: rendering and verifying differ by %.2f only", theme, r)
		}
	}
}

// TestColoursThatTellApartAreNoStates compares the colours of nodes with those of states, and with
// the ground of both themes.
func TestColoursThatTellApartAreNoStates(t *testing.T) {
	code, err := os.ReadFile("src/parts/apart.ts")
	if err != nil {
		t.Fatal(err)
	}
	colours := regexp.MustCompile(`#[0-9a-f]{6}`).FindAllString(string(code), -1)
	if len(colours) < 6 {
		t.Fatalf("only %q tell nodes apart", colours)
	}
	for theme, of := range themes(t) {
		for _, colour := range colours {
			if c := contrast(colour, of["--color-base-100"]); c < 3 {
				t.Errorf("%s: %s has a contrast of %.2f to the ground", theme, colour, c)
			}
			for name, state := range of {
				if len(name) > 4 && name[:4] == "--s-" && name != "--s-todo" && name != "--s-dealt" && distance(colour, state) < 40 {
					t.Errorf("%s: %s is too like %s, %s", theme, colour, name, state)
				}
			}
		}
	}
}

// distance is how far apart two colours are in RGB, 0 to 441.
func distance(a, b string) float64 {
	sum := 0.0
	for at := 1; at < 7; at += 2 {
		x, _ := strconv.ParseInt(a[at:at+2], 16, 64)
		y, _ := strconv.ParseInt(b[at:at+2], 16, 64)
		sum += float64((x - y) * (x - y))
	}
	return math.Sqrt(sum)
}
