package service

import (
	"cmp"
	"context"
	"math"
	"slices"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/night"
	"vexillum/internal/core/triage"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/refusal"
	"vexillum/internal/service/views"
	"vexillum/internal/wire"
)

// Bounds of what is told of a night.
const (
	nightTries = 20_000
	nightDeeds = 500
	nightRuns  = 500
	nightHands = 200
	nightParts = 48
	mostNight  = 31 * 24 * time.Hour
)

// NightQuery says which while is wanted: from one moment to another, or the night between two
// times of day.
type NightQuery struct {
	Since, Until time.Time // both, or neither
	From, To     string    // times of day; 19:00 and 08:00 when empty
	Day          string    // on which the night began; the last when empty
	Zone         string    // IANA name; UTC when empty
}

// span returns the while that is wanted.
func (q NightQuery) span(now time.Time) (from, to time.Time, err error) {
	zone, err := time.LoadLocation(q.Zone)
	if err != nil {
		return from, to, refusal.New(refusal.Invalid, "zone", "%.60q is not a known time zone", q.Zone)
	}
	from, to = q.Since, q.Until
	if from.IsZero() {
		from, to, err = night.Span(now, cmp.Or(q.From, "19:00"), cmp.Or(q.To, "08:00"), q.Day, zone)
		if err != nil {
			return from, to, refusal.New(refusal.Invalid, "from", "%v", err)
		}
	}
	if to.Before(from) || to.Sub(from) > mostNight {
		return from, to, refusal.New(refusal.Invalid, "until", "until is after since, and at most 31 days")
	}
	return from, to, nil
}

func bucketsView(list []night.Bucket) []wire.NightBucket {
	out := make([]wire.NightBucket, len(list))
	for i, b := range list {
		out[i] = wire.NightBucket{At: b.At.UTC(), Tries: b.Tries}
	}
	return out
}

// Night returns what went wrong in a while, as far as somebody sees it.
func (s *Service) Night(ctx context.Context, q NightQuery, sight farm.Sight) (out wire.Night, err error) {
	f, err := s.Floor()
	if err != nil {
		return out, err
	}
	from, to, err := q.span(s.o.Now())
	if err != nil {
		return out, err
	}
	out = wire.Night{
		From: from.UTC(), To: to.UTC(), Causes: []wire.NightCause{}, Over: []wire.NightBucket{},
		Deeds: []wire.NightDeed{},
		Ended: []wire.NightRun{}, Hands: []wire.PastHand{}, Outages: []wire.NightOutage{},
	}
	hidden := sight.Hidden()
	if err := s.nightFailures(ctx, f, &out, hidden); err != nil {
		return out, err
	}
	deeds, err := s.o.Store.Deeds(ctx, from, to, hidden, nightDeeds)
	if err != nil {
		return out, err
	}
	var texts []*string
	for _, d := range deeds {
		same := func(o wire.NightDeed) bool { return o.Run == d.Run && o.Node == d.Node && o.Text == d.Reason }
		if i := slices.IndexFunc(out.Deeds, same); i >= 0 {
			out.Deeds[i].Times++
			continue
		}
		out.Deeds = append(out.Deeds, wire.NightDeed{At: d.At, Run: d.Run, Node: d.Node, Text: d.Reason, Times: 1})
	}
	for i := range out.Deeds {
		texts = append(texts, &out.Deeds[i].Text)
	}
	if err := s.nightEnded(ctx, &out, hidden); err != nil {
		return out, err
	}
	hands, err := s.o.Store.HandsOf(ctx, from, to, hidden, nightHands)
	if err != nil {
		return out, err
	}
	saying, err := f.Views.Saying(ctx)
	if err != nil {
		return out, err
	}
	for _, h := range hands {
		if now, open := saying[h.ID]; open {
			h.Sentence, h.Evidence = now[0], now[1]
		}
		out.Hands = append(out.Hands, wire.PastHand(h))
	}
	for i := range out.Hands {
		texts = append(texts, &out.Hands[i].Sentence, &out.Hands[i].Evidence)
	}
	return out, f.Views.Veiled(ctx, sight, texts...)
}

// nightFailures adds the tries that failed, with their causes and verdicts.
func (s *Service) nightFailures(ctx context.Context, f *floor.Floor, out *wire.Night, hidden []string) error {
	failed, err := s.o.Store.FailedTries(ctx, out.From, out.To, hidden, nightTries)
	if err != nil {
		return err
	}
	keys := make([]views.TryKey, len(failed))
	for i, t := range failed {
		keys[i] = views.TryKey{Run: t.Run, Lease: t.Lease, Launch: t.Launch, Frame: t.Frame}
	}
	blames, err := f.Views.Blames(ctx, keys)
	if err != nil {
		return err
	}
	tries := make([]night.Try, len(failed))
	for i, t := range failed {
		tries[i] = night.Try{
			At: t.At, Run: t.RunName, Frame: t.Frame, Node: t.Node, Cause: t.Cause, Blame: blames[i],
			Seconds: t.Seconds, Done: t.Done,
		}
		if blames[i] == "" && t.Blame != "" {
			tries[i].Blame = triage.WhoAlone(t.Blame, t.Node)
		}
	}
	out.Tries, out.Some = len(tries), len(tries) == nightTries
	minutes := func(seconds float64) float64 { return math.Round(seconds/6) / 10 }
	total := 0.0
	for _, c := range night.Sum(tries) {
		total += c.Seconds
		out.Causes = append(out.Causes, wire.NightCause{
			Cause: c.Cause, Tries: c.Tries, Frames: c.Frames, Open: c.Open, Minutes: minutes(c.Seconds), Runs: c.Runs,
			Nodes: c.Nodes, Blame: c.Blame,
		})
	}
	out.Minutes, out.Over = minutes(total), bucketsView(night.Over(tries, out.From, out.To, nightParts))
	return nil
}

// nightEnded adds the runs that ended, and the outages of the service.
func (s *Service) nightEnded(ctx context.Context, out *wire.Night, hidden []string) error {
	ended, err := s.o.Store.EndedRuns(ctx, out.From, out.To, hidden, nightRuns)
	if err != nil {
		return err
	}
	for _, r := range ended {
		run := wire.NightRun{
			Run: r.Run, Name: r.Name, State: r.State, Frames: r.Frames, EndedAt: r.EndedAt, Due: r.Due, Hours: r.Hours,
			Picture: r.Picture,
		}
		if r.Due != nil {
			run.Late = max(0, math.Round(r.EndedAt.Sub(*r.Due).Seconds()))
		}
		out.Ended = append(out.Ended, run)
	}
	outages, err := s.o.Store.Outages(ctx, out.From, out.To, nightDeeds)
	if err != nil {
		return err
	}
	for _, o := range outages {
		out.Outages = append(out.Outages, wire.NightOutage{From: o.Began, To: o.Ended, Why: o.Why})
	}
	return nil
}
