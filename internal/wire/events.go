package wire

import "encoding/json"

// The names of the events of the live stream. What each holds is in
// [EventData]; the OpenAPI document has a schema for each.
const (
	EventFacts         = "farm.facts"     // the farm in a few numbers: those that changed
	EventAlerts        = "farm.alerts"    // all that wants a person now
	EventRunAdded      = "run.added"      // runs that were not told before, whole
	EventRunProgress   = "run.progress"   // how far runs are: fields that changed
	EventRunChanged    = "run.changed"    // states, settings: fields that changed
	EventNodeAdded     = "node.added"     // nodes that were not told before, whole
	EventNodeProgress  = "node.progress"  // what nodes do: fields that changed
	EventNodeChanged   = "node.changed"   // states, settings: fields that changed
	EventFrameVerified = "frame.verified" // frames with a good picture, on its way to its place
	EventFrameDone     = "frame.done"     // frames that stand in their place
	EventFrameFailed   = "frame.failed"   // tries that gave no good picture
	EventHere          = "here"           // a sign of life
	// who listens sees other projects from now on: all that was told counts no more, and the
	// next stream begins with all that there is
	EventAnew = "anew"
)

// EventData is what an event of the live stream holds; what it does not concern
// is left out.
type EventData struct {
	Seq    int64             `json:"seq"` // of the last committed change in it
	Facts  json.RawMessage   `json:"facts,omitempty"`
	Hands  []NeedHand        `json:"needs_a_hand,omitempty"`
	Runs   []json.RawMessage `json:"runs,omitempty"`
	Nodes  []json.RawMessage `json:"nodes,omitempty"`
	Frames []FrameEvent      `json:"frames,omitempty"`
}

// FrameEvent is what happened to a frame.
type FrameEvent struct {
	Run     int64   `json:"run"`
	Frame   int     `json:"frame"`
	Node    string  `json:"node"`              // by name
	Seconds float64 `json:"seconds,omitempty"` // that it took to render, where it was verified
	Cause   string  `json:"cause,omitempty"`   // where it failed
}

// RunProgress reports whether a field of a Run says how far the run is: such
// fields change while it renders.
func RunProgress(field string) bool {
	switch field {
	case "changed", "why", "done_count", "parked_count", "sets", "nodes", "in_flight", "newest", "newest_at",
		"forecast", "at_risk", "troubles", "suspects", "memory_peak_bytes":
		return true
	}
	return false
}

// NodeProgress reports whether a field of a Node says what the node does: such
// fields change while it renders.
func NodeProgress(field string) bool {
	switch field {
	case "changed", "why", "works", "processor", "memory_used", "findings":
		return true
	}
	return false
}

// InParts reports whether the fields of a field of Run are told one by one, too.
func InParts(field string) bool { return field == "sets" || field == "forecast" }
