package service

import (
	"context"
	"sync"
	"time"

	"vexillum/internal/service/refusal"
)

// turns lets persons do something costly, each one thing at a time: who asks again and again
// waits for their own requests and takes no turn from others.
type turns struct {
	slots chan struct{} // for all; nil: as many as there are persons

	mu   sync.Mutex
	mine map[string]*own
}

// own is what one person has asked for.
type own struct {
	slot  chan struct{}
	asked int // that have a turn, or wait for one
}

// mostAsked bounds the requests of a person that wait: a page that somebody types into may send
// the next before the one before has noticed that nobody waits for it any more.
const mostAsked = 4

func newTurns(slots int) *turns {
	t := &turns{mine: map[string]*own{}}
	if slots > 0 {
		t.slots = make(chan struct{}, slots)
	}
	return t
}

// take waits for a turn of a person, for so long at most, and returns what ends it; nil: the
// time is over. A *[refusal.Refusal] says that too many of their requests wait.
func (t *turns) take(ctx context.Context, person string, most time.Duration) (done func(), err error) {
	t.mu.Lock()
	o := t.mine[person]
	if o == nil {
		o = &own{slot: make(chan struct{}, 1)}
		t.mine[person] = o
	}
	if o.asked >= mostAsked {
		t.mu.Unlock()
		return nil, refusal.New(
			refusal.Conflict, "", "%d requests of yours of this kind are being worked on; wait for their answers", o.asked,
		)
	}
	o.asked++
	t.mu.Unlock()
	leave := func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		if o.asked--; o.asked == 0 {
			delete(t.mine, person)
		}
	}
	wait := time.NewTimer(most)
	defer wait.Stop()
	took := 0
	for _, slot := range []chan struct{}{o.slot, t.slots} {
		if slot == nil {
			continue
		}
		select {
		case slot <- struct{}{}:
			took++
			continue
		case <-wait.C:
		case <-ctx.Done():
			err = ctx.Err()
		}
		if took > 0 {
			<-o.slot
		}
		leave()
		return nil, err
	}
	return func() {
		if t.slots != nil {
			<-t.slots
		}
		<-o.slot
		leave()
	}, nil
}
