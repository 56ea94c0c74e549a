// Package forecast plays what comes next on a farm, many times with what may be
// true of its frames and nodes, and says when each run will be finished: as a
// median and a time that it keeps in nine cases of ten. It knows no clock of its
// own.
package forecast

import "time"

// NoFrame is why nothing is known of a run of which no frame is finished.
const NoFrame = "no frame is finished yet"

// Finish is the forecast of one run.
type Finish struct {
	Known  bool
	Median time.Time
	Late   time.Time // 90 % of such runs are finished by then
	Why    string    // why it is not known
	Never  bool      // as things stand it cannot end: Why says what keeps it
	// Early is when one in ten such runs is finished at the earliest, as far as what
	// frames of its recipe mostly cost says about a run that itself has told nothing;
	// zero where nothing does.
	Early time.Time
}
