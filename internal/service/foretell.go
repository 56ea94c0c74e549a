package service

import (
	"context"
	"time"

	"vexillum/internal/service/floor"
)

// How forecasts are made: so many plays each, and at least so long apart. They
// take one core, and never more than a twentieth of it.
const (
	plays          = 16
	forecastsApart = 2 * time.Second
	forecastPart   = 20
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
		began := time.Now()
		position, err := f.Position(ctx)
		if err != nil {
			return // the floor has ended
		}
		if err := f.Foretell(ctx, position.At, position.PlayWhile(seed, plays, func() bool { return ctx.Err() == nil && time.Since(began) < forecastsLongest })); err != nil {
			return
		}
		wait.Reset(max(forecastsApart, (forecastPart-1)*time.Since(began)))
	}
}

// forecastsLongest bounds the time for one forecast; with fewer plays it is less
// exact, and not late.
const forecastsLongest = 20 * time.Second

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
		all, err := f.Received(ctx)
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
