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

func TestShape(t *testing.T) {
	seed, err := strconv.Atoi(os.Getenv("TRACE"))
	if err != nil {
		t.Skip()
	}
	f := Random(farm.ModeRange, false, uint64(seed))
	m := pace.New()
	if _, err := play.Play(f, play.Options{Model: m}); err != nil {
		t.Fatal(err)
	}
	run := &farm.Run{ID: 2, Spec: f.Jobs[0].Spec}
	c := m.Curve(run)
	for i := 0; i < len(f.Jobs[0].Costs); i += 12 {
		fmt.Printf("%d true %.2f known %.2f\n", i+1, f.Jobs[0].Costs[i], c.Cost(i+1))
	}
}
