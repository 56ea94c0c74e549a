package farm

import (
	"testing"
	"time"

	"vexillum/internal/core/frames"
)

// TestANodeIsChargedOnce has leases of two runs on one node, which has three
// graphics devices.
func TestANodeIsChargedOnce(t *testing.T) {
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		per                 Counting
		takes               Amounts
		devices             []string // of each lease
		used, further, free int
	}{
		{PerNode, Amounts{Cores: 1}, nil, 1, 0, 6},
		{PerProcess, Amounts{Cores: 1}, nil, 2, 1, 5},
		{PerDevice, Amounts{Cores: 1, Devices: 2}, []string{"0"}, 2, 2, 5},
		{PerDevice, Amounts{}, []string{"0"}, 2, 3, 5}, // a lease that has the node for itself owns all of them
		{PerDevice, Amounts{Cores: 1}, nil, 2, 1, 5},
	} {
		s := NewState()
		s.Licences["tidal"] = &Licence{Name: "tidal", Count: 7}
		node := &Node{
			ID: 1, Name: "loom-01", Reach: Online, Session: 1,
			Facts: Facts{Cores: 8, Devices: []Device{{ID: "0"}, {ID: "1"}, {ID: "2"}}},
		}
		s.PutNode(node)
		for i := range 2 {
			id := RunID(i + 1)
			set := frames.Of(frames.Span{First: 1, Last: 9})
			spec := Spec{
				Job: string(rune('a' + i)), Project: "salt-clock", Kind: Final, Number: 1, Frames: set,
				Takes: c.takes, Licence: &LicenceNeed{"tidal", c.per},
			}
			for _, r := range []Record{
				RunSubmitted{Run: id, Spec: spec, State: RunQueued, At: now},
				LeaseOpened{
					Lease: LeaseID(id), Node: 1, Run: id, Session: 1, Frames: frames.One(1), At: now,
					Share: Share{Cores: frames.One(i), Devices: c.devices},
				},
			} {
				if lease, ok := r.(LeaseOpened); ok && c.devices != nil {
					lease.Share.Devices = []string{string(rune('0' + i))}
					r = lease
				}
				if err := s.Apply(r); err != nil {
					t.Fatal(err)
				}
			}
		}
		free, _ := s.LicencesFree(s.Runs[1], 0, now)
		if used, further := s.LicencesUsed("tidal", 0), s.LicencesFor(
			s.Runs[1], node, 0,
		); used != c.used || further != c.further ||
			free != c.free {
			t.Errorf(
				"%s, %v: %d are used, a further lease takes %d, %d are free; want %d, %d, %d", c.per, c.takes, used,
				further, free, c.used, c.further, c.free,
			)
		}
		if used := s.LicencesUsed("tidal", 1); c.per != PerNode && used != c.used-1 || c.per == PerNode && used != 1 {
			t.Errorf("%s: without one lease %d are used", c.per, used)
		}
	}
}
