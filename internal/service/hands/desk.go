// Package hands is the desk for what needs a person: it keeps the list as time passes, and
// takes what people do about it. It does not know how trouble is found.
package hands

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/hands"
	"vexillum/internal/service/refusal"
	"vexillum/internal/service/writer"
	"vexillum/internal/wire"
)

// Finder finds what needs a person just now; use returns what follows.
type Finder interface {
	Alerts(ctx context.Context, use func(s *farm.State, alerts []hands.Alert, now time.Time) []farm.Record) error
}

// Desk keeps what needs a hand. Use New; all methods may be called at any time.
type Desk struct {
	w      *writer.Writer
	s      *farm.State // to be read in the loop
	finder Finder
}

// New returns the desk of a service.
func New(w *writer.Writer, s *farm.State, finder Finder) *Desk { return &Desk{w, s, finder} }

// lookEvery is how often it is looked what needs a hand; on a farm where a look takes long it
// is less often, so that looks take at most one part in lookShare of the time.
const (
	lookEvery = time.Second
	lookShare = 50
)

// Keep notes what is new and what is over until the context ends.
func (d *Desk) Keep(ctx context.Context, log *slog.Logger) {
	var ledger hands.Ledger
	pause := lookEvery
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(pause):
		}
		began := time.Now()
		err := d.finder.Alerts(ctx, ledger.Compare)
		pause = max(lookEvery, lookShare*time.Since(began))
		if err != nil && ctx.Err() == nil && !errors.Is(err, writer.ErrGone) {
			log.Error("noting what needs a hand", "error", err)
		}
	}
}

// mostSnooze bounds for how long something is put off.
const mostSnooze = 31 * 24 * time.Hour

// Act does what somebody does about something that needs a hand. Done twice it is done once.
func (d *Desk) Act(ctx context.Context, id farm.HandID, in wire.HandAct, by farm.Person) error {
	note, err := refusal.Note(in.Note)
	if err != nil {
		return err
	}
	do := farm.HandAct(in.Do)
	if note != "" && do != farm.HandResolve {
		return refusal.New(refusal.Invalid, "note", "a note is for what is resolved")
	}
	return d.w.Do(ctx, func(t *writer.Tx) error {
		h := t.State.Hand(id)
		if h == nil || h.Project != "" && !t.State.SightOf(by).Sees(h.Project) {
			return refusal.New(
				refusal.NotFound, "hand", "nothing needs a hand by the number %d; it may be over", id,
			)
		}
		run := t.State.Runs[h.Of.Run]
		if !by.Role.Allows(farm.Wrangler) && (run == nil || !t.State.MaySteer(run, by)) {
			return refusal.New(
				refusal.Forbidden, "", "only a wrangler, or who may steer its run, may do that",
			)
		}
		acted := farm.HandActed{Hand: h.ID, Of: h.Of, Do: do, By: by.Name, Note: note, At: t.Now}
		same := false
		switch do {
		case farm.HandTake:
			same = h.TakenBy == by.Name
			if h.TakenBy != "" && !same {
				return refusal.New(
					refusal.Conflict, "", "%s sees to it already; they, or a wrangler, can leave it first", h.TakenBy,
				)
			}
		case farm.HandLeave:
			same = h.TakenBy == ""
		case farm.HandSnooze:
			switch {
			case in.Until == nil || !in.Until.After(t.Now):
				return refusal.New(refusal.Invalid, "until", "say until when, and a time to come")
			case in.Until.Sub(t.Now) > mostSnooze:
				return refusal.New(refusal.Invalid, "until", "until at most 31 days from now")
			}
			acted.Until = *in.Until
			same = h.SnoozedBy == by.Name && h.SnoozedUntil.Equal(*in.Until)
		case farm.HandWake:
			same = h.SnoozedUntil.IsZero()
		case farm.HandResolve:
			same = h.ResolvedBy != ""
		case farm.HandReopen:
			same = h.ResolvedBy == ""
		default:
			return refusal.New(
				refusal.Invalid, "do", "do is take, leave, snooze, wake, resolve or reopen, not %.40q", in.Do,
			)
		}
		if same {
			return nil
		}
		t.Append(acted, farm.Audited{
			Actor: by.Name, Action: string(do) + " hand", Subject: h.Sentence, To: note, Run: h.Of.Run, At: t.Now,
		})
		return nil
	})
}
