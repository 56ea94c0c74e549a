package night

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"
)

func Example() {
	dublin, _ := time.LoadLocation("Europe/Dublin")
	morning := time.Date(2031, 3, 5, 9, 30, 0, 0, dublin)
	begin, end, _ := Span(morning, "19:00", "08:00", "", dublin)
	fmt.Println(begin.Format("Mon 15:04"), "to", end.Format("Mon 15:04"))
	causes := Sum([]Try{
		{Run: "salt_010/final-1", Frame: 7, Node: "kiln-01", Cause: "crash", Blame: "node", Seconds: 40, Done: true},
		{Run: "salt_010/final-1", Frame: 8, Node: "kiln-01", Cause: "crash", Blame: "node", Seconds: 50},
		{Run: "salt_020/final-1", Frame: 1, Node: "loom-01", Cause: "stalled", Blame: "frame", Seconds: 600},
	})
	for _, c := range causes {
		fmt.Println(c.Cause, c.Tries, c.Frames, c.Open, c.Seconds, c.Nodes, c.Blame)
	}
	// Output:
	// Tue 19:00 to Wed 08:00
	// stalled 1 1 1 600 [loom-01] frame
	// crash 2 2 1 90 [kiln-01] node
}

func TestNightsAreFound(t *testing.T) {
	dublin, err := time.LoadLocation("Europe/Dublin")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ now, from, to, day, want string }{
		{"2031-03-05T09:30:00Z", "19:00", "08:00", "", "2031-03-04T19:00:00Z 2031-03-05T08:00:00Z"},
		{"2031-03-05T02:00:00Z", "19:00", "08:00", "", "2031-03-04T19:00:00Z 2031-03-05T02:00:00Z"}, // it goes on
		{"2031-03-05T19:00:00Z", "19:00", "08:00", "", "2031-03-05T19:00:00Z 2031-03-05T19:00:00Z"},
		{"2031-03-05T18:59:00Z", "19:00", "08:00", "", "2031-03-04T19:00:00Z 2031-03-05T08:00:00Z"},
		{"2031-03-31T09:00:00Z", "19:00", "08:00", "2031-03-29", "2031-03-29T19:00:00Z 2031-03-30T07:00:00Z"}, // summer
		{"2031-03-05T20:00:00Z", "09:00", "17:00", "", "2031-03-05T09:00:00Z 2031-03-05T17:00:00Z"},
		{"2031-03-05T20:00:00Z", "19:00", "08:00", "2031-03-06", ""},
		{"2031-03-05T20:00:00Z", "19", "08:00", "", ""},
		{"2031-03-05T20:00:00Z", "19:00", "late", "", ""},
		{"2031-03-05T20:00:00Z", "19:00", "08:00", "yesterday", ""},
	} {
		now, err := time.Parse(time.RFC3339, c.now)
		if err != nil {
			t.Fatal(err)
		}
		begin, end, err := Span(now, c.from, c.to, c.day, dublin)
		got := begin.UTC().Format(time.RFC3339) + " " + end.UTC().Format(time.RFC3339)
		if err != nil {
			got = ""
		}
		if got != c.want {
			t.Errorf("%+v: %s; %v", c, got, err)
		}
	}
}

// TestNothingIsLostInASum sums random tries up: all are counted once, in the sum and over the
// time.
func TestNothingIsLostInASum(t *testing.T) {
	from := time.Date(2031, 3, 4, 19, 0, 0, 0, time.UTC)
	to := from.Add(13 * time.Hour)
	for seed := range uint64(50) {
		r := rand.New(rand.NewPCG(seed, 7))
		var tries []Try
		seconds := 0.0
		for range r.IntN(400) {
			try := Try{
				At: from.Add(
					time.Duration(r.Int64N(int64(to.Sub(from)) + 1)),
				), Run: fmt.Sprint("run ", r.IntN(5)), Frame: r.IntN(30),
				Node: fmt.Sprint(
					"kiln ",
					r.IntN(5),
				), Cause: fmt.Sprint("cause ", r.IntN(6)), Seconds: float64(r.IntN(100)),
			}
			seconds += try.Seconds
			tries = append(tries, try)
		}
		counted, spent := 0, 0.0
		for _, c := range Sum(tries) {
			counted += c.Tries
			spent += c.Seconds
			if c.Open > c.Frames || c.Frames > c.Tries || len(c.Runs) == 0 || len(c.Nodes) == 0 {
				t.Fatalf("seed %d: %+v", seed, c)
			}
		}
		over := 0
		for _, b := range Over(tries, from, to, 1+r.IntN(60)) {
			for _, n := range b.Tries {
				over += n
			}
		}
		if counted != len(tries) || over != len(tries) || spent != seconds {
			t.Errorf(
				"seed %d: %d tries are summed up as %d and %d, %v seconds as %v",
				seed,
				len(tries),
				counted,
				over,
				seconds,
				spent,
			)
		}
	}
}
