package node

import (
	"context"
	"math"
	"sync"
	"time"

	"github.com/shirou/gopsutil/v4/cpu"
)

// referenceRate is how many rounds a second one core of the reference machine
// does in measureSpeed; the reference machine has four such cores.
const referenceRate = 25e6

// measureSpeed returns the machine's speed index: 1 is the reference machine,
// 2 one that does twice the work in the same time. Each core counts with its
// best slice of many short ones, so that a machine that is busy while it
// joins is not taken for a slow one.
func measureSpeed(cores int) float64 {
	const (
		inAll = 600 * time.Millisecond
		slice = 4 * time.Millisecond
	)
	rates := make([]float64, cores)
	var wg sync.WaitGroup
	for i := range cores {
		wg.Go(func() {
			x := 1.0 + float64(i)
			for begin := time.Now(); time.Since(begin) < inAll && x > 0; {
				rounds, start := 0, time.Now()
				for time.Since(start) < slice {
					for range 10_000 {
						x = math.Sqrt(x*1.0000001+0.5) * 1.3
					}
					rounds += 10_000
				}
				rates[i] = max(rates[i], float64(rounds)/time.Since(start).Seconds())
			}
		})
	}
	wg.Wait()
	sum := 0.0
	for _, r := range rates {
		sum += r
	}
	return math.Round(100*sum/(4*referenceRate)) / 100
}

// speed is the speed index of this machine.
type speed struct {
	mu   sync.Mutex
	now  float64
	busy bool // the machine was busy when it was measured: it may be faster
}

// index returns the speed index that holds now.
func (s *speed) index() float64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.now
}

// set sets the index.
func (s *speed) set(index float64, busy bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.now, s.busy = index, busy
}

// better takes a measurement of a calm machine, and reports whether it is enough above what was
// known to be reported.
func (s *speed) better(index float64) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.busy = false
	if index < s.now*worthReporting {
		return false
	}
	s.now = index
	return true
}

// doubted reports whether the index was measured on a busy machine.
func (s *speed) doubted() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.busy
}

// How a machine is measured again that was busy when it joined.
const (
	busyFrom       = 0.25             // part of the processors in use, from which on a machine is busy
	calmBelow      = 0.10             // and below which it is calm
	looksForCalm   = 30 * time.Second // between looks whether it is calm
	busyFor        = 250 * time.Millisecond
	calmFor        = 2 * time.Second
	worthReporting = 1.05
)

// used returns the part of the processors that are in use for some time, 0 to 1; 1 where the
// system does not report it.
func used(ctx context.Context, during time.Duration) float64 {
	p, err := cpu.PercentWithContext(ctx, during, false)
	if err != nil || len(p) == 0 {
		return 1
	}
	return p[0] / 100
}

// measureAtStart sets the speed index: as it was given, or measured.
func (a *Agent) measureAtStart(ctx context.Context) {
	index, busy := a.o.Speed, false
	if index <= 0 {
		busy = used(ctx, busyFor) > busyFrom
		index = max(0.01, measureSpeed(a.facts.Cores))
	}
	a.facts.Speed = index
	a.speed.set(index, busy)
}

// measureWhenCalm measures the machine again once it has no lease and is calm, if it was busy when
// it was measured, and reports a higher index.
func (a *Agent) measureWhenCalm(ctx context.Context) {
	for a.speed.doubted() {
		select {
		case <-ctx.Done():
			return
		case <-time.After(looksForCalm):
		}
		if a.atWork() || used(ctx, calmFor) > calmBelow || a.atWork() {
			continue
		}
		index := measureSpeed(a.facts.Cores)
		if a.atWork() { // its renderer took part of the processors
			continue
		}
		if !a.speed.better(index) {
			return
		}
		a.o.Log.Info("the machine was busy when it was measured; measured again", "speed", index)
		if err := a.reportFound(ctx, a.search.known()); err != nil {
			return // the session's other calls learn the same
		}
	}
}

// atWork reports whether this node works on a lease.
func (a *Agent) atWork() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return len(a.works) > 0
}
