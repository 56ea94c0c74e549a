package triage

import (
	"fmt"
	"slices"
	"strings"

	"vexillum/internal/core/farm"
)

// remedies say what to do about causes.
var remedies = map[string]string{
	CauseCrash:   "read the last lines of the renderer; if only one machine crashes, look at its driver and version",
	CauseNoFrame: "the renderer ended as if all were well and left no picture: look where the scene lets it write",
	CauseWrongOutput: "look whether the disk of the node and the place have room, and whether the scene sets a size " +
		"of its own",
	CauseMissingFile: "put the file where the scene looks for it, or correct the path in the scene; then run: " +
		"vexillum mended RUN",
	CauseBlank:      "open the frame: a camera, a light or a layer may be off; accept it if it is meant to be empty",
	CauseNoPlugin:   "install the plug-in that is named where the renderer looks for it, or keep the run off that node",
	CauseNotAllowed: "let the account that renders there read and write what is named; vexillum preflight asks all nodes",
	CausePlaceGone:  "mount the place that is named; what waits for it goes on by itself once it is back",
	CauseChanged:    "look who has changed the scene; to go on with it as it is now: vexillum mended RUN",
	CauseScene:      "the renderer cannot read the scene: check which version has written it, and which one reads it",
	CauseMemory: "render it on nodes with more, such as --needs 'memory>=64GiB', or with fewer leases beside it " +
		"(--memory)",
	CauseNoLicence: "count the licences that there are: vexillum licence set NAME --count N",
	CauseDiskFull:  "make room on the disk that is named; what is rendered waits and is delivered then",
	CauseStalled:   "look at the frame by hand; if it is merely heavy, give it longer with --stall",
	CauseNodeLost:  "look whether the machine is up and its network holds",
	CauseNoStart:   "install the renderer where the recipe looks for it, then run: vexillum nodes probe NODE",
	CauseOutput:    "a file of somebody else stands where the frame goes: move it away, then retry",
	CauseDelivery:  "look whether the place is mounted and may be written on that node",
}

// Remedy says what a person can do about a cause, as half a sentence; empty for one that
// nothing is known about.
func Remedy(cause string) string { return remedies[cause] }

// RemedyFor returns what a person can do about failures of runs by a cause. A run that met its own
// memory limit needs a higher one, not larger nodes.
func RemedyFor(cause string, runs []*farm.Run) string {
	if len(runs) == 1 {
		if named, found := strings.CutSuffix(Remedy(cause), "mended RUN"); found {
			return named + "mended " + runs[0].Spec.Name()
		}
	}
	if cause != CauseMemory || len(runs) == 0 {
		return Remedy(cause)
	}
	most := runs[0]
	for _, run := range runs {
		if run.Spec.Takes.MemoryBytes == 0 {
			return Remedy(cause)
		}
		if run.Spec.Takes.MemoryBytes > most.Spec.Takes.MemoryBytes {
			most = run
		}
	}
	limit := most.Spec.Takes.MemoryBytes
	return fmt.Sprintf(
		"raise the memory limit of the run, %s a lease: vexillum change %s --memory %s", amountText(limit),
		most.Spec.Name(), amountText(2*limit),
	)
}

// amountText writes bytes as a person would give them, in whole MiB or GiB.
func amountText(bytes int64) string {
	if bytes >= 1<<30 && bytes%(1<<30) == 0 {
		return fmt.Sprintf("%dGiB", bytes>>30)
	}
	return fmt.Sprintf("%dMiB", max(1, (bytes+1<<20-1)>>20))
}

// Causes returns all causes that there are, in no order that matters.
func Causes() []string {
	return []string{
		CauseCrash, CauseNoFrame, CauseWrongOutput, CauseBlank, CauseMissingFile, CauseChanged, CauseScene, CauseNoPlugin,
		CauseMemory, CauseNoLicence, CauseDiskFull, CauseStalled, CauseNodeLost, CauseNoStart, CauseNotAllowed,
		CausePlaceGone, CauseOutput, CauseDelivery,
	}
}

// CheckCause returns an error for what is neither a cause nor empty.
func CheckCause(cause string) error {
	if cause != "" && !slices.Contains(Causes(), cause) {
		return fmt.Errorf("%.40q is no cause; they are %s", cause, strings.Join(Causes(), ", "))
	}
	return nil
}
