// Package launcher starts renderers for a node process and outlives it, so
// that a restart of the node process costs no expensive frame. It is a small
// process of its own that owns the renderers' output and how they ended; a
// node process connects to it over a socket in the node's folder, and the next
// one goes on where the last one was.
//
// It knows nothing of frames, leases or the service.
package launcher

import (
	"encoding/json"
	"path/filepath"
	"time"
)

// Spec says what to start.
type Spec struct {
	ID      string   `json:"id"` // unlike any other of the node
	Program string   `json:"program"`
	Args    []string `json:"args"`
	Env     []string `json:"env"` // besides the launcher's own
	Dir     string   `json:"dir"` // working folder
	Input   bool     `json:"input"`
	Bound   bool     `json:"bound,omitempty"` // it ends with the node process that started it
	Limits
}

// Limits is what a process is held to, as far as the system can.
type Limits struct {
	Nice    int    `json:"nice,omitempty"`    // how much others come first, 1 to 19; 0 is as usual
	Cores   []int  `json:"cores,omitempty"`   // logical processors that it may run on; empty: all
	Memory  int64  `json:"memory,omitempty"`  // bytes of main memory; 0: no limit
	Account string `json:"account,omitempty"` // whom it runs as; "": as the launcher does
	Group   string `json:"group,omitempty"`   // "": the account's
	UID     int    `json:"uid,omitempty"`     // number of the account, where it is not that of its name; 0: it is
	GID     int    `json:"gid,omitempty"`     // of the group
	Groups  []int  `json:"groups,omitempty"`  // numbers of further groups that it is in; all others are dropped
	Mask    *int   `json:"mask,omitempty"`    // permissions that new files do not get; nil: as the launcher's
}

// Version is the version of the protocol that this program speaks; the launcher
// that an older node process has started may speak an older one. It grows when
// either side would misunderstand the other.
//
//	1  the first; a launcher that speaks it does not answer a greeting
//	2  the two greet one another
//	3  processes may run under numbers of accounts, in no groups but some, and end with
//	   their node process; one that did not know that would give them more rights
const (
	Version       = 3
	oldestVersion = 3 // that a node process understands
)

// order is what a node process tells the launcher, one JSON object a line.
type order struct {
	Do    string        `json:"do"` // hello, start, attach, input, close, stop, forget, end
	ID    string        `json:"id,omitempty"`
	Spec  *Spec         `json:"spec,omitempty"`
	Text  string        `json:"text,omitempty"`  // of input
	Grace time.Duration `json:"grace,omitempty"` // of stop, in nanoseconds

	Version int `json:"version,omitempty"` // of the node process, in hello
}

// Kinds of news.
const (
	newsHello    = "hello"
	newsAttached = "attached" // the process is known; its output follows from the beginning
	newsUnknown  = "unknown"  // it is not
	newsOutput   = "output"
	newsExited   = "exited"
	newsFailed   = "failed" // it could not be started
	newsReplaced = "replaced"
)

// news is what the launcher reports, one JSON object a line.
type news struct {
	Kind   string `json:"kind"`
	ID     string `json:"id,omitempty"`
	Stream int    `json:"stream,omitempty"` // 1 standard output, 2 standard error
	Data   []byte `json:"data,omitempty"`
	At     int64  `json:"at,omitempty"`     // when it was said, in milliseconds since 1970
	Inputs int    `json:"inputs,omitempty"` // lines of input that it was given
	PID    int    `json:"pid,omitempty"`    // of an attached process
	Peak   int64  `json:"peak,omitempty"`   // bytes of main memory that an exited process had at most; 0: not known
	Memory bool   `json:"memory,omitempty"` // it was ended for going over its limit of memory
	Code   int    `json:"code,omitempty"`   // exit code; -1 for a signal
	Text   string `json:"text,omitempty"`   // how it ended, or why it did not start

	Version int `json:"version,omitempty"` // of the launcher, in hello
	Running int `json:"running,omitempty"` // processes that have not ended, in hello
}

// encode returns a value as one line.
func encode(v any) []byte {
	data, err := json.Marshal(v)
	if err != nil { // both shapes hold nothing that JSON cannot
		return []byte("{}\n")
	}
	return append(data, '\n')
}

// Limits of the launcher.
const (
	mostOutput   = 64 << 20         // bytes kept of one process, for a node process that comes back
	waitDelay    = 2 * time.Second  // for output after the exit
	idleFor      = 20 * time.Second // without a node process and anything to keep before it ends
	keepFor      = 24 * time.Hour   // for a node process to come for what ended renderers have said
	inputsFor    = 10 * time.Minute // without a node process before renderers that wait for input are ended
	longestOrder = 4 << 20
)

func socketPath(dir string) string { return filepath.Join(dir, "launcher.sock") }
func lockPath(dir string) string   { return filepath.Join(dir, "launcher.lock") }
