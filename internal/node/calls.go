package node

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"vexillum/internal/core/frames"
	"vexillum/internal/wire"
)

// leave tells the service that this process ends. The work is dealt to others
// either way; this only makes it sooner.
func (a *Agent) leave() {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	if err := a.client.Do(
		ctx, http.MethodPost, "/node/v1/leave", wire.Leave{Session: a.session, Reason: "it was stopped on its machine"},
		nil,
	); err != nil {
		a.o.Log.Warn("leaving the farm", "error", err)
	}
}

// persist calls the service until it answers. The error says that going on
// makes no sense.
func (a *Agent) persist(ctx context.Context, method, path string, in, out any) error {
	wait := 100 * time.Millisecond
	quiet := false
	for {
		limit := callTimeout
		if strings.HasSuffix(path, "/ask") || strings.HasSuffix(path, "/orders") {
			limit += askSeconds * time.Second
		}
		call, cancel := context.WithTimeout(ctx, limit)
		err := a.client.Do(call, method, path, in, out)
		cancel()
		var p *wire.Problem
		switch {
		case err == nil:
			return nil
		case ctx.Err() != nil:
			return ctx.Err()
		case errors.As(err, &p) && p.Field == "session" && p.Status == http.StatusConflict:
			return fmt.Errorf("%w: %s", ErrSuperseded, p.Detail)
		case errors.As(err, &p) && p.Status < 500 && p.Status != http.StatusTooManyRequests:
			return err
		}
		if !quiet {
			a.o.Log.Warn("the service is away; still trying", "error", err)
			quiet = true
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait):
		}
		wait = min(2*wait, retryMost)
	}
}

// furtherFrames implements service.
func (a *Agent) furtherFrames(ctx context.Context, lease int64) (frames.Set, error) {
	in := wire.Ask{
		Session: a.session, Number: a.asked.Add(1), Warm: lease, Memory: a.memory(ctx),
	} // a renderer that is up does not wait
	var answer wire.Answer
	err := a.persist(ctx, http.MethodPost, "/node/v1/ask", in, &answer)
	if err != nil || len(answer.Leases) != 1 || answer.Leases[0].ID != lease {
		return frames.Set{}, err
	}
	var set frames.Set
	return set, set.UnmarshalText([]byte(answer.Leases[0].Frames))
}

// report implements service.
func (a *Agent) report(ctx context.Context, items ...wire.ReportItem) ([]wire.Verdict, error) {
	var out wire.Reported
	err := a.persist(ctx, http.MethodPost, "/node/v1/report", wire.Report{Session: a.session, Items: items}, &out)
	if err == nil && len(out.Verdicts) != len(items) {
		err = fmt.Errorf("the service answered %d of %d reports", len(out.Verdicts), len(items))
	}
	return out.Verdicts, err
}

// thumbnail implements service. A thumbnail that does not arrive is no loss.
func (a *Agent) thumbnail(ctx context.Context, run int64, frame int, jpeg []byte) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	path := fmt.Sprintf("/node/v1/runs/%d/frames/%d/thumbnail", run, frame)
	if err := a.client.Put(ctx, path, "image/jpeg", jpeg); err != nil {
		a.o.Log.Warn("thumbnail", "frame", frame, "error", err)
	}
}

