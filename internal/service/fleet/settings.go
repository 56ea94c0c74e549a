package fleet

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/hours"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// parts of settings that can be taken over from another node.
var settingParts = []string{"traits", "pools", "caps", "hours"}

// Change changes the settings of nodes, or says what it would change. All or
// nothing.
func (d *Desk) Change(ctx context.Context, in wire.NodeChange, by farm.Person) (wire.NodesActed, error) {
	return d.change(ctx, in, nil, by)
}

// SetHours gives a node duty hours, or says what that would change.
func (d *Desk) SetHours(
	ctx context.Context, id farm.NodeID, h *hours.Hours, dryRun bool, by farm.Person,
) (wire.NodesActed, error) {
	return d.change(ctx, wire.NodeChange{Selection: wire.Selection{Nodes: []int64{int64(id)}}, DryRun: dryRun}, h, by)
}

func (d *Desk) change(
	ctx context.Context, in wire.NodeChange, week *hours.Hours, by farm.Person,
) (wire.NodesActed, error) {
	out := wire.NodesActed{DryRun: in.DryRun, Effects: []wire.NodeEffect{}}
	if in.Hours != nil {
		h, err := readHours(*in.Hours)
		if err != nil {
			return out, refusal.New(refusal.Invalid, "hours", "%v", err)
		}
		week = &h
	}
	for _, p := range in.Parts {
		if !slices.Contains(settingParts, p) {
			return out, refusal.New(
				refusal.Invalid, "parts", "the parts of the settings are %s; %q is not one of them",
				strings.Join(settingParts, ", "), p,
			)
		}
	}
	if len(in.Permit)+len(in.Forbid) > 0 && !by.Role.Allows(farm.Admin) {
		return out, refusal.New(
			refusal.Forbidden, "permit",
			"only an administrator of the farm can allow renderers another account or group; ask one to do it",
		)
	}
	err := d.do(ctx, func(t *transaction) error {
		picked, err := t.pick(in.Selection)
		if err != nil {
			return err
		}
		var from *farm.Node
		if in.From != 0 {
			if from = t.State.Nodes[farm.NodeID(in.From)]; from == nil || !from.RetiredAt.IsZero() {
				return refusal.New(refusal.NotFound, "from", "there is no node %d to take settings from", in.From)
			}
		}
		var records []farm.Record
		changed := 0
		for _, n := range picked {
			next := changedSettings(n.Settings, in, from, week)
			if field, err := next.Check(); err != nil {
				return refusal.New(refusal.Invalid, field, "%s: %v; nothing was changed", n.Name, err)
			}
			for _, p := range next.Pools {
				if t.State.Pools[p] == nil {
					return refusal.New(
						refusal.Invalid, "pools", "there is no pool %q; make it with: vexillum pool set %s", p, p,
					)
				}
			}
			effect := wire.NodeEffect{Node: int64(n.ID), Name: n.Name, Sentence: "stays as it is"}
			if different := farm.Differences(n.Settings, next); len(different) > 0 {
				changed++
				effect.Changes, effect.Sentence = true, strings.Join(different, "; ")
				records = append(
					records,
					farm.NodeSet{
						Node: n.ID, Version: n.Version + 1, Settings: next, Actor: by.Name,
						Reason: effect.Sentence, At: t.Now,
					},
					farm.Audited{
						Actor: by.Name, Action: "set node", Subject: n.Name,
						From: fmt.Sprintf("version %d", n.Version),
						To:   fmt.Sprintf("version %d: %s", n.Version+1, effect.Sentence), Node: n.ID,
						At: t.Now,
					},
				)
			}
			out.Effects = append(out.Effects, effect)
		}
		out.Sentence = actSentence(wire.NodeAct{Do: "set", DryRun: in.DryRun}, "changed", len(picked), changed, 0)
		if !in.DryRun {
			t.Append(records...)
			t.Append(t.State.DutyChanges(t.Now)...)
		}
		return nil
	})
	return out, err
}

// changedSettings returns what settings become.
func changedSettings(s farm.Settings, in wire.NodeChange, from *farm.Node, week *hours.Hours) farm.Settings {
	without := func(list, drop []string) []string {
		return slices.DeleteFunc(slices.Clone(list), func(v string) bool {
			return slices.ContainsFunc(drop, func(d string) bool { return v == d || strings.HasPrefix(v, d+"=") })
		})
	}
	if from != nil {
		o := from.Settings
		for _, p := range in.Parts {
			switch p {
			case "traits":
				s.Traits = slices.Clone(o.Traits)
			case "pools":
				s.Pools = slices.Clone(o.Pools)
			case "caps":
				s.Caps = o.Caps
			case "hours":
				s.Hours = o.Hours
			}
		}
	}
	for _, add := range in.AddTraits { // another value of the same name replaces it
		name, _, _ := strings.Cut(add, "=")
		s.Traits = append(without(s.Traits, []string{strings.TrimSpace(name)}), strings.ReplaceAll(add, " ", ""))
	}
	s.Traits = without(s.Traits, in.DropTraits)
	s.Pools = without(append(slices.Clone(s.Pools), in.AddPools...), in.DropPools)
	s.Permits = slices.DeleteFunc(slices.Clone(s.Permits), func(p farm.Permission) bool {
		return p == "root" || p == "code" // of a farm from before permissions named accounts
	})
	for _, p := range in.Permit {
		s.Permits = append(slices.Clone(s.Permits), farm.Permission(p))
	}
	s.Permits = slices.DeleteFunc(
		slices.Clone(s.Permits), func(p farm.Permission) bool { return slices.Contains(in.Forbid, string(p)) },
	)
	if c := in.Caps; c != nil {
		wire.Set(&s.Caps.Cores, c.Cores)
		wire.Set(&s.Caps.MemoryBytes, c.MemoryBytes)
		wire.Set(&s.Caps.Nice, c.Nice)
		wire.Set(&s.Caps.StagingBytes, c.StagingBytes)
		wire.Set(&s.Caps.Leases, c.Leases)
		wire.Set(&s.Caps.SpareBytes, c.SpareBytes)
		wire.Set(&s.Caps.KeptDevices, c.KeptDevices)
	}
	if week != nil {
		s.Hours = week
	}
	if in.Always {
		s.Hours = nil
	}
	s.Tidy()
	return s
}

// readHours reads hours as they travel.
func readHours(in wire.Hours) (hours.Hours, error) {
	week, err := hours.ParseWeek(in.Week)
	if err != nil {
		return hours.Hours{}, err
	}
	h := hours.Hours{Zone: in.Zone, Week: week, Exceptions: []hours.Exception{}}
	for _, e := range in.Exceptions {
		x := hours.Exception{Note: e.Note, Windows: []hours.Window{}}
		if err := x.Date.UnmarshalText([]byte(e.Date)); err != nil {
			return h, err
		}
		if strings.TrimSpace(e.Windows) != "" {
			for one := range strings.SplitSeq(e.Windows, ",") {
				w, err := hours.ParseWindow(strings.TrimSpace(one))
				if err != nil {
					return h, fmt.Errorf("%s: %w", e.Date, err)
				}
				x.Windows = append(x.Windows, w)
			}
		}
		h.Exceptions = append(h.Exceptions, x)
	}
	h.Tidy()
	return h, h.Check()
}
