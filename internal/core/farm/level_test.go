package farm

import "testing"

func TestCeilings(t *testing.T) {
	for _, c := range []struct {
		text string
		able int
		want int
	}{
		{"8", 100, 8}, {"8", 3, 8}, {"50%", 7, 3}, {"12.5%", 8, 1}, {"1%", 8, 1}, {"100%", 9, 9},
	} {
		got, err := ParseCeiling(c.text)
		if err != nil || got.Most(c.able) != c.want || got.String() != c.text {
			t.Errorf("%s of %d: %d as %q, %v; want %d", c.text, c.able, got.Most(c.able), got, err, c.want)
		}
	}
	for _, bad := range []string{"0", "-1", "0%", "101%", "half", "%", "1.5"} {
		if c, err := ParseCeiling(bad); err == nil {
			t.Errorf("%q is read as %v", bad, c)
		}
	}
	if c, err := ParseCeiling(""); err != nil || !c.None() {
		t.Errorf("no ceiling: %v, %v", c, err)
	}
}

func TestLevels(t *testing.T) {
	order := []Level{Urgent, High, Normal, Low, Filler}
	for i, l := range order {
		if got, err := ParseLevel(string(l)); err != nil || got.Rank() != i {
			t.Errorf("%s: rank %d, %v", l, got.Rank(), err)
		}
	}
	if l, err := ParseLevel(""); err != nil || l.Rank() != Normal.Rank() || l.String() != "normal" {
		t.Errorf("none: %v, %v", l, err)
	}
	if _, err := ParseLevel("asap"); err == nil {
		t.Error("asap is a level")
	}
}
