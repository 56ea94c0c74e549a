package tile

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
)

// covers looks that tiles cover a picture, each pixel once.
func covers(t *testing.T, width, height int, tiles []Rect) {
	t.Helper()
	seen := make([]bool, width*height)
	for _, r := range tiles {
		if r.Left < 0 || r.Top < 0 || r.Right > width || r.Bottom > height || r.Pixels() == 0 {
			t.Fatalf("the tile %v is not in a picture of %d×%d", r, width, height)
		}
		for y := r.Top; y < r.Bottom; y++ {
			for x := r.Left; x < r.Right; x++ {
				if seen[y*width+x] {
					t.Fatalf("pixel %d,%d lies in two tiles of %v", x, y, tiles)
				}
				seen[y*width+x] = true
			}
		}
	}
	for i, s := range seen {
		if !s {
			t.Fatalf("pixel %d,%d lies in no tile of %v", i%width, i/width, tiles)
		}
	}
}

func TestTilesCoverThePicture(t *testing.T) {
	for seed := range uint64(400) {
		dice := rand.New(rand.NewPCG(seed, 1))
		width, height := 1+dice.IntN(400), 1+dice.IntN(300)
		columns, rows := 1+dice.IntN(min(width, 12)), 1+dice.IntN(min(height, 12))
		grid, err := Grid(width, height, columns, rows)
		if err != nil || len(grid) != columns*rows {
			t.Fatalf("%d×%d of %d×%d: %d tiles, %v", columns, rows, width, height, len(grid), err)
		}
		covers(t, width, height, grid)
		sized, err := BySize(width, height, 1+dice.IntN(200), 1+dice.IntN(200))
		if err == nil {
			covers(t, width, height, sized)
		}
		speeds := make([]float64, 1+dice.IntN(9))
		for i := range speeds {
			speeds[i] = 0.2 + 4*dice.Float64()
		}
		hot := Rect{dice.IntN(width), dice.IntN(height), width, height}
		costs := func(r Rect) float64 { return Even(r) + 20*Even(r.Common(hot)) }
		covers(t, width, height, BySpeed(width, height, speeds, costs))
	}
}

// TestUnlikeMachinesEndTogether deals tiles to machines of unlike speed, each the next as
// soon as it is free, and compares when the last ends with the earliest possible.
func TestUnlikeMachinesEndTogether(t *testing.T) {
	worst, sum, farms := 0.0, 0.0, 200
	for seed := range farms {
		dice := rand.New(rand.NewPCG(uint64(seed), 2))
		speeds, power := make([]float64, 2+dice.IntN(10)), 0.0
		for i := range speeds {
			speeds[i] = 0.3 + 3*dice.Float64()
			power += speeds[i]
		}
		hot := Rect{480, 270, 480 + 100 + dice.IntN(1300), 270 + 100 + dice.IntN(700)}
		costs := func(r Rect) float64 { return Even(r) + 8*Even(r.Common(hot)) }
		const width, height = 1920, 1080
		free := make([]float64, len(speeds))
		for _, r := range BySpeed(width, height, speeds, costs) {
			// whoever would be through with it first
			best := 0
			for i := range free {
				if free[i]+costs(r)/speeds[i] < free[best]+costs(r)/speeds[best] {
					best = i
				}
			}
			free[best] += costs(r) / speeds[best]
		}
		finish := 0.0
		for _, f := range free {
			finish = max(finish, f)
		}
		off := finish / (costs(Rect{0, 0, width, height}) / power)
		worst, sum = max(worst, off), sum+off
	}
	if mean := sum / float64(farms); mean > 1.08 || worst > 1.25 {
		t.Errorf("they end %.3f of the earliest time on average, %.3f at worst", mean, worst)
	}
}

func TestWhatCannotBeTiled(t *testing.T) {
	for _, c := range []struct {
		width, height, columns, rows int
		says                         string
	}{
		{100, 100, 0, 3, "has no tiles"}, {3, 100, 4, 1, "more tiles than the picture"}, {9000, 9000, 100, 100, "more than 4096"},
	} {
		if _, err := Grid(c.width, c.height, c.columns, c.rows); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%+v: %v", c, err)
		}
	}
	if _, err := BySize(9000, 9000, 10, 10); err == nil {
		t.Error("810,000 tiles")
	}
	if _, err := BySize(100, 100, 0, 10); err == nil {
		t.Error("tiles without pixels")
	}
	if r := (Rect{10, 10, 20, 20}).Grown(15, 30, 100); r != (Rect{0, 0, 30, 35}) {
		t.Errorf("grown it is %v", r)
	}
	if n := len(BySpeed(64, 64, make([]float64, 5000), Even)); n > Most {
		t.Errorf("%d tiles", n)
	}
	if math.IsNaN(Even(Rect{})) {
		t.Error("nothing costs something")
	}
}

func Example() {
	tiles, _ := Grid(640, 360, 2, 2)
	for _, r := range tiles {
		fmt.Println(r)
	}
	// Output:
	// 0,0,320,192
	// 320,0,640,192
	// 0,192,320,360
	// 320,192,640,360
}
