package node

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"vexillum/internal/core/frames"
	"vexillum/internal/core/protocol/journal"
)

// feed keeps one renderer up and hands it one frame after the other, also
// those of later extensions of the lease. first, if not nil, is a renderer of
// an earlier node process that still runs.
func (w *work) feed(ctx context.Context, left frames.Set, first *launch) {
	if first != nil {
		left = first.feedOn(ctx, left)
	}
	for ctx.Err() == nil && !w.stops.bordered() && w.stops.err() == nil {
		if left.Empty() {
			if left = w.more(ctx); left.Empty() {
				return
			}
		}
		l := w.newLaunch(left)
		if err := l.start(true); err != nil {
			if w.lost() {
				return
			}
			w.noStart(l.number, left.First(), err)
			left = left.Minus(frames.One(left.First()))
			continue
		}
		left = l.feedOn(ctx, left)
	}
}

// more asks for more frames on the lease. The answer names all that have no
// result yet; those that are still being checked are not rendered again.
func (w *work) more(ctx context.Context) frames.Set {
	more, err := w.svc.furtherFrames(ctx, w.lease.ID)
	if err != nil {
		return frames.Set{}
	}
	if !more.Empty() { // what was given back may come again
		w.diary.note(journal.Entry{Do: journal.Extended, Frames: more.String()})
	}
	return ask(w.diary, func(l *journal.Lease) frames.Set { return l.Left(more) })
}

// feedOn hands frames to a renderer until nothing is left, it fails or it is
// stopped. It returns the frames that have no result yet.
func (l *launch) feedOn(ctx context.Context, left frames.Set) frames.Set {
	ended := false
	end := func() bool {
		ended = true
		l.w.diary.note(journal.Entry{Do: journal.Ended, Launch: l.number})
		l.proc.Input("end\n")
		l.proc.CloseInput()
		return true
	}
	next := func() bool {
		if l.before != nil && l.handed < len(l.before.Begun) { // an earlier process has handed it over
			f := l.before.Begun[l.handed].Frame
			l.handed++
			l.begin(f, time.Now())
			if l.handed > l.proc.Inputs() { // it meant to
				l.proc.Input(fmt.Sprintf("frame %d\n", f))
			}
			return true
		}
		if l.before != nil && l.before.Ended {
			ended = true
			return true
		}
		l.w.waitForRoom(ctx)
		if l.w.stops.bordered() || ctx.Err() != nil {
			return false
		}
		left = l.w.diary.withoutGiven(left)
		if left.Empty() {
			l.w.status.set(func(n *moment) { n.phase, n.frame, n.fraction = "waiting", nil, 0 })
			left = l.w.more(ctx)
		}
		if left.Empty() {
			return end()
		}
		f := left.First()
		if l.w.diary.spoiled(l.number, f) { // a try of its own needs a launch of its own
			return end()
		}
		l.handed++
		l.begin(f, time.Now())
		l.proc.Input(fmt.Sprintf("frame %d\n", f))
		return true
	}
	stopped := l.watch(ctx, func(text string) bool {
		word, rest, _ := strings.Cut(text, " ")
		switch word {
		case "ready":
			l.startup = max(0, l.now.Sub(l.began))
			return next()
		case "done":
			if l.current == nil || rest != strconv.Itoa(*l.current) {
				return true
			}
			l.finished()
			left = left.Minus(frames.One(*l.current))
			l.current = nil
			return next()
		}
		return true
	})
	if l.w.lost() || errors.Is(context.Cause(ctx), errLetGo) {
		return left
	}
	defer l.over()
	if stopped || ended || left.Empty() {
		return left
	}
	words, cause := l.reader.words()
	if cause == "" {
		cause = l.crash()
	}
	frame := left.First()
	if l.current != nil {
		frame = *l.current
	}
	l.w.failed(l.number, frame, cause, tellEnd(words, l.proc))
	return left.Minus(frames.One(frame))
}
