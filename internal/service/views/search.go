package views

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/maruel/natural"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// Search says which runs are wanted, and in which order.
type Search struct {
	Text    string // words that must all be in name, project, owner, scene or reason; #45 is a number
	Project string
	State   string // states with commas between, or open or ended
	Owner   string
	Due     string // at risk, 24h or 7d (within), any or none
	Sort    string // see orders; turn when empty
	Down    bool   // the other way round
	Page    int    // from 1; the last one instead of one beyond it
	Size    int    // of a page
}

// orders are the ways to sort runs. Runs that are alike stand in their turn.
var orders = map[string]func(a, b *farm.Run) int{
	"turn":      func(_, _ *farm.Run) int { return 0 },
	"name":      func(a, b *farm.Run) int { return natural.Compare(a.Spec.Name(), b.Spec.Name()) },
	"project":   func(a, b *farm.Run) int { return natural.Compare(a.Spec.Project, b.Spec.Project) },
	"owner":     func(a, b *farm.Run) int { return natural.Compare(a.Spec.Owner, b.Spec.Owner) },
	"priority":  func(a, b *farm.Run) int { return cmp.Compare(a.Terms.Level.Rank(), b.Terms.Level.Rank()) },
	"state":     func(a, b *farm.Run) int { return cmp.Compare(a.State, b.State) },
	"done":      func(a, b *farm.Run) int { return cmp.Compare(part(a), part(b)) },
	"due":       func(a, b *farm.Run) int { return last(a.Terms.Due, b.Terms.Due) },
	"submitted": func(a, b *farm.Run) int { return a.SubmittedAt.Compare(b.SubmittedAt) },
	"ended":     func(a, b *farm.Run) int { return last(a.EndedAt, b.EndedAt) },
}

// dues are the ways to pick runs by when they are due.
var dues = []string{"", "at risk", "24h", "7d", "any", "none"}

// part is how much of a run is done, from 0 to 1.
func part(run *farm.Run) float64 { return float64(run.Done.Len()) / float64(run.Spec.Frames.Len()) }

// last puts what has no time behind what has one.
func last(a, b time.Time) int {
	switch {
	case a.IsZero() && b.IsZero():
		return 0
	case a.IsZero():
		return 1
	case b.IsZero():
		return -1
	}
	return a.Compare(b)
}

// QueuePage returns a page of the runs that a search finds among all that there
// ever were and that somebody sees.
func (b *Board) QueuePage(ctx context.Context, q Search, sight farm.Sight) (out wire.QueuePage, err error) {
	order, ok := orders[cmp.Or(q.Sort, "turn")]
	if !ok {
		return out, refusal.New(
			refusal.Invalid, "sort", "runs cannot be sorted by %q; use %s", q.Sort,
			strings.Join(slices.Sorted(maps.Keys(orders)), ", "),
		)
	}
	if !slices.Contains(dues, q.Due) {
		return out, refusal.New(refusal.Invalid, "due", "due is \"at risk\", 24h, 7d, any or none, not %q", q.Due)
	}
	states, err := statesOf(q.State)
	if err != nil {
		return out, err
	}
	words := strings.Fields(strings.ToLower(q.Text))
	err = b.do(ctx, func(t *transaction) error {
		owners := map[string]bool{}
		found := []*farm.Run{}
		for _, run := range b.inTurn() {
			if !sight.Sees(run.Spec.Project) {
				continue
			}
			owners[run.Spec.Owner] = true
			if q.fits(run, states, words) && b.dueFits(run, q.Due, t.Now) {
				found = append(found, run)
			}
		}
		slices.SortStableFunc(found, func(a, b *farm.Run) int {
			if q.Down {
				return order(b, a)
			}
			return order(a, b)
		})
		if q.Down && cmp.Or(q.Sort, "turn") == "turn" {
			slices.Reverse(found)
		}
		out = wire.QueuePage{
			Total: len(found), Pages: max(1, (len(found)+q.Size-1)/q.Size), Runs: []wire.Run{},
			Owners: slices.SortedFunc(maps.Keys(owners), natural.Compare),
		}
		out.Page = min(q.Page, out.Pages)
		for _, run := range found[(out.Page-1)*q.Size : min(len(found), out.Page*q.Size)] {
			out.Runs = append(out.Runs, b.runFor(run, t.Now, sight))
		}
		return nil
	})
	return out, err
}

// inTurn returns all runs: the open ones as they come, then those that ended,
// the newest first.
func (b *Board) inTurn() []*farm.Run {
	out := slices.Clone(b.s.Queue())
	return slices.AppendSeq(out, b.s.Ended)
}

// statesOf reads which states of runs are wanted; nil is any.
func statesOf(text string) (map[farm.RunState]bool, error) {
	if text == "" {
		return nil, nil
	}
	out := map[farm.RunState]bool{}
	for _, name := range strings.Split(text, ",") {
		name = strings.TrimSpace(name)
		switch {
		case name == "open" || name == "ended":
			for _, s := range farm.RunStates {
				out[s] = out[s] || s.Closed() == (name == "ended")
			}
		case slices.Contains(farm.RunStates, farm.RunState(name)):
			out[farm.RunState(name)] = true
		default:
			return nil, refusal.New(
				refusal.Invalid, "state", "%q is not a state of a run; use open, ended, %s", name,
				joined(farm.RunStates),
			)
		}
	}
	return out, nil
}

func joined(states []farm.RunState) string {
	var out []string
	for _, s := range states {
		out = append(out, string(s))
	}
	return strings.Join(out, ", ")
}

// fits reports whether a run is one that is searched for, but for when it is
// due.
func (q Search) fits(run *farm.Run, states map[farm.RunState]bool, words []string) bool {
	if q.Project != "" && run.Spec.Project != q.Project || q.Owner != "" && run.Spec.Owner != q.Owner ||
		states != nil && !states[run.State] {
		return false
	}
	if len(words) == 0 {
		return true
	}
	text := strings.ToLower(strings.Join(
		[]string{run.Spec.Name(), run.Spec.Project, run.Spec.Owner, run.Spec.Scene, run.Reason}, "\n",
	))
	for _, word := range words {
		number, isNumber := strings.CutPrefix(word, "#")
		if isNumber && number == strconv.FormatInt(int64(run.ID), 10) {
			continue
		}
		if !strings.Contains(text, word) {
			return false
		}
	}
	return true
}

// dueFits reports whether a run is due as is searched for.
func (b *Board) dueFits(run *farm.Run, wanted string, now time.Time) bool {
	due := run.Terms.Due
	switch wanted {
	case "at risk":
		return !run.State.Closed() && !due.IsZero() && b.atRisk(run, b.Forecast(run, now), now)
	case "24h":
		return !run.State.Closed() && !due.IsZero() && due.Before(now.Add(24*time.Hour))
	case "7d":
		return !run.State.Closed() && !due.IsZero() && due.Before(now.Add(7*24*time.Hour))
	case "any":
		return !due.IsZero()
	case "none":
		return due.IsZero()
	}
	return true
}
