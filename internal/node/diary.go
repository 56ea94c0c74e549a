package node

import (
	"sync"
	"time"

	"vexillum/internal/core/frames"
	"vexillum/internal/core/protocol/journal"
)

// diary is what has happened to a lease on this node, kept in its journal so that
// the next node process knows it. It may be used from anywhere.
type diary struct {
	journal *journalFile
	again   bool // an earlier process has worked on the lease

	mu      sync.Mutex
	held    *journal.Lease
	slowest time.Duration // frame so far
}

func newDiary() *diary { return &diary{held: journal.New()} }

// note takes a step in the life of the lease, and writes it down.
func (d *diary) note(e journal.Entry) {
	e.At = time.Now()
	d.mu.Lock()
	d.held.Note(e)
	d.mu.Unlock()
	d.journal.write(e)
}

// ask answers a question about what has happened.
func ask[T any](d *diary, question func(*journal.Lease) T) T {
	d.mu.Lock()
	defer d.mu.Unlock()
	return question(d.held)
}

// withoutGiven returns a set without the frames that were given back.
func (d *diary) withoutGiven(set frames.Set) frames.Set {
	return ask(d, func(l *journal.Lease) frames.Set { return set.Minus(l.Given()) })
}

// gave reports whether a frame was given back.
func (d *diary) gave(frame int) bool {
	return ask(d, func(l *journal.Lease) bool { return l.Gave(frame) })
}

// spoiled reports whether a frame has failed in a launch.
func (d *diary) spoiled(launch, frame int) bool {
	return ask(d, func(l *journal.Lease) bool { return l.Spoiled(launch, frame) })
}

// trim answers which of the wanted frames can be given back, of those of the
// lease. Asked again, it answers the same.
func (d *diary) trim(id int64, wanted, mine, unseen frames.Set) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	answer, again := d.held.Give(id, wanted, mine, unseen)
	if !again {
		e := journal.Entry{Do: journal.Trimmed, At: time.Now(), Trim: id, Frames: answer.String()}
		d.held.Note(e)
		d.journal.write(e)
	}
	return answer.String()
}

// took notes how long a frame took.
func (d *diary) took(render time.Duration) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.slowest = max(d.slowest, render)
}

// longest returns how long the slowest frame took.
func (d *diary) longest() time.Duration {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.slowest
}
