package deal

import (
	"fmt"
	"math"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
)

// Cut is the end of a lease that a node shall be asked to give back.
type Cut struct {
	Lease  farm.LeaseID
	Node   farm.NodeID // that holds it
	Frames frames.Set
	Reason string
}

// TakeOver finds, for a node with nothing to do, the lease that would end last
// and the part of its end by which both would end together. inFlight tells how
// many frames of a lease have begun, rests whether a lease must not be cut
// now. It returns false where a cut would not bring the end forward by more
// than it costs: half a start-up and a hundredth of what remains.
func TakeOver(s *farm.State, m *pace.Model, taker farm.NodeID, now time.Time, inFlight func(farm.LeaseID) int, rests func(*farm.Lease) bool) (Cut, bool) {
	n := s.Nodes[taker]
	if n == nil || !n.Ready() {
		return Cut{}, false
	}
	var best Cut
	latest := 0.0
	for _, run := range s.Queue() {
		if run.State != farm.RunRendering || run.Spec.Mode == farm.ModeWhole || run.Spec.Chunk > 0 {
			continue
		}
		if !fits(s, n, run) || Stayed(s, n, run, now) != "" {
			continue
		}
		most, _ := untilHome(m, n, run, now)
		if most == 0 {
			continue
		}
		cost, known := m.Cost(run.ID)
		if !known || cost.Mean <= 0 {
			continue
		}
		startup, _ := m.Startup(run.ID)
		mine := speed(m, n, run)
		for l := range run.OpenLeases {
			if rests(l) || l.Node == taker {
				continue
			}
			begun := inFlight(l.ID)
			if l.Left.Len() <= begun {
				continue
			}
			theirs := m.Speed(s.Nodes[l.Node], run.Spec.Recipe) * s.Nodes[l.Node].Part(l.Share)
			work := cost.Mean * float64(l.Left.Len())
			end := work / theirs
			// Both end together at the time at which
			// theirs × together + mine × (together − startup) = work.
			together := (work + mine*startup.Mean) / (theirs + mine)
			// Frames are whole, so one more may be better.
			even := int(math.Floor((together - startup.Mean) * mine / cost.Mean))
			take, finish, most := 0, end, min(l.Left.Len()-begun, most)
			for n := min(max(even, 1), most); n <= min(even+1, most); n++ {
				if f := max(float64(l.Left.Len()-n)*cost.Mean/theirs, startup.Mean+float64(n)*cost.Mean/mine); f < finish {
					take, finish = n, f
				}
			}
			ahead := end - finish
			if take == 0 || ahead <= startup.Mean/2+end/100 || end <= latest {
				continue
			}
			tail := last(l.Left, take).Minus(avoided(s, run, n))
			if tail.Empty() {
				continue
			}
			latest = end
			best = Cut{Lease: l.ID, Node: l.Node, Frames: tail, Reason: fmt.Sprintf("%s shall take %s over from %s: finish %s earlier",
				n.Name, tail, s.NodeName(l.Node), time.Duration(ahead*float64(time.Second)).Round(100*time.Millisecond))}
		}
	}
	return best, latest > 0
}

// last returns the last n frames of a set.
func last(set frames.Set, n int) frames.Set { return set.Minus(set.Take(set.Len() - n)) }
