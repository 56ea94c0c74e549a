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

// mostActed bounds about how many something is done at once.
const mostActed = 200

// Act does what somebody does about what needs a hand: about all of it, or where one cannot
// be about none. Done twice it is done once.
func (d *Desk) Act(ctx context.Context, in wire.HandAct, by farm.Person) (out wire.HandsActed, err error) {
	note, err := refusal.Note(in.Note)
	if err != nil {
		return out, err
	}
	switch {
	case note != "" && farm.HandAct(in.Do) != farm.HandResolve:
		return out, refusal.New(refusal.Invalid, "note", "a note is for what is resolved")
	case len(in.Hands) == 0:
		return out, refusal.New(refusal.Invalid, "hands", "say which, by their numbers")
	case len(in.Hands) > mostActed:
		return out, refusal.New(refusal.Invalid, "hands", "at most %d at once", mostActed)
	}
	in.Note = note
	err = d.w.Do(ctx, func(t *writer.Tx) error {
		out = wire.HandsActed{Hands: []wire.HandActed{}, DryRun: in.DryRun}
		var records []farm.Record
		done := map[int64]bool{}
		for _, id := range in.Hands {
			if done[id] {
				continue
			}
			done[id] = true
			h, acted, err := act(t, farm.HandID(id), in, by)
			if err != nil {
				return err
			}
			if acted != nil {
				records = append(records, *acted, farm.Audited{
					Actor: by.Name, Action: in.Do + " hand", Subject: h.Sentence, To: note, Run: h.Of.Run, At: t.Now,
				})
			}
			out.Hands = append(out.Hands, wire.HandActed{ID: id, Sentence: h.Sentence, Changed: acted != nil})
		}
		if !in.DryRun {
			t.Append(records...)
		}
		return nil
	})
	return out, err
}

// act returns the Record of what somebody does about one; nil where it is so already.
func act(t *writer.Tx, id farm.HandID, in wire.HandAct, by farm.Person) (*farm.Hand, *farm.HandActed, error) {
	no := func(kind refusal.Kind, field, why string, args ...any) (*farm.Hand, *farm.HandActed, error) {
		return nil, nil, refusal.New(kind, field, why, args...)
	}
	h := t.State.Hand(id)
	if h == nil || h.Project != "" && !t.State.SightOf(by).Sees(h.Project) {
		return no(refusal.NotFound, "hands", "nothing needs a hand by the number %d; it may be over", id)
	}
	run := t.State.Runs[h.Of.Run]
	if !by.Role.Allows(farm.Wrangler) && (run == nil || !t.State.MaySteer(run, by)) {
		return no(refusal.Forbidden, "", "only a wrangler, or who may steer its run, may do that")
	}
	acted := farm.HandActed{Hand: h.ID, Of: h.Of, Do: farm.HandAct(in.Do), By: by.Name, Note: in.Note, At: t.Now}
	same := false
	switch acted.Do {
	case farm.HandTake:
		same = h.TakenBy == by.Name
		if h.TakenBy != "" && !same {
			return no(
				refusal.Conflict, "", "%s sees to #%d already; they, or a wrangler, can leave it first", h.TakenBy, id,
			)
		}
	case farm.HandLeave:
		same = h.TakenBy == ""
	case farm.HandSnooze:
		switch {
		case in.Until == nil || !in.Until.After(t.Now):
			return no(refusal.Invalid, "until", "say until when, and a time to come")
		case in.Until.Sub(t.Now) > mostSnooze:
			return no(refusal.Invalid, "until", "until at most 31 days from now")
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
		return no(refusal.Invalid, "do", "do is take, leave, snooze, wake, resolve or reopen, not %.40q", in.Do)
	}
	if same {
		return h, nil, nil
	}
	return h, &acted, nil
}
