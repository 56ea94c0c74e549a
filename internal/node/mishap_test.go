package node

import (
	"log/slog"
	"os"
	"testing"
	"time"

	"vexillum/internal/wire"
)

// TestWhatEndedTheLastProcess judges ends of all kinds by what a system reports.
func TestWhatEndedTheLastProcess(t *testing.T) {
	at := time.Date(2031, 3, 4, 5, 6, 7, 0, time.UTC)
	works := []lifeLease{{7, 1 << 30}, {8, 20 << 30}, {9, 0}}
	for _, c := range []struct {
		what string
		last life
		now  witness
		want *wire.Mishap
	}{
		{
			"the log names it", life{"a", 12, 3, at, works}, witness{"a", 4, map[int]bool{12: true, 9: true}},
			&wire.Mishap{At: at, Sure: true, Lease: 8, MemoryBytes: 20 << 30},
		},
		{"the log names others", life{"a", 12, 3, at, works}, witness{"a", 5, map[int]bool{9: true}}, nil},
		{
			"there is no log to read, and somebody was killed", life{"a", 12, 3, at, works[:1]}, witness{"a", 4, nil},
			&wire.Mishap{At: at, Lease: 7, MemoryBytes: 1 << 30},
		},
		{"nobody was killed since", life{"a", 12, 3, at, works}, witness{"a", 3, nil}, nil},
		{"the system does not count", life{"a", 12, -1, at, works}, witness{"a", 1, nil}, nil},
		{"it did nothing", life{"a", 12, 0, at, nil}, witness{"a", 1, nil}, &wire.Mishap{At: at}},
		{"the machine has started anew", life{"a", 12, 3, at, works}, witness{"b", 4, map[int]bool{12: true}}, nil},
		{"nothing is known", life{}, witness{}, nil},
	} {
		got := c.last.mishap(c.now)
		if (got == nil) != (c.want == nil) || got != nil && *got != *c.want {
			t.Errorf("%s: %+v, want %+v", c.what, got, c.want)
		}
	}
	log := "4,1,2,-;Memory cgroup out of memory: Killed process 4711 (povray) total-vm:1kB\n6,2,3,-;usb 1-1\n" +
		"3,3,4,-;Out of memory: Killed process 12 (vexillum), UID 0\n"
	if killed := killedIn(log); len(killed) != 2 || !killed[4711] || !killed[12] {
		t.Errorf("the log names %v", killed)
	}
	if n := killsIn("nr_free_pages 5\noom_kill 17\nx 1\n"); n != 17 || killsIn("") != -1 {
		t.Errorf("%d were killed", n)
	}
}

// TestALifeIsKeptWhileItLasts keeps what a process does, and lets the next one
// look at it.
func TestALifeIsKeptWhileItLasts(t *testing.T) {
	a := &Agent{o: Options{Dir: t.TempDir(), Log: slog.New(slog.DiscardHandler)}}
	if got := a.lastLife(); got != nil {
		t.Errorf("before the first there was %+v", got)
	}
	a.live([]wire.Progress{{Lease: 7, MemoryBytes: 5}})
	if got := a.lastLife(); got != nil { // nobody has killed this process
		t.Errorf("we are alive, and there is %+v", got)
	}
	if err := os.WriteFile(a.lifeFile(), []byte("{half"), 0o600); err != nil {
		t.Fatal(err)
	}
	if got := a.lastLife(); got != nil {
		t.Errorf("a file that was cut off tells %+v", got)
	}
}
