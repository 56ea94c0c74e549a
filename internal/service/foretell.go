package service

import (
	"context"
	"runtime"
	"time"

	"vexillum/internal/service/floor"
)

// How forecasts are made: the plays of each, and the least time between two. They
// never take more than a twentieth of a core, and while they are made, or are still lacking of
// a run that has told something, a quarter of one, so that nobody else has to wait for a core.
const (
	plays            = 16
	forecastsApart   = 2 * time.Second
	forecastPart     = 20
	forecastBreathes = 3           // times as long as a play took before the next
	forecastsLongest = time.Minute // then fewer plays have to do
)

// forecastStretch is how long plays go on without a pause. What lasts much longer is not
// their doing: the machine was busy with something else, and that is not counted as theirs.
const (
	forecastStretch = 20 * time.Millisecond
	longestCounted  = 5 * forecastStretch
)

// foretell plays what comes next again and again, and tells the floor.
func (s *Service) foretell(ctx context.Context, f *floor.Floor) {
	wait := time.NewTimer(forecastsApart)
	defer wait.Stop()
	for seed := uint64(1); ; seed++ {
		select {
		case <-ctx.Done():
			return
		case <-wait.C:
		}
		position, err := f.Views.Position(ctx)
		if err != nil {
			return // the floor has ended
		}
		began, busy := time.Now(), time.Duration(0)
		last := began
		breathe := func() {
			took := min(time.Since(last), longestCounted)
			if took < forecastStretch {
				return
			}
			busy += took
			wait.Reset(forecastBreathes * took)
			select {
			case <-ctx.Done():
			case <-wait.C:
			}
			last = time.Now()
		}
		inTime := func(limit time.Duration) func() bool {
			return func() bool {
				breathe()
				runtime.Gosched()
				return ctx.Err() == nil && time.Since(began) < limit
			}
		}
		finishes, err := position.PlayWhile(seed, plays, inTime(forecastsLongest), inTime(2*forecastsLongest))
		busy += min(time.Since(last), longestCounted)
		if err != nil {
			s.o.Log.Warn("forecasting", "error", err)
		}
		lacking, err := f.Views.Foretell(ctx, position.At, finishes)
		if err != nil {
			return
		}
		part := time.Duration(forecastPart)
		if lacking {
			part = forecastBreathes + 1
		}
		wait.Reset(max(forecastsApart, part*busy-time.Since(began)))
	}
}

// received keeps what projects have received lately.
func (s *Service) received(ctx context.Context, f *floor.Floor) {
	every := time.NewTicker(15 * time.Second)
	defer every.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-every.C:
		}
		all, err := f.Views.Received(ctx)
		if err != nil {
			return
		}
		call, cancel := context.WithTimeout(ctx, 10*time.Second)
		err = s.o.Store.KeepReceived(call, all)
		cancel()
		if err != nil && ctx.Err() == nil {
			s.o.Log.Warn("keeping what projects have received", "error", err)
		}
	}
}
