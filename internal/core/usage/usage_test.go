package usage

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

func TestSamplesBecomeOne(t *testing.T) {
	var tally Tally
	tally.Add(
		Sample{
			Processor: 0.2, Groups: []float64{0, 0.4}, Memory: 10, Temperature: Unknown, Load: 1,
			Devices: []Device{{ID: "a", Busy: 0.5, Memory: Unknown, Temperature: 60}},
		},
	)
	tally.Add(
		Sample{
			Processor: 0.6, Groups: []float64{1, 0.2, 1}, Memory: 30, Temperature: 50,
			Load:    math.NaN(),
			Devices: []Device{{ID: "b", Busy: 1}, {ID: "a", Busy: 0.7, Memory: Unknown, Temperature: 70}},
		},
	)
	tally.Add(Sample{Processor: Unknown, Memory: 20, Temperature: 70, Load: 3})
	got := tally.Sample()
	near := func(what string, got, want float64) {
		t.Helper()
		if math.Abs(got-want) > 1e-9 {
			t.Errorf("%s is %v, want %v", what, got, want)
		}
	}
	near("processor", got.Processor, 0.4)
	near("the most of it", got.Most, 0.6)
	near("memory", got.Memory, 20)
	near("the most of that", got.MemoryMost, 30)
	near("temperature", got.Temperature, 60)
	near("load", got.Load, 2)
	near("the first group", got.Groups[0], 0.5)
	near("the third group", got.Groups[2], 1)
	if len(got.Devices) != 2 || got.Devices[0].ID != "a" {
		t.Fatalf("devices %+v", got.Devices)
	}
	near("device a", got.Devices[0].Busy, 0.6)
	near("its memory", got.Devices[0].Memory, Unknown)
	near("its temperature", got.Devices[0].Temperature, 65)
}

// TestRollingUpLosesNothing rolls samples up that come at random times, with a
// restart in between, and looks that each counted once for its minute and its
// quarter.
func TestRollingUpLosesNothing(t *testing.T) {
	for seed := range uint64(50) {
		r := rand.New(rand.NewPCG(seed, 11))
		var roller Roller
		sums, counts := map[time.Time]float64{}, map[time.Time]float64{}
		var rows []Row
		at := time.Date(2031, 3, 4, 10, 0, 0, 0, time.UTC).Add(time.Duration(r.IntN(900)) * time.Second)
		for range 2000 {
			v := r.Float64()
			rows = append(rows, roller.Add(7, at, Sample{Processor: v, Memory: v})...)
			sums[at.Truncate(Minute)] += v
			counts[at.Truncate(Minute)]++
			at = at.Add(time.Duration(1+r.IntN(9)) * time.Second)
			if r.IntN(400) == 0 { // a restart at the border of a minute, so that none is cut in two
				at = at.Truncate(Minute).Add(Minute)
				rows = append(rows, roller.Close(at)...)
				roller = Roller{}
				for _, row := range rows {
					if row.Step == Minute && !row.At.Before(at.Truncate(Quarter)) {
						roller.Recall(row)
					}
				}
			}
		}
		rows = append(rows, roller.Close(at.Add(time.Hour))...)
		means := map[time.Time]float64{}
		quarters, inQuarter := map[time.Time]float64{}, map[time.Time]float64{}
		for _, row := range rows {
			if row.Step == Minute {
				if _, twice := means[row.At]; twice {
					t.Fatalf("seed %d: the minute %v is told twice", seed, row.At)
				}
				means[row.At] = row.Processor
				quarters[row.At.Truncate(Quarter)] += row.Processor
				inQuarter[row.At.Truncate(Quarter)]++
			}
		}
		if len(means) != len(sums) {
			t.Fatalf("seed %d: %d minutes, want %d", seed, len(means), len(sums))
		}
		for minute, sum := range sums {
			if math.Abs(means[minute]-sum/counts[minute]) > 1e-9 {
				t.Fatalf("seed %d: the minute %v is %v, want %v", seed, minute, means[minute], sum/counts[minute])
			}
		}
		seen := map[time.Time]bool{}
		for _, row := range rows {
			if row.Step == Quarter {
				if seen[row.At] {
					t.Fatalf("seed %d: the quarter %v is told twice", seed, row.At)
				}
				seen[row.At] = true
				if want := quarters[row.At] / inQuarter[row.At]; math.Abs(row.Processor-want) > 1e-9 {
					t.Fatalf("seed %d: the quarter %v is %v, want %v", seed, row.At, row.Processor, want)
				}
			}
		}
		if len(seen) != len(quarters) {
			t.Fatalf("seed %d: %d quarters, want %d", seed, len(seen), len(quarters))
		}
		if len(roller.open) != 0 {
			t.Errorf("seed %d: %d nodes are still remembered", seed, len(roller.open))
		}
	}
}
