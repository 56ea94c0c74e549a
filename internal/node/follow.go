package node

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/protocol/journal"
	"vexillum/internal/core/span"
	"vexillum/internal/core/triage"
	"vexillum/internal/recipe"
)

// border returns the last frame that was finished before the renderer was
// stopped.
func (l *launch) border() int {
	if l.bordered != nil {
		return *l.bordered
	}
	return l.stretch.First - 1
}

// next returns the frame in flight, or the first that was not handed to be checked.
func (l *launch) next() int {
	if l.current != nil {
		return *l.current
	}
	for f := range l.set.All() {
		if !l.rendered[f] {
			return f
		}
	}
	return l.stretch.Last
}

// watch reads what the renderer says until it has ended. It reports true if
// it was stopped. fed, if not nil, is called for lines of the feed protocol;
// when it returns false the renderer shall end.
func (l *launch) watch(ctx context.Context, fed func(text string) bool) (stopped bool) {
	stall := time.NewTicker(time.Second)
	defer stall.Stop()
	defer l.w.status.used.Store(0)
	defer l.calm()
	stalled := false
	gone := l.proc.Gone()
	done := ctx.Done()
	stop := func() {
		stopped, done = true, nil
		l.proc.Stop(time.Duration(l.w.lease.Recipe.Grace))
	}
	for {
		select {
		case m := <-l.marks:
			if stopped {
				continue
			}
			if l.lives(m) {
				l.signOf = time.Now()
			}
			if l.mark(m) && l.w.lease.Recipe.Stop != recipe.StopNever &&
				(l.w.stops.bordered() || l.w.diary.gave(l.next()) || l.w.full() != "") {
				l.stopAtBorder()
				stop()
				continue
			}
			if m.feed != "" && fed != nil && !fed(m.feed) {
				stop()
			}
		case <-done:
			if errors.Is(context.Cause(ctx), errLetGo) {
				return true // the renderer goes on without us
			}
			stop()
		case <-stall.C:
			l.weigh()
			l.sense()
			l.warn()
			if why := l.overdue(); !stopped && !stalled && why != "" {
				stalled = true
				l.stalled(why)
			}
		case <-gone:
			for { // what it said last
				select {
				case m := <-l.marks:
					if !stopped {
						l.mark(m)
						if m.feed != "" && fed != nil {
							fed(m.feed)
						}
					}
					continue
				default:
				}
				return stopped
			}
		}
	}
}

// lives reports whether what was said is a sign of life: progress, or a line, that
// is not the same as the one before.
func (l *launch) lives(m mark) bool {
	if m.progress != nil {
		same := *m.progress == l.told
		l.told = *m.progress
		return !same
	}
	same := m.text == l.line
	l.line = m.text
	return !same
}

// allRendered reports whether all frames of the launch were handed to be checked, or
// have failed.
func (l *launch) allRendered() bool { return len(l.rendered) == l.set.Len() }

// stopAtBorder notes how far the renderer has come that is stopped between two
// frames.
func (l *launch) stopAtBorder() {
	last := l.next() - 1
	if l.current != nil {
		l.w.diary.note(journal.Entry{Do: journal.Undone, Launch: l.number, Frame: *l.current})
	}
	l.current, l.bordered = nil, &last
}

// mark takes in what one line says, and reports true if a frame was finished: it
// says so, or the next begins.
func (l *launch) mark(m mark) bool {
	now := l.when(m)
	l.now = now
	if l.last = (saidOf{}); m.last != nil {
		l.last = *m.last
	}
	l.said(m)
	if l.fed { // what is fed begins when it is handed over
		return false
	}
	border := l.begins(m, now)
	return l.ends(m, now) || border
}

// said notes what a line says of the frame in flight.
func (l *launch) said(m mark) {
	if m.progress != nil && l.current != nil {
		part := *m.progress
		l.w.status.set(func(n *moment) { n.fraction = part })
	}
	l.peak = max(l.peak, m.memory)
	if m.seconds > 0 {
		l.seconds = m.seconds
	}
	if m.warning && l.warning == "" {
		l.warning = strings.TrimSpace(m.text)
	}
	if m.fails != "" && l.spoiled == "" {
		l.spoiled, l.spoiling = m.fails, strings.TrimSpace(m.text)
	}
}

