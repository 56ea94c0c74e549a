package wire

import "time"

// PreflightRule says when nodes are asked by themselves whether they can really render what is
// in the queue.
type PreflightRule struct {
	Held  bool   `json:"held"`  // once for each run that somebody holds
	Night string `json:"night"` // the time of day at which it is asked for all open runs; empty: it is not
	Zone  string `json:"zone"`  // of that time, such as Europe/Dublin; empty is UTC
	// Etag is for If-Match; it is ignored in a change.
	Etag string `json:"etag,omitempty"`
}

// RunPreflight is what nodes have answered that were asked by themselves about a run.
type RunPreflight struct {
	At       time.Time `json:"at"`
	Passing  int       `json:"passing"` // nodes
	Failing  int       `json:"failing"`
	Sentence string    `json:"sentence"` // why nodes fail, and what to do; empty where none does
}
