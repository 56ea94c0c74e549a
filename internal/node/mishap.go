package node

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	"vexillum/internal/wire"
)

// A node process that the system kills for want of memory cannot say so. So it
// keeps, while it runs, what it was doing; the next one finds that, and asks the
// system what has become of its predecessor.

// life is what a node process keeps of itself while it runs.
type life struct {
	Boot  string      `json:"boot"` // of the machine since it was started
	PID   int         `json:"pid"`
	Kills int64       `json:"kills"` // for want of memory on this machine, so far; below 0: not known
	At    time.Time   `json:"at"`
	Works []lifeLease `json:"works"`
}

type lifeLease struct {
	Lease  int64 `json:"lease"`
	Memory int64 `json:"memory_bytes"`
}

// witness is what the system says about processes that it has killed for want of
// memory.
type witness struct {
	boot   string
	kills  int64        // since the machine was started; below 0: it does not tell
	killed map[int]bool // by number; nil: it does not tell
}

func (a *Agent) lifeFile() string { return filepath.Join(a.o.Dir, "running.json") }

// lastLife returns what the system did to the process before this one, if it
// was killed for want of memory; nil otherwise.
func (a *Agent) lastLife() *wire.Mishap {
	data, err := os.ReadFile(a.lifeFile())
	var last life
	if err != nil || json.Unmarshal(data, &last) != nil { // it ended as it should, or before it began
		return nil
	}
	return last.mishap(testify())
}

// mishap judges how a life has ended.
func (l life) mishap(w witness) *wire.Mishap {
	if l.Boot != w.boot || l.Boot == "" { // all has ended with the machine
		return nil
	}
	switch {
	case w.killed[l.PID]:
	case w.killed != nil, l.Kills < 0, w.kills <= l.Kills:
		return nil
	}
	out := &wire.Mishap{At: l.At, Sure: w.killed[l.PID]}
	for _, work := range l.Works {
		if out.Lease == 0 || work.Memory > out.MemoryBytes {
			out.Lease, out.MemoryBytes = work.Lease, work.Memory
		}
	}
	return out
}

// live keeps what this process is doing.
func (a *Agent) live(works []wire.Progress) {
	w := testify()
	l := life{
		Boot: w.boot, PID: os.Getpid(), Kills: w.kills, At: time.Now().UTC().Round(time.Second), Works: []lifeLease{},
	}
	for _, p := range works {
		l.Works = append(l.Works, lifeLease{p.Lease, p.MemoryBytes})
	}
	data, err := json.Marshal(l)
	if err == nil {
		fresh := a.lifeFile() + ".new"
		if err = os.WriteFile(fresh, data, 0o600); err == nil {
			err = os.Rename(fresh, a.lifeFile())
		}
	}
	if err != nil {
		a.o.Log.Debug("keeping what this process does", "error", err)
	}
}

var killedLine = regexp.MustCompile(`[Kk]illed process (\d+)`)

// killedIn returns the processes that lines of the system's log name.
func killedIn(log string) map[int]bool {
	out := map[int]bool{}
	for line := range strings.Lines(log) {
		if m := killedLine.FindStringSubmatch(line); m != nil {
			if pid, err := strconv.Atoi(m[1]); err == nil {
				out[pid] = true
			}
		}
	}
	return out
}

// killsIn reads the count from what Linux reports in /proc/vmstat.
func killsIn(vmstat string) int64 {
	for line := range strings.Lines(vmstat) {
		if text, found := strings.CutPrefix(line, "oom_kill "); found {
			if n, err := strconv.ParseInt(strings.TrimSpace(text), 10, 64); err == nil {
				return n
			}
		}
	}
	return -1
}

// mishapText tells a person at the machine.
func mishapText(m *wire.Mishap) string {
	how := "has killed"
	if !m.Sure {
		how = "seems to have killed"
	}
	text := fmt.Sprintf(
		"the system %s the node process before this one for want of memory, after %s", how,
		m.At.Local().Format("Mon 15:04:05"),
	)
	if m.Lease != 0 {
		text += fmt.Sprintf("; lease %d had the most memory then", m.Lease)
	}
	return text
}