// begins takes in that a frame begins, and reports true if that has finished the
// one before.
func (l *launch) begins(m mark, now time.Time) bool {
	if m.begins == nil && !m.unnamed {
		return false
	}
	frame := l.stretch.First
	if m.begins != nil {
		frame = *m.begins - l.offset
	}
	if l.current != nil && *l.current == frame || l.rendered[frame] { // some say it twice
		return false
	}
	if !l.set.Has(frame) { // not of this launch: it counts for nothing
		if frame >= l.origin.from && frame < l.stretch.First {
			l.w.status.set(func(n *moment) {
				n.detail = fmt.Sprintf("frame %d again, to go on with %d", frame, l.stretch.First)
			})
		}
		return false
	}
	border := l.current != nil
	if border {
		l.finished()
	} else if len(l.rendered) == 0 {
		l.startup = max(0, now.Sub(l.began))
	}
	l.begin(frame, now)
	return border
}

// ends takes in that a frame is finished, and reports true if it is.
func (l *launch) ends(m mark, now time.Time) bool {
	if m.ends == nil && !m.ended {
		return false
	}
	if l.current == nil { // it says when frames end, not when they begin
		frame := l.next()
		if m.ends != nil {
			frame = *m.ends - l.offset
		}
		if !l.set.Has(frame) || l.rendered[frame] {
			return false
		}
		l.begin(frame, l.lastEnd())
	}
	if m.ends != nil && *m.ends-l.offset != *l.current {
		return false
	}
	l.finished()
	l.current, l.ended = nil, now
	return true
}

// lastEnd returns when the frame before was finished, or the launch began.
func (l *launch) lastEnd() time.Time {
	if l.ended.IsZero() {
		return l.began
	}
	return l.ended
}

// begin notes that a frame begins, or has begun when an earlier process
// watched.
func (l *launch) begin(frame int, now time.Time) {
	known := false
	if l.before != nil {
		for _, b := range l.before.Begun {
			if b.Frame == frame {
				now, known = b.At, true
			}
		}
	}
	if !known {
		l.w.diary.note(journal.Entry{Do: journal.Began, Launch: l.number, Frame: frame})
	}
	l.current, l.since, l.told = &frame, now, 0
	l.w.status.set(func(n *moment) { n.phase, n.frame, n.fraction, n.detail = "rendering", &frame, 0, "" })
}

// finished hands the frame in flight to be checked, or fails it for what was said of
// it.
func (l *launch) finished() {
	frame := *l.current
	if l.spoiled != "" {
		l.spoil(frame)
		return
	}
	path, ok := l.file(frame)
	if !ok && l.last.cause != "" { // it has gone on after a frame that failed
		l.w.failed(l.number, frame, l.last.cause, l.last.words)
		l.rendered[frame] = true
		l.forget()
		return
	}
	if !ok {
		path = filepath.Join(l.folder, fmt.Sprintf("frame %d is missing", frame))
	}
	took := max(0, l.now.Sub(l.since))
	if l.seconds > 0 {
		took = time.Duration(l.seconds * float64(time.Second))
	}
	l.check(frame, path, took)
}

// spoil fails a frame for what was said of it, however the renderer ends.
func (l *launch) spoil(frame int) {
	l.w.failed(l.number, frame, l.spoiled, l.spoiling+"\n"+l.last.words)
	l.rendered[frame] = true
	l.forget()
}

// forget forgets what was said of the frame that was in flight.
func (l *launch) forget() { l.seconds, l.warning, l.spoiled, l.spoiling = 0, "", "", "" }

// when returns the time of what a renderer has said. Of one that was taken up
// it may have been said long before it was heard.
func (l *launch) when(m mark) time.Time {
	if l.before != nil {
		return m.at
	}
	return time.Now()
}

