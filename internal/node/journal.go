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
	"strconv"
	"strings"

	"vexillum/internal/core/protocol/journal"
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
	journalName = "journal.jsonl"
)

// journalFile is where entries go. It may be nil: then nothing is kept.
type journalFile struct {
	file *os.File
	log  *slog.Logger
}

func openJournal(folder string, log *slog.Logger) (*journalFile, error) {
	file, err := os.OpenFile(filepath.Join(folder, journalName), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, fmt.Errorf("opening the journal of a lease: %w", err)
	}
	return &journalFile{file, log}, nil
}

// write appends an entry. It need not outlive the machine: neither do
// renderers.
func (j *journalFile) write(e journal.Entry) {
	if j == nil {
		return
	}
	line, err := json.Marshal(e)
	if err == nil {
		_, err = j.file.Write(append([]byte("\n"), line...)) // a line that was cut off cannot harm the next
	}
	if err != nil {
		j.log.Error("writing the journal", "error", err)
	}
}

func (j *journalFile) close() {
	if j != nil {
		_ = j.file.Close()
	}
}

// recallHolding reads what an earlier process kept of a lease.
func recallHolding(folder string) (holding, *journal.Lease, error) {
	var h holding
	data, err := os.ReadFile(filepath.Join(folder, holdingFile))
	if err != nil {
		return h, nil, fmt.Errorf("reading a lease: %w", err)
	}
	if err := json.Unmarshal(data, &h); err != nil {
		return h, nil, fmt.Errorf("reading a lease: %w", err)
	}
	data, err = os.ReadFile(filepath.Join(folder, journalName))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return h, nil, fmt.Errorf("reading a journal: %w", err)
	}
	return h, readJournal(data), nil
}

// readJournal reads a journal. Lines that make no sense were cut off.
func readJournal(data []byte) *journal.Lease {
	held := journal.New()
	for line := range bytes.SplitSeq(data, []byte("\n")) {
		var e journal.Entry
		if json.Unmarshal(line, &e) == nil {
			held.Note(e)
		}
	}
	return held
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
		if strings.HasPrefix(e.Name(), trialFolders) && e.IsDir() { // nobody waits for it any more
			if err := os.RemoveAll(filepath.Join(staging, e.Name())); err != nil {
				return nil, fmt.Errorf("removing what a trial has left: %w", err)
			}
		}
		number, ok := strings.CutPrefix(e.Name(), "lease-")
		if _, err := strconv.ParseInt(number, 10, 64); ok && err == nil && e.IsDir() {
			out = append(out, filepath.Join(staging, e.Name()))
		}
	}
	return out, nil
}
