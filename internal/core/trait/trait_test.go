package trait

import (
	"errors"
	"strings"
	"testing"
	"unicode/utf8"
)

func kiln() Set {
	var all []Trait
	for _, text := range []string{"os=linux", "cores=32", "memory=64GiB", "gpu", "gpu_memory=24GiB", "povray=3.7.0.10", "speed=1.75", "rack", "pool=graphics", "pool=night", "system=debian 12", "laptop=no"} {
		t, err := Parse(text)
		if err != nil {
			panic(err)
		}
		all = append(all, t)
	}
	return NewSet(all...)
}

func TestExpressionsPick(t *testing.T) {
	for _, c := range []struct {
		text string
		want bool
	}{
		{"", true},
		{"gpu", true},
		{"!gpu", false},
		{"laptop", false}, // it says no
		{"submarine", false},
		{"gpu && memory>=64GiB && !laptop", true},
		{"memory>64GiB", false},
		{"memory >= 64000MB", true},
		{"memory<65536MiB || gpu", true},
		{"cores>=9", true}, // as a number, not as text
		{"cores==32 && cores<=32 && cores!=33", true},
		{"povray>=3.7", true},
		{"povray>=3.10", false},
		{"povray<3.8", true},
		{"povray==3.7.0.10", true},
		{"speed>1.5 && speed<2", true},
		{"pool==graphics && pool==night", true},
		{"pool!=graphics", false},
		{"pool!=day", true},
		{"submarine!=yellow", true},
		{"submarine==yellow", false},
		{`system=="debian 12"`, true},
		{`system=="Debian 12"`, true},
		{"os==windows || os==linux && gpu", true},
		{"(os==windows || os==linux) && !gpu", false},
		{"!(gpu && laptop)", true},
		{"!!gpu", true},
	} {
		e, err := ParseExpression(c.text)
		if err != nil {
			t.Errorf("%s: %v", c.text, err)
			continue
		}
		if got := e.Matches(kiln()); got != c.want {
			t.Errorf("%s: %v, want %v", c.text, got, c.want)
		}
		if missing := e.Missing(kiln()); (missing == "") != c.want {
			t.Errorf("%s: missing %q", c.text, missing)
		}
	}
}

func TestWhatIsMissingIsNamed(t *testing.T) {
	for text, want := range map[string]string{
		"gpu && memory>=128GiB && povray>=4": "memory>=128GiB",
		"gpu && (laptop || desk)":            "(laptop || desk)",
		"rack && !gpu":                       "!gpu",
		"rack && !(gpu && rack)":             "!(gpu && rack)",
		`system=="debian 11"`:                `system=="debian 11"`,
	} {
		e, err := ParseExpression(text)
		if err != nil {
			t.Fatal(err)
		}
		if got := e.Missing(kiln()); got != want {
			t.Errorf("%s: missing is %s, want %s", text, got, want)
		}
	}
}

func TestErrorsShowThePlace(t *testing.T) {
	for _, c := range []struct {
		text string
		at   int
		what string
	}{
		{"gpu &&", 6, "a trait is expected, not the end"},
		{"gpu & rack", 4, "write &&"},
		{"memory = 64GiB", 7, "write =="},
		{"memory >= ", 9, "a value is expected after >="},
		{"memory >= && gpu", 10, "a value is expected"},
		{"(gpu || rack", 0, "not closed"},
		{"gpu rack", 4, "&& or || is missing"},
		{"gpu)", 3, "a bracket is not open"},
		{`system=="debian`, 8, "not closed"},
		{"GPU", 0, "not a trait name"},
		{"gpu && $", 7, "no meaning"},
		{"ä && $", 0, "not a trait name"},
		{`x=="ä" && $`, 10, "no meaning"}, // characters, not bytes
		{strings.Repeat("!", 60) + "gpu", 50, "too deep"},
		{strings.Repeat("a", 1001), 0, "at most 1000"},
	} {
		_, err := ParseExpression(c.text)
		var wrong *SyntaxError
		if !errors.As(err, &wrong) || wrong.At != c.at || !strings.Contains(err.Error(), c.what) {
			t.Errorf("%s: %v (at %+v), want %q at %d", c.text, err, wrong, c.what, c.at)
		}
	}
}

func TestTraitsThatCannotBe(t *testing.T) {
	for _, text := range []string{"", "=x", "Gpu", "9lives", "gpu=", `a="b"`, "a=b\nc", strings.Repeat("a", 41), "a=" + strings.Repeat("b", 101)} {
		if got, err := Parse(text); err == nil {
			t.Errorf("%q became %v", text, got)
		}
	}
	if got := NewSet(
		Trait{Name: "a", Value: "2"}, Trait{Name: "a", Value: "10"}, Trait{Name: "a", Value: "2"},
	).All(); len(got) != 2 ||
		got[0].Value != "2" {
		t.Errorf("a set of %v", got)
	}
}

// FuzzExpression looks that what is read can be written and read again with
// the same meaning, and that an error names a place in the text.
func FuzzExpression(f *testing.F) {
	for _, text := range []string{"gpu && memory>=64GiB && !laptop", `a=="b c" || !(d<1.2.3)`, "((x))", "a!=b", "&&", `"`, "é>1"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		e, err := ParseExpression(text)
		var wrong *SyntaxError
		if err != nil {
			if !errors.As(err, &wrong) || wrong.At < 0 || wrong.At > utf8.RuneCountInString(wrong.Text) {
				t.Fatalf("%q: %v", text, err)
			}
			return
		}
		if e.root == nil {
			return
		}
		written := e.root.write()
		again, err := ParseExpression(written)
		if err != nil {
			if utf8.RuneCountInString(written) > mostText ||
				strings.Contains(err.Error(), "too deep") { // brackets of its own made it longer
				return
			}
			t.Fatalf("%q was written as %q: %v", text, written, err)
		}
		if a, b := e.Matches(kiln()), again.Matches(kiln()); a != b {
			t.Fatalf("%q is %v, written as %q it is %v", text, a, written, b)
		}
	})
}
