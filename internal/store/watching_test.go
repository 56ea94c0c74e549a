package store

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"vexillum/internal/core/usage"
	"vexillum/internal/testkit/pgtest"
)

func TestUsageIsKeptForItsTime(t *testing.T) {
	s, _ := claimed(t, pgtest.URL(t))
	ctx := t.Context()
	if err := s.Partition(ctx, now, 1<<40); err != nil {
		t.Fatal(err)
	}
	sample := usage.Sample{
		Processor: 0.5, Most: 0.75, Groups: []float64{0.25, 0.75}, Memory: 1 << 30,
		MemoryMost: 2 << 30, Swap: usage.Unknown, Temperature: 61.5,
		Devices: []usage.Device{{ID: "0000:01:00.0", Busy: 0.9, Memory: 5, Temperature: usage.Unknown}},
	}
	for _, step := range []time.Duration{usage.Fine, usage.Minute, usage.Quarter} {
		var rows []usage.Row
		for i := range 3 {
			rows = append(
				rows, usage.Row{Node: 7, At: now.Add(time.Duration(i) * time.Second), Sample: sample},
				usage.Row{Node: 8, At: now, Sample: sample},
			)
		}
		if err := s.AddUsage(ctx, step, rows); err != nil {
			t.Fatal(err)
		}
		got, err := s.Usage(ctx, 7, step, now.Add(-time.Minute))
		if err != nil || len(got) != 3 {
			t.Fatalf("%v: %d rows %v", step, len(got), err)
		}
		want := sample
		if step == usage.Quarter {
			want.Groups, want.Devices = nil, nil
		}
		if g := got[2]; !g.At.Equal(now.Add(2*time.Second)) || math.Abs(g.Temperature-61.5) > 1e-3 || !slices.Equal(g.Groups, want.Groups) ||
			len(g.Devices) != len(want.Devices) || g.Memory != want.Memory ||
			g.Swap != want.Swap ||
			g.Most != want.Most {
			t.Errorf("%v: %+v, want %+v", step, g, want)
		}
	}
	if err := s.AddUsage(ctx, usage.Fine, []usage.Row{{Node: 7, At: now.Add(-5 * time.Hour)}}); err == nil {
		t.Error("a sample of a time that nobody keeps was taken")
	}
	// As time goes on, partitions come and go, and twice is as once.
	for at := now; at.Before(now.Add(100 * 24 * time.Hour)); at = at.Add(5 * 24 * time.Hour) {
		for range 2 {
			if err := errors.Join(s.Partition(ctx, at, 1<<40), s.DropPartitions(ctx, at)); err != nil {
				t.Fatal(err)
			}
		}
	}
	for step, want := range map[time.Duration]int{usage.Fine: 0, usage.Minute: 0, usage.Quarter: 3} {
		if got, err := s.Usage(ctx, 7, step, now.Add(-time.Minute)); err != nil || len(got) != want {
			t.Errorf("95 days later %d rows of %v are left, want %d: %v", len(got), step, want, err)
		}
	}
	if err := errors.Join(s.Partition(ctx, now.Add(110*24*time.Hour), 1<<40), s.DropPartitions(ctx, now.Add(110*24*time.Hour))); err != nil {
		t.Fatal(err)
	}
	if got, _ := s.Usage(ctx, 7, usage.Quarter, now.Add(-time.Minute)); len(got) != 0 {
		t.Errorf("110 days later %d rows are left", len(got))
	}
	var partitions int
	if err := s.db.Get(&partitions, `SELECT count(*) FROM pg_inherits`); err != nil || partitions > 60 {
		t.Errorf("%d partitions: %v", partitions, err)
	}
}

