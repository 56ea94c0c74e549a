package floor

import (
	"context"
	"fmt"
	"testing"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/service/queue"
)

// BenchmarkManyWaitingJobs submits a job file of as many jobs as one may have, each waiting for
// as many others as all of them together may, and reports the longest that the loop was held.
func BenchmarkManyWaitingJobs(b *testing.B) {
	for _, dry := range []bool{true, false} {
		b.Run(map[bool]string{true: "dry", false: "real"}[dry], func(b *testing.B) {
			var longest time.Duration // the loop writes it
			var what string
			f := crowdedFloor(b, 20, func(of fmt.Stringer, took time.Duration) {
				if took > longest {
					longest, what = took, of.String()
				}
			})
			ctx, stop := context.WithCancel(b.Context())
			defer stop()
			go func() { _ = f.Run(ctx) }()
			n := 0
			for b.Loop() {
				n++
				subs := manyJobs(fmt.Sprint("batch", n), 2000, 10, dry)
				began := time.Now()
				if _, err := f.Queue.SubmitAll(ctx, subs); err != nil {
					b.Fatal(err)
				}
				b.ReportMetric(time.Since(began).Seconds(), "s")
			}
			stop()
			<-f.w.Gone()
			b.ReportMetric(float64(longest.Milliseconds()), "ms-of-loop")
			b.Log("the longest was ", what)
		})
	}
}

func manyJobs(name string, count, each int, dry bool) (subs []queue.Submission) {
	for i := range count {
		sub := queue.Submission{Actor: "nadia", Role: farm.Wrangler, Dry: dry, Spec: farm.Spec{
			Job: fmt.Sprintf("%s_%05d", name, i), Project: "salt-clock", Kind: farm.Final, Recipe: "practice",
			Mode: farm.ModeRange, Output: fmt.Sprintf("%s_%05d", name, i), Frames: frames.Of(frames.Span{First: 1, Last: 500}),
			Tries: 3, Width: 1, Height: 1, Values: map[string]string{},
		}}
		for w := range min(i, each) {
			sub.After = append(sub.After, queue.Wait{Of: i - 1 - w})
		}
		subs = append(subs, sub)
	}
	return subs
}

// BenchmarkPositionOfManyRuns takes the position of a farm of 4,000 runs that wait for others.
func BenchmarkPositionOfManyRuns(b *testing.B) {
	f := crowdedFloor(b, 20, func(fmt.Stringer, time.Duration) {})
	ctx, stop := context.WithCancel(b.Context())
	defer stop()
	go func() { _ = f.Run(ctx) }()
	for _, name := range []string{"one", "two"} {
		if _, err := f.Queue.SubmitAll(ctx, manyJobs(name, 2000, 10, false)); err != nil {
			b.Fatal(err)
		}
	}
	for b.Loop() {
		if _, err := f.Views.Position(ctx); err != nil {
			b.Fatal(err)
		}
	}
	stop()
	<-f.w.Gone()
}
