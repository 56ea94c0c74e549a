package node

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"vexillum/internal/core/frames"
)

// Every lease has a folder in the staging area with what it is, a journal of
// what happened, and the frames that are not delivered yet. A node process
// that starts finds there what an earlier one was in the middle of. Nothing is
// cleaned before the service has answered for it.

// holding is what a lease's folder says it is.
type holding struct {
	Life  string `json:"life"` // of the farm that gave it
	Lease leased `json:"lease"`
}

const (
	holdingFile = "lease.json"
	journalFile = "journal.jsonl"
)

// entry is one line of a journal.
type entry struct {
	Do      string        `json:"do"`
	At      time.Time     `json:"at"`
	Launch  int           `json:"launch,omitempty"`
	Frame   int           `json:"frame"`
	First   int           `json:"first,omitempty"`
	Last    int           `json:"last,omitempty"`
	Path    string        `json:"path,omitempty"` // of a finished frame, inside the lease's folder
	Startup time.Duration `json:"startup,omitempty"`
	Render  time.Duration `json:"render,omitempty"`
	Hash    string        `json:"hash,omitempty"`
	Trim    int64         `json:"trim,omitempty"`
	Frames  string        `json:"frames,omitempty"`
}

// What a journal tells.
const (
	didLaunch   = "launch"   // a renderer is started for First to Last
	didBegin    = "begin"    // it begins a frame
	didFinish   = "finish"   // it has finished one, as the file Path
	didOver     = "over"     // it has ended and all that follows was reported
	didEnd      = "end"      // one that is fed was told that no more comes
	didAccepted = "accepted" // the service took the frame with this Hash
	didSettle   = "settle"   // nothing is left to do about the frame's picture of this launch
	didTrim     = "trim"     // the question Trim was answered by giving Frames back
)

// journal is where entries go. It may be nil: then nothing is kept.
type journal struct {
	file *os.File
	log  *slog.Logger
}

func openJournal(folder string, log *slog.Logger) (*journal, error) {
	file, err := os.OpenFile(filepath.Join(folder, journalFile), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, fmt.Errorf("opening the journal of a lease: %w", err)
	}
	return &journal{file, log}, nil
}

// write appends an entry. It need not outlive the machine: neither do
// renderers.
func (j *journal) write(e entry) {
	if j == nil {
		return
	}
	e.At = time.Now()
	line, err := json.Marshal(e)
	if err == nil {
		_, err = j.file.Write(append([]byte("\n"), line...)) // a line that was cut off cannot harm the next
	}
	if err != nil {
		j.log.Error("writing the journal", "error", err)
	}
}

func (j *journal) close() {
	if j != nil {
		_ = j.file.Close()
	}
}

// past is what a journal tells.
type past struct {
	launches map[int]*pastLaunch
	last     int // launch
	settled  map[shot]bool
	accepted map[int]string // hash by frame
	trims    map[int64]string
	given    frames.Set // back, by trims
}

// shot is a frame as one launch rendered it.
type shot struct{ launch, frame int }

type pastLaunch struct {
	number  int
	stretch frames.Span
	at      time.Time
	begun   []begun
	done    map[int]check
	ended   bool // told that no more comes
	over    bool
}

type begun struct {
	frame int
	at    time.Time
}

func newPast() *past {
	return &past{launches: map[int]*pastLaunch{}, settled: map[shot]bool{}, accepted: map[int]string{}, trims: map[int64]string{}}
}

// recallHolding reads what an earlier process kept of a lease.
func recallHolding(folder string) (holding, *past, error) {
	var h holding
	data, err := os.ReadFile(filepath.Join(folder, holdingFile))
	if err != nil {
		return h, nil, fmt.Errorf("reading a lease: %w", err)
	}
	if err := json.Unmarshal(data, &h); err != nil {
		return h, nil, fmt.Errorf("reading a lease: %w", err)
	}
	data, err = os.ReadFile(filepath.Join(folder, journalFile))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return h, nil, fmt.Errorf("reading a journal: %w", err)
	}
	return h, readJournal(data, folder), nil
}

