package capacity

import (
	"testing"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// TestANodeIsChargedOnce has leases of two runs on one node, which has three
// graphics devices.
func TestANodeIsChargedOnce(t *testing.T) {
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		per                 farm.Counting
		takes               farm.Amounts
		devices             []string // of each lease
		used, further, free int
	}{
		{farm.PerNode, farm.Amounts{Cores: 1}, nil, 1, 0, 6},
		{farm.PerProcess, farm.Amounts{Cores: 1}, nil, 2, 1, 5},
		{farm.PerDevice, farm.Amounts{Cores: 1, Devices: 2}, []string{"0"}, 2, 2, 5},
		// a lease that has the node for itself owns all of them
		{farm.PerDevice, farm.Amounts{}, []string{"0"}, 2, 3, 5},
		{farm.PerDevice, farm.Amounts{Cores: 1}, nil, 2, 1, 5},
	} {
		s := farm.NewState()
		s.Licences["tidal"] = &farm.Licence{Name: "tidal", Count: 7}
		node := &farm.Node{
			ID: 1, Name: "loom-01", Reach: farm.Online, Session: 1,
			Facts: farm.Facts{Cores: 8, Devices: []farm.Device{{ID: "0"}, {ID: "1"}, {ID: "2"}}},
		}
		s.PutNode(node)
		for i := range 2 {
			id := farm.RunID(i + 1)
			set := frames.Of(frames.Span{First: 1, Last: 9})
			spec := farm.Spec{
				Job: string(rune('a' + i)), Project: "salt-clock", Kind: farm.Final, Number: 1, Frames: set,
				Takes: c.takes, Licence: &farm.LicenceNeed{Name: "tidal", Per: c.per},
			}
			for _, r := range []farm.Record{
				farm.RunSubmitted{Run: id, Spec: spec, State: farm.RunQueued, At: now},
				farm.LeaseOpened{
					Lease: farm.LeaseID(id), Node: 1, Run: id, Session: 1, Frames: frames.One(1), At: now,
					Share: farm.Share{Cores: frames.One(i), Devices: c.devices},
				},
			} {
				if lease, ok := r.(farm.LeaseOpened); ok && c.devices != nil {
					lease.Share.Devices = []string{string(rune('0' + i))}
					r = lease
				}
				if err := s.Apply(r); err != nil {
					t.Fatal(err)
				}
			}
		}
		free, _ := LicencesFree(s, s.Runs[1], 0, now)
		if used, further := LicencesUsed(s, "tidal", 0), LicencesFor(s, s.Runs[1], node, 0); used != c.used ||
			further != c.further ||
			free != c.free {
			t.Errorf(
				"%s, %v: %d are used, a further lease takes %d, %d are free; want %d, %d, %d", c.per, c.takes, used,
				further, free, c.used, c.further, c.free,
			)
		}
		if used := LicencesUsed(s, "tidal", 1); c.per != farm.PerNode && used != c.used-1 ||
			c.per == farm.PerNode && used != 1 {
			t.Errorf("%s: without one lease %d are used", c.per, used)
		}
	}
}
