package system

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"vexillum/internal/crowd"
	"vexillum/internal/wire"
)

// withCrowd starts a farm of pretended nodes.
func withCrowd(b *testing.B, nodes int) *farm {
	b.Helper()
	f, _ := durableFarm(b)
	f.scene("a.practice", "practice: 1\npicture: salt\n")
	var key wire.Key
	if err := f.admin.Do(
		b.Context(), http.MethodPost, "/api/v1/keys", wire.NewKey{Uses: new(nodes), Seconds: new(3600)}, &key,
	); err != nil {
		b.Fatal(err)
	}
	ctx, stop := context.WithCancel(b.Context())
	b.Cleanup(stop)
	c, err := crowd.Join(ctx, crowd.Options{
		Service: "http://" + f.listen, Key: key.Key, Nodes: nodes, Beat: 5 * time.Second, Frame: 10 * time.Second,
	})
	if err != nil {
		b.Fatal(err)
	}
	go c.Run(ctx)
	time.Sleep(5 * time.Second)
	return f
}

// timed does something and reports the seconds that it took.
func timed(b *testing.B, name string, do func() error) {
	b.Helper()
	began := time.Now()
	if err := do(); err != nil {
		b.Fatalf("%s: %v", name, err)
	}
	b.ReportMetric(time.Since(began).Seconds(), name)
}

// BenchmarkJobs submits much at once, and asks many nodes. Goals: a job file of 2,000 jobs
// of 500 frames in less than 3 s, 1,000,000 frames in less than 1 s, a preflight of 500
// nodes in less than 10 s.
func BenchmarkJobs(b *testing.B) {
	f := withCrowd(b, 500)
	var file strings.Builder
	file.WriteString("job_file: 1\nproject: salt-clock\nall: {scene: a.practice, frames: 1-500, held: true}\njobs:\n")
	for i := range 2000 {
		fmt.Fprintf(&file, "  - {name: shot_%04d}\n", i)
	}
	for b.Loop() {
		timed(b, "s-2000-jobs", func() error {
			var out wire.JobsSubmitted
			err := f.admin.Do(b.Context(), "POST", "/api/v1/jobs", wire.SubmitJobs{Text: file.String()}, &out)
			if err == nil && (len(out.Receipts) != 2000 || out.FrameCount != 1_000_000) {
				err = fmt.Errorf("%d receipts", len(out.Receipts))
			}
			return err
		})
		submit := wire.Submit{Job: "long", Project: "salt-clock", Scene: "a.practice", Frames: "1-1000000", Held: true}
		timed(
			b,
			"s-million-frames",
			func() error { return f.admin.Do(b.Context(), "POST", "/api/v1/runs", submit, nil) },
		)
		var seen wire.Preflight
		timed(b, "s-preflight-500-nodes", func() error {
			return f.admin.Do(b.Context(), "POST", "/api/v1/preflights", wire.Preflighting{Submit: &submit}, &seen)
		})
		b.ReportMetric(float64(seen.Passing), "nodes-passing")
		b.ReportMetric(0, "ns/op")
	}
}

// BenchmarkEstimateOnTheFarm estimates a run on a farm of 200 nodes that is at work. Goal:
// less than 3 s.
func BenchmarkEstimateOnTheFarm(b *testing.B) {
	f := withCrowd(b, 200)
	first := f.submit(wire.Submit{Job: "known", Scene: "a.practice", Frames: "1-400", Chunk: 1, StartOn: new(0)})
	f.ended(first)
	f.submit(wire.Submit{Job: "other", Scene: "a.practice", Frames: "1-2000", Chunk: 1, StartOn: new(0)})
	time.Sleep(3 * time.Second)
	// As large as what is known: by pixels alone the plays would be of days.
	asked := wire.Submit{
		Job: "known", Project: "salt-clock", Scene: "a.practice", Frames: "1-4000", Width: f.run(first).Width,
		Height: f.run(first).Height,
	}
	for b.Loop() {
		var estimate wire.Estimate
		timed(b, "s-estimate-200-nodes", func() error {
			return f.admin.Do(b.Context(), "POST", "/api/v1/estimates", wire.Estimating{Submit: &asked}, &estimate)
		})
		if !estimate.Known {
			b.Fatalf("nothing is estimated: %+v", estimate)
		}
		b.ReportMetric(float64(len(estimate.Curve)), "points-of-the-curve")
		b.ReportMetric(0, "ns/op")
	}
}
