// Package wire holds the shapes that cross the network: what people and
// pipelines send and get under /api/v1, and what nodes send and get under
// /node/v1. It has no behaviour.
package wire

import (
	"time"
)

// Problem is an error as RFC 9457 has it.
type Problem struct {
	Type   string `json:"type"` // address of the description of Code
	Title  string `json:"title"`
	Status int    `json:"status"`
	Code   string `json:"code"`            // what went wrong, for programs; see the Problem codes
	Detail string `json:"detail"`          // one sentence for a person: what, why, what to do
	Field  string `json:"field,omitempty"` // the part of the request that is at fault
	// of a file that was sent
	Mistakes []FileMistake `json:"mistakes,omitempty"`
}

// Error makes a Problem an error for clients.
func (p *Problem) Error() string { return p.Detail }

// HistoryLine is one thing that happened to a run or node.
type HistoryLine struct {
	Seq    int64     `json:"seq"`
	At     time.Time `json:"at"`
	Kind   string    `json:"kind"`
	Node   string    `json:"node"`
	Reason string    `json:"reason"`
	Moved  string    `json:"moved"` // how it moved work from node to node: take-over or race; empty: not at all
}

// AuditLine records who changed what.
type AuditLine struct {
	Seq     int64     `json:"seq"`
	At      time.Time `json:"at"`
	Actor   string    `json:"actor"`
	Action  string    `json:"action"`
	Subject string    `json:"subject"`
	Before  string    `json:"before"`
	After   string    `json:"after"`
}

// Health is what /healthz and /readyz answer.
type Health struct {
	Service   string    `json:"service"` // always "vexillum"
	Version   string    `json:"version"`
	Part      string    `json:"part"` // active, stand-by, starting, or away (from the database)
	Name      string    `json:"name"`
	Active    string    `json:"active"` // name of the active service, if known
	Now       time.Time `json:"now"`
	NodesFrom string    `json:"nodes_from"` // oldest version of a node process that it works with
}

// Set stores what a change says of a value; nil says nothing.
func Set[T any](to *T, value *T) {
	if value != nil {
		*to = *value
	}
}

// List returns a list as it travels: one of its own, and one that is empty, not missing. What
// leaves the loop that decides must hold nothing of the loop's memory.
func List(list []string) []string { return append([]string{}, list...) }
