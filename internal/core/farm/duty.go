package farm

import (
	"cmp"
	"slices"
	"time"
)

// DutyChanges returns the Records that let desk nodes come on duty and go off it at
// the times of their hours. A node that a person holds stays held.
func (s *State) DutyChanges(now time.Time) []Record {
	var out []Record
	for _, n := range s.Nodes {
		if n.Duty != OnDuty && n.Duty != OffDuty || !n.RetiredAt.IsZero() {
			continue
		}
		duty, why := n.DutyAt(now)
		if duty == n.Duty {
			continue
		}
		r := NodeDuty{Node: n.ID, Duty: duty, Now: duty == OffDuty, Reason: why, At: now}
		if duty == OffDuty && now.Before(n.OffUntil) {
			r.OffUntil = &n.OffUntil
		}
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b Record) int { return cmp.Compare(a.About().Node, b.About().Node) })
	return out
}

// DutyAt returns whether a node that nobody holds is on duty at a time, and
// why it is not.
func (n *Node) DutyAt(now time.Time) (Duty, string) {
	if now.Before(n.OffUntil) {
		return OffDuty, n.DutyReason
	}
	if n.Settings.Hours == nil {
		return OnDuty, ""
	}
	switch on, until := n.Settings.Hours.At(now); {
	case on:
		return OnDuty, ""
	case until.IsZero():
		return OffDuty, "its duty hours name no time in the next two weeks"
	default:
		return OffDuty, "its duty hours begin again " + Moment(until)
	}
}
