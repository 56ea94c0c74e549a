package simulate

import "container/heap"

type kind int

const (
	submits kind = iota // a job
	joins               // a machine
	leaves
	started // a renderer
	ended   // a frame
	ticks   // the engine is told the time
	beats   // a machine gives a sign of life
)

type event struct {
	at    float64
	order int64
	kind  kind
	index int // of the machine or the job
	stamp int // work.stamp when it was planned
	work  *work
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

func (a *agenda) plan(at float64, k kind, index, stamp int, on *work) {
	a.count++
	heap.Push(a, event{at: at, order: a.count, kind: k, index: index, stamp: stamp, work: on})
}

func (a *agenda) peek() (event, bool) {
	if len(a.heap) == 0 {
		return event{}, false
	}
	return a.heap[0], true
}

func (a *agenda) next() (event, bool) {
	if len(a.heap) == 0 {
		return event{}, false
	}
	return heap.Pop(a).(event), true
}
