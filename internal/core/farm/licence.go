package farm

import "time"

// Counting is what takes up a licence.
type Counting string

// The ways to count licences.
const (
	PerProcess Counting = "process" // each launch
	PerNode    Counting = "node"    // each node, however many launches it has
	PerDevice  Counting = "device"  // each graphics device that a launch owns
)

// LicenceNeed is the licence that a renderer needs to run.
type LicenceNeed struct {
	Name string   `json:"name"`
	Per  Counting `json:"per"`
}

// Licence is a counted right to run a renderer. One that nobody counts does
// not limit anything.
type Licence struct {
	Name  string
	Count int
	// When a renderer found none although the count says that there are some,
	// somebody else uses them: until then it is lower.
	Lowered      int
	LoweredUntil time.Time
}

// Uncounted is the Count of a licence that nobody has counted.
const Uncounted = 1 << 30

// Most returns how many there are to use now.
func (l *Licence) Most(now time.Time) int {
	if now.Before(l.LoweredUntil) {
		return min(l.Count, l.Lowered)
	}
	return l.Count
}