func TestLogsAreKeptOnceAndWithinBounds(t *testing.T) {
	s, _ := claimed(t, pgtest.URL(t))
	ctx := t.Context()
	if err := s.Partition(ctx, now, 1<<40); err != nil {
		t.Fatal(err)
	}
	piece := func(day, lease, seq int) LogPiece {
		at := now.Add(time.Duration(day)*24*time.Hour + time.Duration(seq)*time.Second)
		return LogPiece{
			Day: at, Node: 7, Lease: int64(lease), Run: 3, Seq: int64(seq), FirstAt: at, LastAt: at,
			Lines: 2, Text: []byte(fmt.Sprintf("%d says %d\nand more\n", lease, seq)),
		}
	}
	for range 2 { // a node that got no answer says it again
		if err := s.AddLogs(
			ctx, []LogPiece{piece(0, 1, 1), piece(0, 1, 2), piece(0, 2, 3), piece(0, 0, 4)},
		); err != nil {
			t.Fatal(err)
		}
	}
	read := func(q LogQuery) string {
		t.Helper()
		var said []string
		if err := s.Logs(ctx, q, func(p LogPiece) bool {
			said = append(said, strings.SplitN(string(p.Text), "\n", 2)[0])
			return len(said) < 3
		}); err != nil {
			t.Fatal(err)
		}
		return strings.Join(said, ", ")
	}
	for _, c := range []struct {
		q    LogQuery
		want string
	}{
		{LogQuery{Node: 7}, "0 says 4, 2 says 3, 1 says 2"},
		{LogQuery{Node: 8}, ""},
		{LogQuery{Node: 7, Lease: 1}, "1 says 2, 1 says 1"},
		{LogQuery{Run: 3, Lease: 2}, "2 says 3"},
		{LogQuery{Node: 7, NodeItself: true}, "0 says 4"},
		{LogQuery{Node: 7, Before: now.Add(3 * time.Second)}, "1 says 2, 1 says 1"},
	} {
		q := c.q
		if q.Before.IsZero() {
			q.Before = now.Add(time.Hour)
		}
		if got := read(q); got != c.want {
			t.Errorf("%+v: %s, want %s", c.q, got, c.want)
		}
	}
	// A clock that was set a year back finds its day.
	back := piece(-365, 1, 1)
	if err := s.AddLogs(ctx, []LogPiece{back}); err != nil {
		t.Errorf("a year back: %v", err)
	}
	if newest, err := s.NewestSaid(ctx); err != nil || !newest.Equal(now.Add(4*time.Second)) {
		t.Errorf("the newest line was said at %v, %v", newest, err)
	}
	if _, err := s.db.Exec("DROP TABLE " + logPiece.name(back.Day.UTC().Truncate(logPiece.width))); err != nil {
		t.Error(err)
	}
	// Days go when there is too much, the oldest first, and today never.
	for day := 1; day <= 3; day++ {
		if err := s.Partition(ctx, now.Add(time.Duration(day)*24*time.Hour), 1<<40); err != nil {
			t.Fatal(err)
		}
		if err := s.AddLogs(ctx, []LogPiece{piece(day, 1, 10+day)}); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Partition(ctx, now.Add(3*24*time.Hour), 1); err != nil {
		t.Fatal(err)
	}
	if got := read(LogQuery{Node: 7, Before: now.Add(math.MaxInt32 * time.Second)}); got != "1 says 13" {
		t.Errorf("of too much is left: %s", got)
	}
	if err := errors.Join(s.Partition(ctx, now.Add(20*24*time.Hour), 1<<40), s.DropPartitions(ctx, now.Add(20*24*time.Hour))); err != nil {
		t.Fatal(err)
	}
	if got := read(LogQuery{Node: 7, Before: now.Add(math.MaxInt32 * time.Second)}); got != "" {
		t.Errorf("after two weeks is left: %s", got)
	}
}

// BenchmarkUsageSize writes down what 1,000 nodes measure and prints what a
// day's and ninety days' worth take up, indexes included, reckoned from an hour
// of each, and how long a node's plots take to be read.
func BenchmarkUsageSize(b *testing.B) {
	const nodes = 1000
	s, err := Open(b.Context(), pgtest.URL(b))
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	if err := s.Migrate(b.Context()); err != nil {
		b.Fatal(err)
	}
	for at := now.Add(-2 * time.Hour); !at.After(now); at = at.Add(10 * time.Minute) {
		if err := s.Partition(b.Context(), at, 1<<40); err != nil {
			b.Fatal(err)
		}
	}
	sample := usage.Sample{
		Processor: 0.51, Most: 0.75, Groups: []float64{0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9},
		Memory: 3e10, MemoryMost: 4e10, DiskFree: 3e11, Load: 7, Temperature: 61,
	}
	for b.Loop() {
		size := map[time.Duration]float64{}
		for _, step := range []time.Duration{usage.Fine, usage.Minute, usage.Quarter} {
			for at := now.Add(-time.Hour); at.Before(now); at = at.Add(step) {
				rows := make([]usage.Row, nodes)
				for i := range rows {
					rows[i] = usage.Row{Node: int64(i), At: at, Sample: sample}
				}
				if err := s.AddUsage(b.Context(), step, rows); err != nil {
					b.Fatal(err)
				}
			}
			var bytes float64
			if err := s.db.Get(
				&bytes,
				`SELECT sum(pg_total_relation_size(inhrelid)) FROM pg_inherits WHERE inhparent = $1::regclass`,
				usageTable(step).table,
			); err != nil {
				b.Fatal(err)
			}
			size[step] = bytes / (1 << 20)
		}
		began := time.Now()
		if rows, err := s.Usage(b.Context(), 77, usage.Fine, now.Add(-time.Hour)); err != nil || len(rows) != 720 {
			b.Fatal(len(rows), err)
		}
		b.ReportMetric(float64(time.Since(began).Microseconds())/1000, "ms-to-read-an-hour-of-one")
		b.ReportMetric(size[usage.Fine], "MiB-an-hour-fine")
		b.ReportMetric(24*size[usage.Minute], "MiB-a-day-by-the-minute")
		b.ReportMetric(90*24*size[usage.Quarter], "MiB-90-days-by-the-quarter")
		b.ReportMetric(0, "ns/op")
	}
}
