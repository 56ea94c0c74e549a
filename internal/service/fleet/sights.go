package fleet

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/wire"
)

// placesMark changes with the places of projects, so that nodes look at them again.
func (d *Desk) placesMark() string { return fmt.Sprintf("%d.%d", d.began, d.placesSeq) }

func aboutPlaces(r farm.Record) bool {
	switch r.(type) {
	case farm.PlaceSet, farm.PlaceDropped, farm.ProjectSet, farm.ProjectDropped:
		return true
	}
	return false
}

// NodePlaces returns the places that a node is to look at.
func (d *Desk) NodePlaces(ctx context.Context, id farm.NodeID) (out wire.NodePlaces, err error) {
	err = d.do(ctx, func(t *transaction) error {
		n := t.State.Nodes[id]
		out = wire.NodePlaces{Mark: d.placesMark(), Places: []wire.NodePlace{}}
		if n == nil {
			return nil
		}
		at := map[string]int{}
		add := func(name string) *wire.NodePlace {
			i, known := at[name]
			if !known {
				i = len(out.Places)
				at[name] = i
				place := wire.NodePlace{Name: name}
				if p := t.State.Places[name]; p != nil {
					place.Path = p.Paths[n.Facts.OS]
				}
				out.Places = append(out.Places, place)
			}
			return &out.Places[i]
		}
		for _, name := range slices.Sorted(maps.Keys(t.State.Projects)) {
			p := t.State.Projects[name]
			add(p.Scenes).Reads = true
			add(p.Frames).Writes = true
		}
		return nil
	})
	return out, err
}

// Sight counts the nodes that are online and could take a run: those that see its scene in
// its place, and those that do not.
func (d *Desk) Sight(ctx context.Context, spec farm.Spec) (see, blind int, err error) {
	err = d.do(ctx, func(t *transaction) error {
		here := farm.RunSubmitted{Spec: spec}.Opened()
		spec.Bundle = "any"
		sent := farm.RunSubmitted{Spec: spec}.Opened()
		some := false
		for id := range t.State.Sights {
			some = some || t.State.Blind(t.State.Nodes[id], here) != ""
		}
		if !some {
			return nil
		}
		for _, n := range t.State.NodeList() {
			switch {
			case n.Reach != farm.Online || !n.RetiredAt.IsZero() || !capacity.Fits(t.State, n, sent):
			case t.State.Blind(n, here) != "":
				blind++
			default:
				see++
			}
		}
		return nil
	})
	return see, blind, err
}

// Seen takes in what a node sees of places. A node that can read a place which it could
// not read before may be dealt work at once.
func (d *Desk) Seen(ctx context.Context, id farm.NodeID, session int64, sights []farm.PlaceSight) error {
	return d.do(ctx, func(t *transaction) error {
		n, err := t.session(id, session)
		if err != nil {
			return err
		}
		if d.s.Sights == nil {
			d.s.Sights = map[farm.NodeID][]farm.PlaceSight{}
		}
		before := troubles(d.s.Sights[id])
		if d.s.Sights[id] = sights; !maps.Equal(before, troubles(sights)) {
			t.Append(farm.NodeFound{Node: id, Renderers: n.Facts.Renderers, At: t.Now}) // lets it be dealt to
		}
		return nil
	})
}

// troubles returns what keeps a node from places, by their names.
func troubles(sights []farm.PlaceSight) map[string]string {
	out := map[string]string{}
	for _, seen := range sights {
		if seen.Why != "" {
			out[seen.Place] = seen.Why
		}
	}
	return out
}
