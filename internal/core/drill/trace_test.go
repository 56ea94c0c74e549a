package drill

import (
	"fmt"
	"os"
	"strconv"
	"testing"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/play"
)

func TestTrace(t *testing.T) {
	seed, err := strconv.Atoi(os.Getenv("TRACE"))
	if err != nil {
		t.Skip()
	}
	f := Random(farm.Mode(os.Getenv("MODE")), false, uint64(seed))
	m := pace.New()
	if os.Getenv("HISTORY") != "" {
		if _, err := play.Play(f, play.Options{Model: m}); err != nil {
			t.Fatal(err)
		}
		f.Seed += 1 << 32
	}
	r, err := play.Play(f, play.Options{Tell: true, Model: m})
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range r.Told {
		fmt.Printf("%8.1f %s\n", x.At, x.Reason)
	}
	ends := map[string]float64{}
	for _, a := range r.Attempts {
		ends[a.Node] = a.End
	}
	for i, n := range f.Nodes {
		fmt.Printf("%s speed %.2f known %.2f joins %.1f idle %.3f last %.1f\n", n.Name, n.Speed, n.Known, n.Joins, 1-r.Busy[i]/r.Present[i], ends[n.Name])
	}
	fmt.Printf("finish %.1f bound %.1f startup %.1f noise %.2f\n", r.Finish, Bound(f, 0), f.Jobs[0].Startup, f.Jobs[0].Noise)
}