// readJournal reads a journal. Lines that make no sense were cut off.
func readJournal(data []byte, folder string) *past {
	p := newPast()
	for line := range bytes.SplitSeq(data, []byte("\n")) {
		var e entry
		if json.Unmarshal(line, &e) != nil {
			continue
		}
		l := p.launches[e.Launch]
		if l == nil && e.Do != didLaunch && e.Do != didTrim && e.Do != didAccepted {
			continue
		}
		switch e.Do {
		case didLaunch:
			p.launches[e.Launch] = &pastLaunch{number: e.Launch, stretch: frames.Span{First: e.First, Last: e.Last}, at: e.At, done: map[int]check{}}
			p.last = max(p.last, e.Launch)
		case didBegin:
			l.begun = append(l.begun, begun{e.Frame, e.At})
		case didFinish:
			l.done[e.Frame] = check{launch: e.Launch, frame: e.Frame, path: filepath.Join(folder, e.Path), startup: e.Startup, render: e.Render}
		case didOver:
			l.over = true
		case didEnd:
			l.ended = true
		case didAccepted:
			p.accepted[e.Frame] = e.Hash
		case didSettle:
			p.settled[shot{e.Launch, e.Frame}] = true
		case didTrim:
			var set frames.Set
			if set.UnmarshalText([]byte(e.Frames)) == nil {
				p.trims[e.Trim] = e.Frames
				p.given = p.given.Union(set)
			}
		}
	}
	return p
}

// unsettled returns the frames that were finished and not dealt with to the
// end, in the order of launches and frames.
func (p *past) unsettled() []check {
	var out []check
	for number, l := range p.launches {
		for frame, c := range l.done {
			if !p.settled[shot{number, frame}] {
				out = append(out, c)
			}
		}
	}
	slices.SortFunc(out, func(a, b check) int {
		if a.launch != b.launch {
			return a.launch - b.launch
		}
		return a.frame - b.frame
	})
	return out
}

// running returns the launch that had not ended, or nil.
func (p *past) running() *pastLaunch {
	if l := p.launches[p.last]; l != nil && !l.over {
		return l
	}
	return nil
}

// inFlight returns the frame that a launch had begun and not finished.
func (l *pastLaunch) inFlight() (frame int, ok bool) {
	if len(l.begun) == 0 {
		return 0, false
	}
	frame = l.begun[len(l.begun)-1].frame
	_, finished := l.done[frame]
	return frame, !finished
}

// keepHolding makes the folder of a lease.
func keepHolding(folder string, h holding) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return fmt.Errorf("making the folder of a lease: %w", err)
	}
	data, err := json.Marshal(h)
	if err != nil {
		return fmt.Errorf("keeping a lease: %w", err)
	}
	path := filepath.Join(folder, holdingFile)
	if err := os.WriteFile(path+".new", data, 0o600); err != nil {
		return fmt.Errorf("keeping a lease: %w", err)
	}
	if err := os.Rename(path+".new", path); err != nil {
		return fmt.Errorf("keeping a lease: %w", err)
	}
	return nil
}

// leaseFolder is the name of a lease's folder in the staging area.
func leaseFolder(lease int64) string { return fmt.Sprintf("lease-%d", lease) }

// heldLeases returns the folders of leases in a staging area.
func heldLeases(staging string) ([]string, error) {
	entries, err := os.ReadDir(staging)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading the staging area: %w", err)
	}
	var out []string
	for _, e := range entries {
		number, ok := strings.CutPrefix(e.Name(), "lease-")
		if _, err := strconv.ParseInt(number, 10, 64); ok && err == nil && e.IsDir() {
			out = append(out, filepath.Join(staging, e.Name()))
		}
	}
	return out, nil
}