func (l *launch) check(frame int, path string, render time.Duration) {
	l.rendered[frame] = true
	if l.before != nil {
		if _, known := l.before.Done[frame]; known { // it is being dealt with already
			return
		}
	}
	inside, err := filepath.Rel(l.w.staging, path)
	if err == nil {
		l.w.diary.note(
			journal.Entry{
				Do: journal.Finished, Launch: l.number, Frame: frame, Path: inside, Startup: l.startup,
				Render: render, Offset: l.offset, Warning: l.warning,
			},
		)
	}
	l.w.diary.took(render)
	l.w.offers.add(check{
		launch: l.number, frame: frame, path: path, folder: l.folder, offset: l.offset, startup: l.startup,
		fetched: l.w.fetched, render: render, memory: l.weigh(), warning: l.warning,
	})
	l.startup, l.w.fetched = 0, farm.Fetched{} // told once
	l.forget()
}

// stallLimit is how long a renderer may give no sign of life: as the node process
// was told, else as the lease says, and longer where frames took longer than was
// expected when it was given.
func (w *work) stallLimit() time.Duration {
	limit := w.host.stall
	if limit == 0 {
		limit = span.Of(w.lease.Stall)
	}
	if limit <= 0 {
		limit = defaultStall
	}
	return max(limit, 10*w.diary.longest())
}

// sense looks how much of cores and devices the renderer has used since its last sign of
// life, on average.
func (l *launch) sense() {
	used := l.proc.Used()
	if l.sensed != l.signOf || used < l.usedThen {
		l.sensed, l.usedThen, l.senseAt = l.signOf, used, time.Now()
	}
	l.use = 0
	if seconds := time.Since(l.senseAt).Seconds(); seconds > 0 {
		l.use = (used - l.usedThen).Seconds() / seconds
	}
	l.use = max(l.use, deviceUse(pciDevices, l.share.devices))
}

// silence is for how long the renderer may give no sign of life, as it is now.
func (l *launch) silence() time.Duration {
	return triage.Silence(l.w.stallLimit(), l.use, l.w.lease.StallHard)
}

// warn tells that a renderer has given no sign of life for half of what it may, and after
// how long it is ended; nothing any more once it has given one.
func (l *launch) warn() {
	limit := l.silence()
	text := ""
	if silent := time.Since(l.signOf); silent > l.w.stallLimit()/2 {
		step := max(time.Second, limit/24).Truncate(time.Second)
		does := "and idle"
		if limit > l.w.stallLimit() {
			does = "but at work"
		}
		text = fmt.Sprintf(
			"without a sign of life for %s, %s; it is ended after %s and tried elsewhere",
			span.Text(silent.Truncate(step)), does, span.Text(limit),
		)
	}
	if text != l.warned {
		l.warned = text
		l.w.status.set(func(n *moment) { n.detail = text })
	}
}

// calm takes the warning back.
func (l *launch) calm() {
	if l.warned != "" {
		l.warned = ""
		l.w.status.set(func(n *moment) { n.detail = "" })
	}
}

// overdue says why the renderer is to be ended: it gives no sign of life, or takes
// longer for a frame than its recipe allows.
func (l *launch) overdue() string {
	if limit := l.silence(); time.Since(l.signOf) > limit {
		return fmt.Sprintf("no sign of life for %v", limit.Round(time.Second))
	}
	most := time.Duration(l.w.lease.Recipe.FrameTime)
	since := l.since
	if l.current == nil {
		since = l.lastEnd()
		if l.fed || l.allRendered() { // it waits, or clears up
			return ""
		}
		if l.set.Len() > 1 && l.w.lease.Recipe.Read.Ends == "" { // it may be any of them
			return ""
		}
	}
	if most > 0 && time.Since(since) > most {
		return fmt.Sprintf("the frame takes longer than %v, the most that the recipe allows", most)
	}
	return ""
}

// stalled ends a renderer that hangs; its exit is then told as a failure of the frame
// in flight.
func (l *launch) stalled(why string) {
	l.reader.stalled(why)
	l.proc.Stop(time.Duration(l.w.lease.Recipe.Grace))
}
