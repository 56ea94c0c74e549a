package node

import (
	"context"
	"net/http"
	"sync"
	"time"

	"vexillum/internal/wire"
)

// workAll works on leases side by side: those of earlier processes, and all
// that the service gives.
func (a *Agent) workAll(ctx context.Context, stop context.CancelCauseFunc, resumed []*work) {
	var wg sync.WaitGroup
	defer wg.Wait()
	a.mu.Lock()
	a.ended = nil
	a.mu.Unlock()
	a.more.Store(true)
	active := 0
	begin := func(w *work) {
		active++
		wg.Go(func() {
			ended, err := a.workOn(ctx, w)
			if err != nil {
				stop(err)
				return
			}
			w.ended = ended
			a.mu.Lock()
			a.ended = append(a.ended, w)
			a.mu.Unlock()
			a.rouse()
		})
	}
	for _, w := range resumed {
		a.o.Log.Info("going on", "lease", w.lease.ID, "run", w.lease.RunName, "frames", w.lease.Frames, "over", w.over)
		begin(w)
	}
	var told []*work // whose end the ask in hand reports
	number := int64(0)
	for ctx.Err() == nil {
		select { // what has roused us is seen now
		case <-a.wake:
		default:
		}
		a.mu.Lock()
		told, a.ended = append(told, a.ended...), nil
		a.mu.Unlock()
		if len(told) == 0 && active > 0 && !a.more.Load() {
			select {
			case <-ctx.Done():
			case <-a.wake:
			}
			continue
		}
		if number == 0 {
			number = a.asked.Add(1)
		}
		caps := a.caps.Load().Version
		answer, over, err := a.askOnce(ctx, number, told)
		if err != nil {
			stop(err)
			return
		}
		if !over { // asked again under the same number, with what has ended meanwhile
			continue
		}
		number = 0
		for _, w := range told {
			w.clear()
		}
		active -= len(told)
		told = nil
		a.more.Store(answer.More || a.caps.Load().Version != caps) // caps that came meanwhile may leave more room
		for i := range answer.Leases {
			w, err := a.accept(ctx, &answer.Leases[i], answer.Why)
			if err != nil {
				stop(err)
				return
			}
			if w != nil {
				begin(w)
			}
		}
	}
}

// rouse lets the asker look again.
func (a *Agent) rouse() {
	select {
	case a.wake <- struct{}{}:
	default:
	}
}

// askOnce asks for work and says which leases have ended. It returns false
// when something came between that the service should know first.
func (a *Agent) askOnce(ctx context.Context, number int64, told []*work) (answer wire.Answer, over bool, err error) {
	in := wire.Ask{Session: a.session, Number: number, Seconds: askSeconds, Memory: a.memory(ctx)}
	for _, w := range told {
		in.Ended = append(in.Ended, w.ended)
	}
	asking, cancel := context.WithCancel(ctx)
	defer cancel()
	done := make(chan struct{})
	var watching sync.WaitGroup
	watching.Go(func() {
		select {
		case <-a.wake:
			cancel()
		case <-done:
		}
	})
	err = a.persist(asking, http.MethodPost, "/node/v1/ask", in, &answer)
	close(done)
	watching.Wait()
	if err != nil && asking.Err() != nil && ctx.Err() == nil {
		return answer, false, nil
	}
	return answer, err == nil && !answer.Again, err
}

// accept writes a lease down before it is worked on. A lease that cannot be
// written down is given back: nil without an error.
func (a *Agent) accept(ctx context.Context, lease *wire.Lease, why string) (*work, error) {
	l, err := a.withRecipe(ctx, lease)
	if err != nil {
		return nil, err
	}
	a.o.Log.Info("lease", "lease", l.ID, "run", l.RunName, "frames", l.Frames, "cores", l.Share.Cores, "why", why)
	w := a.newWork(l)
	if err := keepHolding(
		w.staging, holding{Life: a.life, Lease: *l},
	); err != nil { // the service hears that nothing came of it
		a.o.Log.Error("the lease cannot be worked on", "error", err)
		item := wire.ReportItem{Outcome: wire.OutcomeEnded, Lease: l.ID, Message: "cannot work: " + err.Error()}
		if _, err := a.report(ctx, item); err != nil {
			return nil, err
		}
		select { // not at once again
		case <-ctx.Done():
		case <-time.After(retryMost):
		}
		return nil, nil
	}
	return w, nil
}
