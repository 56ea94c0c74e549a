package triage

import (
	"fmt"
	"testing"

	"vexillum/internal/core/farm"
)

// TestCompareNode puts what failed on a node beside what came of it elsewhere.
func TestCompareNode(t *testing.T) {
	s := troubled(t)
	all := CompareNode(Rule(s), 1, nil)
	var got string
	for _, c := range all {
		got += fmt.Sprintf(
			"%d/%d here %d, elsewhere %d, done %v; ",
			c.Run,
			c.Frame,
			len(c.Tries),
			len(c.Elsewhere),
			c.Done,
		)
	}
	want := "2/7 here 1, elsewhere 0, done false; 1/2 here 1, elsewhere 1, done false; 1/1 here 1, elsewhere 0, " +
		"done true; "
	if got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	if own := CompareNode(Rule(s), 1, func(project string) bool { return project == "gannet" }); len(own) != 1 ||
		own[0].Run != 2 {
		t.Errorf("of one project: %+v", own)
	}
	if none := CompareNode(Rule(s), 3, nil); len(none) != 0 || CompareSentence(3, none) != "" {
		t.Errorf("a node that failed nothing: %+v", none)
	}
}

// TestCompareSentence reads what is said of frames that failed on a node.
func TestCompareSentence(t *testing.T) {
	here, well, too := Compared{}, Compared{GoodOn: 2}, Compared{Elsewhere: []farm.Attempt{{Node: 2}}}
	later := Compared{GoodOn: 1}
	for want, all := range map[string][]Compared{
		"1 frame has failed here lately: it came out well elsewhere.":                             {well},
		"2 frames have failed here lately: all of them came out well here later.":                 {later, later},
		"1 frame has failed here lately: it is not known to have been tried elsewhere.":           {here},
		"2 frames have failed here lately: all of them failed elsewhere too.":                     {too, too},
		"3 frames have failed here lately: 2 came out well elsewhere and 1 failed elsewhere too.": {well, well, too},
	} {
		if got := CompareSentence(1, all); got != want {
			t.Errorf("%s\nwant %s", got, want)
		}
	}
}