// orders waits for orders about the leases that are worked on.
func (a *Agent) orders(ctx context.Context, stop context.CancelCauseFunc) {
	errands := newErrands(a)
	defer errands.under.Wait()
	for ctx.Err() == nil {
		in := wire.Orders{Session: a.session, Leases: []int64{}, Seconds: askSeconds, Caps: a.caps.Load().Version}
		if mark := a.placesMark.Load(); mark != nil {
			in.Places = *mark
		}
		in.Recipes, in.Errands = a.recipes.Load().mark(), errands.ids()
		a.mu.Lock()
		for id := range a.works {
			in.Leases = append(in.Leases, id)
		}
		a.mu.Unlock()
		calling, cancel := context.WithCancel(ctx)
		answered := make(chan struct{})
		go func() {
			select {
			case <-a.shifted: // ask about the others
				cancel()
				<-answered
			case <-answered:
			}
		}()
		var out wire.Ordered
		err := a.persist(calling, http.MethodPost, "/node/v1/orders", in, &out)
		shifted := calling.Err() != nil
		close(answered)
		cancel()
		if err != nil {
			if shifted && ctx.Err() == nil {
				continue
			}
			return // the session's other calls learn the same
		}
		if out.Caps != nil {
			a.take(*out.Caps)
		}
		if out.Recipes != "" {
			if err := a.lookAgain(ctx); err != nil {
				return
			}
		}
		if out.Places != "" {
			select {
			case a.otherPlaces <- struct{}{}:
			default:
			}
		}
		if out.Restart {
			stop(ErrRestart)
			return
		}
		for _, order := range out.Stop {
			if w := a.workOf(order.Lease); w != nil {
				<-w.ready
				w.stop(order.Now, order.Reason)
			}
		}
		for _, q := range out.Trim {
			a.answerTrim(ctx, q)
		}
		for _, what := range out.Errands {
			errands.take(ctx, what)
		}
		// The answer stays the same until the lease is reported ended, or what is new is known.
		if len(out.Stop) > 0 || out.Recipes != "" || out.Places != "" {
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
	}
}

func (a *Agent) workOf(lease int64) *work {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.works[lease]
}

// answerTrim gives back what no renderer has begun.
func (a *Agent) answerTrim(ctx context.Context, q wire.Trim) {
	answer := wire.Trimmed{Session: a.session, ID: q.ID, Lease: q.Lease}
	var wanted frames.Set
	if w := a.workOf(q.Lease); w != nil && wanted.UnmarshalText([]byte(q.Frames)) == nil {
		<-w.ready
		answer.Frames = w.trim(q.ID, wanted)
	}
	a.o.Log.Info("trim", "lease", q.Lease, "wanted", q.Frames, "given", answer.Frames)
	if err := a.persist(ctx, http.MethodPost, "/node/v1/trimmed", answer, nil); err != nil && ctx.Err() == nil {
		a.o.Log.Warn("answering a trim", "error", err)
	}
}

// progressed lets a beat tell what has changed.
func (a *Agent) progressed() {
	select {
	case a.nudge <- struct{}{}:
	default:
	}
}

// beats reports that the node lives, regularly and when progress has changed.
func (a *Agent) beats(ctx context.Context, stop context.CancelCauseFunc) {
	var measured sampler
	for {
		in := wire.Beat{Session: a.session, Leases: []wire.Progress{}}
		signs(ctx, a.staging(), &in)
		if time.Since(measured.at) >= sampleEvery {
			in.Sample = measured.sample(ctx, a.staging(), deviceSamples(pciDevices, a.facts.Devices, a.owned.devices()))
		}
		a.mu.Lock()
		for _, w := range a.works {
			in.Leases = append(in.Leases, w.status.progress(w.lease.ID))
		}
		a.mu.Unlock()
		if in.Sample != nil {
			a.live(in.Leases)
		}
		var out wire.Beaten
		if err := a.persist(ctx, http.MethodPost, "/node/v1/beat", in, &out); err != nil {
			stop(err)
			return
		}
		a.watched.Store(out.Watched)
		a.contents.key.Store(&out.PeerKey)
		select {
		case <-ctx.Done():
			return
		case <-time.After(beatAtLeast):
		}
		select {
		case <-ctx.Done():
			return
		case <-a.nudge:
		case <-time.After(beatEvery):
		}
	}
}

// bundle implements exchange.
func (a *Agent) bundle(ctx context.Context, id string) ([]byte, error) {
	return a.get(ctx, "/node/v1/bundles/"+id)
}

// piece implements exchange.
func (a *Agent) piece(ctx context.Context, id, hash string, i int) ([]byte, error) {
	return a.get(ctx, fmt.Sprintf("/node/v1/bundles/%s/contents/%s/%d", id, hash, i))
}

func (a *Agent) get(ctx context.Context, path string) ([]byte, error) {
	var out bytes.Buffer
	err := a.client.Fetch(ctx, path, &out)
	return out.Bytes(), err
}

// holding implements exchange.
func (a *Agent) holding(ctx context.Context, h wire.Holding) (out wire.Sharing, err error) {
	h.Session = a.session
	return out, a.persist(ctx, http.MethodPost, "/node/v1/holding", h, &out)
}
