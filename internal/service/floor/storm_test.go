package floor

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"testing"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/hands"
	"vexillum/internal/core/pace"
	"vexillum/internal/notify"
	"vexillum/internal/recipe"
	"vexillum/internal/service/notices"
	"vexillum/internal/service/writer"
	"vexillum/internal/store"
)

// storm is a store in which so many things happen in each second of which channels are told,
// and which has them all sent.
type storm struct {
	notices.Store
	each int // in half a second

	mu      sync.Mutex
	seq     int64
	made    int
	waiting map[string][]store.Notice
}

func (s *storm) Tell(
	_ context.Context, now time.Time, tell func([]store.Happened) ([]store.NewNotice, error),
) (bool, error) {
	var news []store.Happened
	for range s.each {
		s.seq++
		body, err := json.Marshal(farm.RunMoved{Run: 1, State: farm.RunDone, Reason: "all 3 frames are done"})
		if err != nil {
			return false, err
		}
		news = append(news, store.Happened{
			Seq: s.seq, At: now, Kind: string(farm.RunMoved{}.Kind()), Run: 1, Body: body, Project: "salt-clock",
			RunName: fmt.Sprintf("salt_%d/final-1", s.seq),
		})
	}
	made, err := tell(news)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.made += len(news)
	for _, n := range made {
		if list := s.waiting[n.Channel]; len(list) < 2000 {
			s.waiting[n.Channel] = append(list, store.Notice{ID: s.seq, Channel: n.Channel, Body: n.Body})
		}
	}
	return false, err
}

func (s *storm) DueChannels(context.Context, time.Time) (names []string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for name := range s.waiting {
		names = append(names, name)
	}
	return names, nil
}

func (s *storm) NextMessage(
	_ context.Context, channel string, _ time.Time, fresh string, together func(waiting int) int,
) (string, []store.Notice, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	list := s.waiting[channel]
	return fresh, list[:together(len(list))], nil
}

func (s *storm) Sent(_ context.Context, _, _, _ string, _, _ time.Time) error { return nil }

func (s *storm) DropNotices(context.Context, time.Time, []string) error { return nil }

// dumb never answers.
type dumb struct{}

func (dumb) Send(ctx context.Context, _, _, _ string, _ []byte, _ time.Time) notify.Answer {
	select {
	case <-ctx.Done():
	case <-time.After(2 * time.Second):
	}
	return notify.Answer{Text: "no answer"}
}

// BenchmarkNoticeStorm prints how long a decision takes while 10,000 things happen in a minute
// of which twenty channels are told that never answer, against a farm where nothing happens.
// Goal: it costs the deciding loop nothing.
func BenchmarkNoticeStorm(b *testing.B) {
	const perMinute = 10_000
	for _, stormy := range []bool{false, true} {
		name := "calm"
		if stormy {
			name = "storm"
		}
		b.Run(name, func(b *testing.B) {
			book, err := recipe.Builtin()
			if err != nil {
				b.Fatal(err)
			}
			state := farm.NewState()
			records := []farm.Record{
				farm.PlaceSet{Name: "frames"},
				farm.ProjectSet{Name: "salt-clock", Weight: 1, Scenes: "frames", Frames: "frames"},
			}
			for i := range 20 {
				records = append(records, farm.ChannelSet{Channel: farm.Channel{
					Name: fmt.Sprint("chat-", i), Of: farm.ChannelWebhook, To: "https://chat.example/",
				}})
			}
			for _, r := range records {
				if err := state.Apply(r); err != nil {
					b.Fatal(err)
				}
			}
			s := &storm{each: perMinute / 120, waiting: map[string][]store.Notice{}}
			f := New(Options{
				State: state, Pace: pace.New(), Committer: &memory{}, Recipes: book, Log: slog.New(slog.DiscardHandler),
				Now: time.Now, Notices: notices.Options{Store: s, Webhooks: dumb{}},
			})
			ctx, stop := context.WithCancel(context.Background())
			var parts sync.WaitGroup
			parts.Go(func() { _ = f.Run(ctx) })
			if stormy {
				parts.Go(func() { f.Notices.Run(ctx) })
			}
			var took []time.Duration
			b.ResetTimer()
			for b.Loop() {
				for end := time.Now().Add(10 * time.Second); time.Now().Before(end); {
					began := time.Now()
					if err := f.w.Do(ctx, func(*writer.Tx) error { return nil }); err != nil {
						b.Fatal(err)
					}
					took = append(took, time.Since(began))
				}
			}
			stop()
			parts.Wait()
			slices.Sort(took)
			b.ReportMetric(0, "ns/op")
			b.ReportMetric(float64(took[len(took)/2].Nanoseconds())/1000, "µs-median")
			b.ReportMetric(float64(took[len(took)*99/100].Nanoseconds())/1000, "µs-p99")
			b.ReportMetric(float64(s.made), "notices")
		})
	}
}

// BenchmarkLookingForHands measures what looking for what needs a hand costs the loop once a
// second, with 2,000 nodes at work.
func BenchmarkLookingForHands(b *testing.B) {
	f := crowdedFloor(b, 2000)
	ctx, stop := context.WithCancel(context.Background())
	var parts sync.WaitGroup
	parts.Go(func() { _ = f.Run(ctx) })
	for b.Loop() {
		err := f.Views.Alerts(ctx, func(*farm.State, []hands.Alert, time.Time) []farm.Record { return nil })
		if err != nil {
			b.Fatal(err)
		}
	}
	stop()
	parts.Wait()
}
