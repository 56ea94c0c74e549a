package play

import (
	"container/heap"
)

type kind int

const (
	submits kind = iota
	joins
	leaves
	freed
	started // the launch has come to its first frame
	ended   // a frame
	asks    // all that wait
	looks   // idle nodes look for something to take over
	yields  // nodes give back what others come first with
	duty
)

type event struct {
	at    float64
	order int64
	kind  kind
	index int // of the machine or the job
	stamp int // machine.gone when it was planned
}

// agenda holds what will happen, earliest first.
type agenda struct {
	heap  []event
	count int64
}

func (a agenda) Len() int { return len(a.heap) }

func (a agenda) Less(i, j int) bool {
	x, y := a.heap[i], a.heap[j]
	return x.at < y.at || x.at == y.at && x.order < y.order
}

func (a agenda) Swap(i, j int) { a.heap[i], a.heap[j] = a.heap[j], a.heap[i] }

func (a *agenda) Push(x any) { a.heap = append(a.heap, x.(event)) }

func (a *agenda) Pop() any {
	last := len(a.heap) - 1
	e := a.heap[last]
	a.heap = a.heap[:last]
	return e
}

func (a *agenda) plan(at float64, k kind, index, stamp int) {
	a.count++
	heap.Push(a, event{at: at, order: a.count, kind: k, index: index, stamp: stamp})
}

func (a *agenda) next() (event, bool) {
	if len(a.heap) == 0 {
		return event{}, false
	}
	return heap.Pop(a).(event), true
}
