package writer

import (
	"time"

	"vexillum/internal/core/engine"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// A done set is kept whole less often the more stretches it has, and not at all
// beyond a number of them: then its frames are read one by one at a start.
const (
	keepPart = 8
	keepMost = 2 * frames.MaxStretches
)

// keepEvery is after how many finished frames a run's done set is kept whole.
const keepEvery = 256

// checkpoint keeps the done set of runs whole from time to time, and when they
// close: so a start reads few frames one by one.
func (w *Writer) checkpoint(out *engine.Batch, now time.Time) error {
	closed := map[farm.RunID]bool{}
	for _, r := range out.Records {
		if id := r.About().Run; id != 0 {
			moved, ok := r.(farm.RunMoved)
			closed[id] = closed[id] || ok && moved.State.Closed()
		}
	}
	for id := range closed {
		run := w.o.State.Runs[id]
		if run == nil || run.Done.Stretches() > keepMost {
			continue
		}
		if closed[id] || run.SinceCheckpoint >= max(keepEvery, run.Done.Stretches()/keepPart) {
			kept := farm.RunKept{Run: id, Done: run.Done.Multirange(), Seq: w.o.State.Seq, At: now}
			if err := w.o.State.Apply(kept); err != nil {
				return err
			}
			out.Records = append(out.Records, kept)
		}
	}
	return nil
}
