package store

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"
	"time"

	"vexillum/internal/core/blame"
	"vexillum/internal/core/capacity"
	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/hours"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/protocol/accept"
	"vexillum/internal/core/triage"
)

// keeper applies Records to a State and commits them, as the service does.
type keeper struct {
	t     *testing.T
	s     *Store
	lead  Lead
	state *farm.State

	used    map[farm.Kind]bool
	batch   int           // Records that are committed together; 0 commits each call by itself
	waiting []farm.Record // of the batch
}

func (k *keeper) do(records ...farm.Record) {
	k.t.Helper()
	for _, r := range records {
		if err := k.state.Apply(r); err != nil {
			k.t.Fatal(err)
		}
		if k.used != nil {
			k.used[r.Kind()] = true
		}
	}
	if k.waiting = append(k.waiting, records...); len(k.waiting) >= k.batch {
		k.flush()
	}
}

func (k *keeper) flush() {
	k.t.Helper()
	if err := k.s.Commit(context.Background(), &k.lead, k.waiting); err != nil {
		k.t.Fatal(err)
	}
	k.waiting = nil
	if k.lead.Seq != k.state.Seq {
		k.t.Fatalf("committed up to %d, applied up to %d", k.lead.Seq, k.state.Seq)
	}
}

func studio() []farm.Record {
	expires := now.Add(24 * 365 * 20 * time.Hour)
	return []farm.Record{
		farm.PlaceSet{Name: "scenes", Paths: map[string]string{"linux": "/srv/scenes"}, At: now},
		farm.PlaceSet{Name: "frames", Paths: map[string]string{"linux": "/srv/frames"}, At: now},
		farm.ProjectSet{
			Name: "salt-clock", Title: "The Salt Clock", Weight: 1, Scenes: "scenes", Frames: "frames", At: now,
			Members: map[string]farm.ProjectRole{"nadia": farm.Lead}, Closed: true,
		},
		farm.PreflightRuleSet{Rule: farm.PreflightRule{Held: true}, At: now},
		farm.PreflightRuleSet{Rule: farm.PreflightRule{Night: "18:30", Zone: "Europe/Dublin"}, At: now},
		farm.PersonSet{Name: "nadia", Role: farm.Artist, PasswordHash: "x", At: now},
		farm.PersonSet{Name: "nadia", Role: farm.Wrangler, PasswordHash: "y", At: now},
		farm.TokenIssued{Hash: "t1", Of: farm.AccessToken, Person: "nadia", At: now},
		farm.TokenIssued{Hash: "t2", Of: farm.SessionToken, Person: "nadia", At: now, ExpiresAt: &expires},
		farm.TokenRevoked{Hash: "t1", At: now},
		farm.KeyIssued{Hash: "k", Label: "first", CreatedBy: "nadia", Uses: 1000, At: now, ExpiresAt: expires},
	}
}

func (k *keeper) randomStep(r *rand.Rand, m *pace.Model, ask int64) {
	n := farm.NodeID(1 + r.IntN(3))
	for _, run := range k.state.Queue() {
		if state, settled := run.Settled(); settled {
			var records []farm.Record
			for l := range run.OpenLeases {
				records = append(records, farm.LeaseEnded{Lease: l.ID, Node: l.Node, Run: run.ID, At: now})
			}
			k.do(
				append(
					records, farm.RunMoved{Run: run.ID, State: state, Reason: "all frames have a result", At: now},
				)...)
			return
		}
		if r.IntN(60) == 0 {
			k.do(farm.RunKept{Run: run.ID, Done: run.Done.Multirange(), Seq: k.state.Seq, At: now})
		}
		if r.IntN(80) == 0 { // both in one batch: the last must win
			k.do(
				farm.RunMoved{Run: run.ID, State: farm.RunHeld, Reason: "held", At: now},
				farm.RunMoved{Run: run.ID, State: farm.RunQueued, Reason: "released", At: now},
			)
		}
		if r.IntN(40) == 0 {
			k.do(farm.RunStitched{Run: run.ID, Files: []string{"a.png"}, Reason: "put together", At: now})
		}
		if !run.Done.Empty() && r.IntN(30) == 0 {
			k.do(farm.FramesRedone{Run: run.ID, Frames: run.Done.Take(1 + r.IntN(3)), At: now})
		}
		if r.IntN(90) == 0 {
			k.do(farm.RunMoved{Run: run.ID, State: farm.RunHeld, Held: farm.HeldFailing, Reason: "it fails", At: now})
		}
		if r.IntN(80) == 0 { // its scene has changed, and somebody goes on with it
			scene := fmt.Sprint("scene ", r.IntN(3))
			k.do(farm.RunMoved{Run: run.ID, State: farm.RunHeld, Held: farm.HeldChanged, Scene: scene, At: now})
			k.do(farm.RunMoved{Run: run.ID, State: farm.RunQueued, Scene: scene, Reason: "released", At: now})
		}
		if !run.Parked.Empty() && r.IntN(20) == 0 {
			k.do(farm.FramesRetried{Run: run.ID, Frames: run.Parked, At: now})
		}
	}
	if r.IntN(4) == 0 { // somebody races for the last frame of another's lease
		for _, run := range k.state.Queue() {
			for l := range run.OpenLeases {
				if f := l.Left; f.Len() == 1 && l.Node != n && run.Spec.Takes.Whole() &&
					len(k.state.LeasesOf(n)) == 0 &&
					!run.Raced(f.First()) {
					k.do(
						farm.LeaseOpened{
							Lease: k.state.LastLease + 1, Node: n, Run: run.ID,
							Session: k.state.Nodes[n].Session, Ask: ask, Frames: f, Race: true, At: now,
						},
					)
					return
				}
			}
		}
	}
	leases := k.state.LeasesOf(n)
	if len(leases) == 0 || r.IntN(4) == 0 && capacity.HasRoom(k.state, k.state.Nodes[n]) {
		if d := deal.New(k.state, m, nil).Next(deal.Ask{Node: n, Number: ask}, now); len(d.Records) > 0 {
			k.do(d.Records...)
		}
		return
	}
	l := leases[0]
	run := k.state.Runs[l.Run]
	switch {
	case r.IntN(30) == 0:
		var holding []farm.LeaseID
		if r.IntN(2) == 0 {
			holding = append(holding, leases[0].ID)
		}
		records, _ := accept.Start(k.state, k.state.Nodes[n], k.state.Nodes[n].Facts, holding, now)
		k.do(records...)
	case l.Left.Empty():
		if d := deal.New(k.state, m, nil).
			Next(deal.Ask{Node: n, Number: ask, Warm: l.ID}, now); len(d.Records) > 0 &&
			r.IntN(2) == 0 {
			k.do(d.Records...)
		} else {
			k.do(farm.LeaseEnded{Lease: l.ID, Node: n, Run: l.Run, At: now})
		}
	case r.IntN(7) == 0:
		k.do(
			triage.Failed(
				k.state,
				triage.Failure{
					Lease: l.ID, Launch: 1, Frame: l.Left.First(),
					Cause:   []string{triage.CauseCrash, triage.CauseOutput}[r.IntN(2)],
					Message: "it’s \"quoted\"",
				},
				now,
			)...)
	case r.IntN(20) == 0 && l.Left.Len() > 1:
		k.do(farm.LeaseTrimmed{Lease: l.ID, Node: n, Run: l.Run, Frames: l.Left.Minus(l.Left.Take(1)), At: now})
	default:
		f := l.Left.First()
		k.do(
			farm.FrameAccepted{
				Run: run.ID, Frame: f, Lease: l.ID, Node: n, Launch: 1,
				Hash: fmt.Sprint("hash", f), Bytes: 10, RenderSeconds: 1, At: now,
				Files:   []farm.File{{Hash: "a", Bytes: 4}, {Pass: "depth", Hash: "b", Bytes: 6}}[:2*(f&1)],
				Suspect: []string{"", "a warning"}[f%3&1],
			},
		)
		if r.IntN(4) > 0 {
			k.do(farm.FrameDone{Run: run.ID, Frame: f, Lease: l.ID, Node: n, Hash: fmt.Sprint("hash", f), At: now})
		}
	}
	for _, run := range k.state.Queue() {
		for f, d := range run.Delivering {
			if r.IntN(40) == 0 {
				k.do(farm.DeliveryLost{Run: run.ID, Frame: f, Node: d.Node, Hash: d.Hash, Reason: "x", At: now})
				break
			}
		}
	}
	for _, run := range k.state.Queue() {
		if odd := run.Suspects(); !odd.Empty() && r.IntN(6) == 0 {
			k.do(farm.SuspectAccepted{Run: run.ID, Frames: odd.Take(1), Reason: "seen", At: now})
		}
		if free := run.ToDo.Union(run.Parked); !free.Empty() && r.IntN(30) == 0 {
			k.do(
				farm.FramesSkipped{Run: run.ID, Frames: free.TakeLast(2), Note: "it’s \"cut\"", Reason: "cut", At: now},
			)
			if r.IntN(2) == 0 {
				k.do(farm.FramesRetried{Run: run.ID, Frames: free.TakeLast(1), At: now})
			}
		}
	}
	for _, run := range k.state.Queue() { // frames that were left on their way
		for f, d := range run.Delivering {
			if r.IntN(10) == 0 {
				k.do(farm.FrameDone{Run: run.ID, Frame: f, Lease: d.Lease, Node: d.Node, Hash: d.Hash, At: now})
				return
			}
		}
	}
}

// randomHand lets something need a hand, or does something about it.
func (k *keeper) randomHand(r *rand.Rand, n farm.NodeID) {
	of := farm.HandOf{Kind: "silent", Node: n}
	if list := k.state.Queue(); len(list) > 0 && r.IntN(3) == 0 {
		of = farm.HandOf{Kind: farm.HandParked, Run: list[0].ID}
	}
	if r.IntN(3) == 0 {
		of = farm.HandOf{Kind: "waiting", Subject: "place", Name: "it’s \"quoted\""}
	}
	name := fmt.Sprint("night ", r.IntN(2))
	switch r.IntN(12) {
	case 0:
		if k.state.Channels[name] != nil {
			k.do(farm.ChannelDropped{Name: name, At: now})
		}
	case 1:
		k.do(farm.ChannelSet{At: now, Channel: farm.Channel{
			Name: name, Of: farm.ChannelMail, To: "nadia@pellmarsh.example", Person: "nadia", OnCall: r.IntN(2) == 0,
			Events: []farm.Event{
				farm.EventFailed,
			}, Quiet: farm.Quiet{From: "22:00", To: "07:00", Zone: "Europe/Dublin"},
		}}, farm.OnCallSet{Calendar: fmt.Sprint("it’s ", r.IntN(9)), At: now})
	}
	h := k.state.Hands[of]
	if h == nil || r.IntN(4) == 0 {
		raised := farm.Hand{
			ID: k.state.LastHand + 1, Of: of, Project: "salt-clock", Sentence: "It is silent.",
			Evidence: "It’s so.", Count: 1, RaisedAt: now, LastAt: now,
		}
		if h != nil {
			raised.ID, raised.Count = h.ID, h.Count+1
		}
		k.do(farm.HandRaised{Hand: raised})
		return
	}
	if r.IntN(5) == 0 {
		k.do(
			farm.HandEnded{
				Hand:     h.ID,
				Of:       of,
				Sentence: []string{"", "It’s over."}[r.IntN(2)],
				Evidence: "seen",
				At:       now,
			},
		)
		return
	}
	do := farm.HandActs()[r.IntN(len(farm.HandActs()))]
	acted := farm.HandActed{Hand: h.ID, Of: of, Do: do, By: "nadia", At: now}
	switch do {
	case farm.HandSnooze:
		acted.Until = now.Add(time.Hour)
	case farm.HandResolve:
		acted.Note = "it’s \"mended\""
	}
	k.do(acted)
}

// randomNode changes a node, or what it belongs to, often twice in one batch.
func (k *keeper) randomNode(r *rand.Rand, step int) {
	n := k.state.Nodes[farm.NodeID(1+r.IntN(3))]
	k.randomHand(r, n.ID)
	until := now.Add(time.Duration(step) * time.Minute)
	switch r.IntN(9) {
	case 0:
		k.do(
			farm.NodeReach{Node: n.ID, Reach: farm.Silent, Reason: "nothing was heard", At: now},
			farm.NodeReach{Node: n.ID, Reach: farm.Online, Reason: "heard again", At: until},
			farm.NodeDuty{Node: n.ID, Duty: farm.Held, Now: true, Reason: "by nadia", At: now},
			farm.NodeDuty{Node: n.ID, Duty: farm.OnDuty, Reason: "released", OffUntil: &until, At: until},
		)
	case 1:
		k.do(
			farm.NodeHealth{Node: n.ID, Health: farm.Sidelined, Reason: "smells", At: now},
			farm.NodeHealth{
				Node: n.ID, Health: farm.Sidelined, By: farm.ByTriage, Reason: "smells again", TrialAt: &until,
				Pause: 600,
				At:    now,
			},
			farm.NodeHealth{
				Node:    n.ID,
				Health:  farm.Sidelined,
				By:      farm.ByTriage,
				Device:  "gpu-0",
				TrialAt: &until,
				At:      now,
			},
			farm.NodeHealth{Node: n.ID, Health: farm.Fine, By: farm.ByTriage, Device: "gpu-1", Pause: 3, At: now},
			farm.NodeHealth{Node: n.ID, Health: farm.Fine, By: farm.ByTriage, Reason: "aired", At: now},
		)
		k.do(
			farm.PersonSet{Name: "ines", Role: farm.Viewer, PasswordHash: "x", At: now},
			farm.TokenIssued{
				Hash: fmt.Sprint("hers ", step), Of: farm.AccessToken, Person: "ines", At: now,
			},
			farm.PersonRemoved{
				Name: "ines", At: now,
			},
			farm.PersonSet{Name: "ines", Role: farm.Artist, PasswordHash: "y", At: now},
		)
	case 2:
		pool := fmt.Sprintf("pool-%d", r.IntN(3))
		k.do(farm.PoolSet{Name: pool, Projects: []string{"salt-clock"}[:r.IntN(2)], Alone: r.IntN(2) == 0, At: now})
		week, _ := hours.ParseWeek("mon-fri 18:00-08:00")
		k.do(
			farm.NodeSet{
				Node: n.ID, Version: n.Version + 1, Actor: "nadia", Reason: "x", At: now,
				Settings: farm.Settings{
					Traits: []string{
						"quiet",
					},
					Pools: []string{pool}, Caps: farm.Caps{Cores: step},
					Hours: &hours.Hours{
						Zone: "UTC", Week: week,
						Exceptions: []hours.Exception{{Date: hours.DateOf(until), Windows: []hours.Window{}}},
					},
				},
			},
		)
		k.do(
			farm.NodeSet{
				Node: n.ID, Version: n.Version + 1, Actor: "nadia", Reason: "y", At: now,
				Settings: farm.Settings{Traits: []string{}, Pools: []string{}},
			},
		)
	case 3: // names change hands
		a, b := n.Name, fmt.Sprintf("kiln-%d", step+100)
		k.do(farm.NodeRenamed{Node: n.ID, Name: b, At: now})
		id := k.state.LastNode + 1
		k.do(farm.NodeAnnounced{Node: id, Name: a, Of: farm.Desk, At: now})
		k.do(farm.NodeEnrolled{Node: id, Name: a, Of: farm.Rack, Facts: n.Facts, KeyHash: "k", At: now})
		k.do(farm.TokenIssued{Hash: fmt.Sprint("node token ", id), Of: farm.NodeToken, Node: id, At: now})
		k.do(farm.NodeRetired{Node: id, Reason: "sold", At: now})
		k.do(farm.NodeRenamed{Node: n.ID, Name: a, At: now})
	case 4:
		for name := range k.state.Pools {
			if len(k.state.Members(name)) == 0 {
				k.do(farm.PoolDropped{Name: name, At: now})
				break
			}
		}
	case 5:
		hash := fmt.Sprint("key ", step)
		k.do(
			farm.KeyIssued{
				Hash: hash, Uses: 2, Pools: []string{"pool-1"}, Returns: []string{"kiln-01"}[:r.IntN(2)], At: now,
				ExpiresAt: time.Now().Add(time.Hour),
			},
			farm.KeyRevoked{Hash: hash, At: now},
		)
		k.do(
			farm.FreezeSet{
				Of:     farm.FreezeScope{Kind: farm.FreezePool, Name: []string{"a", "b"}[r.IntN(2)]},
				Freeze: []farm.Freeze{{}, {Held: true, By: "nadia"}, {Step: 2, Every: 30}}[r.IntN(3)], At: now,
			},
		)
		gone := farm.Surrounding{
			Kind:    farm.SurroundingRenderer,
			Name:    "practice",
			Version: []string{"1", "2"}[r.IntN(2)],
		}
		k.do(
			farm.WaitSet{
				Of:   gone,
				Wait: &farm.Wait{Since: now, Until: until, Pause: 15, Cause: "crash", Reason: "all fail"},
				At:   now,
			},
			farm.WaitSet{Of: gone, Wait: []*farm.Wait{nil, {Since: now, Until: until, Tries: 1}}[r.IntN(2)], At: now},
		)
		of := []farm.LaunchScope{{}, {Recipe: "practice"}, {Project: "salt-clock"}}[r.IntN(3)]
		k.do(
			farm.LaunchSettingsSet{
				Of:  of,
				Env: []farm.LaunchSettings{{}, {Account: "render", Mask: "002", Variables: map[string]string{"A": "b"}}}[r.IntN(2)],
				At:  now,
			},
		)
		name := []string{"glass", "vase"}[r.IntN(2)]
		version := 1
		if known := k.state.Recipes[name]; known != nil {
			version = known.Newest().Number + 1
		}
		k.do(
			farm.RecipeSet{
				Name: name, Version: version, Text: "a", Origin: farm.RecipeShipped, By: "vexillum", At: now,
			},
			farm.RecipeSet{
				Name: name, Version: version + 1, Text: "b", Origin: farm.RecipePerson, By: "nadia", Note: "b", At: now,
			},
			farm.NodeFound{Node: n.ID, Renderers: []farm.Renderer{{Recipe: name, Version: "4.1", Path: "/x"}}, Speed: 1.75, At: now},
		)
		if r.IntN(2) == 0 {
			k.do(farm.RecipeDropped{Name: name, At: now})
		}
		preset := farm.PresetKey{Project: []string{"", "salt-clock"}[r.IntN(2)], Recipe: name, Name: "final"}
		version = 1
		if known := k.state.Presets[preset]; known != nil {
			version = known.Newest().Number + 1
		}
		k.do(farm.RateSet{
			Of:   []farm.RateScope{{Kind: farm.RateFarm}, {Kind: farm.RatePool, Name: "pool-1"}}[r.IntN(2)],
			Rate: []farm.Rate{{}, {Watts: 300}, {PerHour: 0.8, Currency: "EUR"}}[r.IntN(3)], At: now,
		})
		chosen := farm.PresetChoice{Person: "nadia", Project: preset.Project, Recipe: name}
		k.do(
			farm.PresetSet{Of: preset, Version: version, Text: "tries: 4", By: "nadia", Note: "more", At: now},
			farm.PresetChosen{For: chosen, Name: []string{"final", ""}[r.IntN(2)], At: now},
		)
		if r.IntN(2) == 0 {
			k.do(farm.PresetDropped{Of: preset, At: now})
		}
	case 8: // people come and go
		person, hash := fmt.Sprint("oona-", step), fmt.Sprint("token ", step)
		k.do(
			farm.PersonSet{Name: person, Role: farm.Artist, PasswordHash: "x", At: now},
			farm.TokenIssued{Hash: hash, Of: farm.AccessToken, Person: person, Label: "x", At: now},
			farm.ProjectSet{
				Name: "crew", Title: "Crew", Weight: 1, Scenes: "scenes", Frames: "frames", At: now,
				Members: map[string]farm.ProjectRole{person: farm.Member, "nadia": farm.Lead}, Closed: step%2 == 0,
			},
		)
		switch step % 3 {
		case 0:
			k.do(farm.TokenRevoked{Hash: hash, At: now})
		case 1:
			k.do(farm.PersonRemoved{Name: person, At: now})
		}
		k.do(farm.Audited{Actor: person, Action: "look", Subject: "x", At: now})
	case 7: // a project and its place come and go in one batch
		k.do(
			farm.PlaceSet{Name: "loft", Paths: map[string]string{"linux": "/srv/loft"}, At: now},
			farm.ProjectSet{
				Name: "short", Title: "Short", Weight: 1, Scenes: "loft", Frames: "loft",
				Names: "{job}[_{pass}]_####{ending}", At: now,
			},
			farm.LaunchSettingsSet{
				Of: farm.LaunchScope{Project: "short"}, Env: farm.LaunchSettings{Mask: "002"}, At: now,
			},
			farm.FreezeSet{
				Of:     farm.FreezeScope{Kind: farm.FreezePlace, Name: "loft"},
				Freeze: farm.Freeze{Held: true, By: "nadia"}, At: now,
			},
		)
		if step%2 == 0 {
			k.do(farm.ProjectDropped{Name: "short", At: now}, farm.PlaceDropped{Name: "loft", At: now})
		}
	case 6:
		licence := []farm.LicenceSet{{Name: "tidal", Count: 3}, {Name: "tidal", Count: 3, Lowered: 1, LoweredUntil: &until}, {Name: "tidal", Count: -1}}[r.IntN(3)]
		k.do(
			licence,
			farm.PlaceSet{Name: "scenes", Paths: map[string]string{"linux": "/srv/scenes"}, Loads: r.IntN(3), At: now},
		)
		if queue := k.state.Queue(); len(queue) > 0 {
			k.do(
				farm.RunSet{
					Run: queue[0].ID,
					Terms: farm.Terms{
						Level: farm.High, Ceiling: farm.Ceiling{Nodes: step + 1}, Due: until,
						Put:   int64(-step),
						Takes: []*farm.Amounts{nil, {Cores: 2, MemoryBytes: 3 << 30}}[r.IntN(2)],
						Needs: []*string{nil, new("big-memory")}[r.IntN(2)],
					},
					At: now,
				},
			)
		}
		k.do(
			farm.NodeAnnounced{Node: k.state.LastNode + 1, Name: fmt.Sprintf("later-%d", step), Of: farm.Rack, At: now},
		)
	}
}

// shelved lists all versions of recipes.
func shelved(s *farm.State) (out []string) {
	for _, name := range slices.Sorted(maps.Keys(s.Recipes)) {
		r := s.Recipes[name]
		for _, v := range r.Versions {
			out = append(out, fmt.Sprint(r.Name, v.Number, v.Text, v.Origin, v.By, v.Note, v.At.Unix(), r.Dropped()))
		}
	}
	return out
}

// spoken lists who is known, and what speaks for them.
func spoken(s *farm.State) (out []string) {
	for _, p := range s.People {
		out = append(out, fmt.Sprint(p.Name, " ", p.Role, " ", p.PasswordHash))
	}
	for hash, t := range s.Tokens {
		out = append(out, fmt.Sprint(hash, " ", t.Kind, " ", t.Person, t.Node, " ", t.Label))
	}
	slices.Sort(out)
	return out
}

func (k *keeper) compare() {
	k.t.Helper()
	k.flush()
	loaded, err := k.s.Load(context.Background(), k.lead.Seq)
	if err != nil {
		k.t.Fatal(err)
	}
	got, want := loaded.State, k.state
	if got.Seq != want.Seq || got.LastRun != want.LastRun || got.LastLease != want.LastLease ||
		got.LastNode != want.LastNode {
		k.t.Fatalf(
			"counters %d %d %d %d, want %d %d %d %d", got.Seq, got.LastRun, got.LastLease, got.LastNode, want.Seq,
			want.LastRun, want.LastLease, want.LastNode,
		)
	}
	if g, w := evidenceOf(got), evidenceOf(want); !slices.Equal(g, w) {
		for i := range min(len(g), len(w)) {
			if g[i] != w[i] {
				k.t.Fatalf("what speaks for and against whom: %s, want %s", g[i], w[i])
			}
		}
		k.t.Fatalf("%d things speak for and against whom, want %d", len(g), len(w))
	}
	for id, w := range want.Runs {
		g := got.Runs[id]
		for f, d := range w.Delivering {
			if got := g.Delivering[f]; got.Hash != d.Hash || got.Bytes != d.Bytes || !slices.Equal(got.Files, d.Files) {
				k.t.Fatalf("run %d frame %d: delivery %+v, want %+v", id, f, got, d)
			}
		}
		if g.FoundScene != w.FoundScene || g.TakenScene != w.TakenScene || !sameNotes(g.Suspect, w.Suspect) ||
			!slices.EqualFunc(g.Skipped, w.Skipped, sameSkip) {
			k.t.Fatalf(
				"run %d: scenes %q and %q, suspects %v; want %q, %q, %v", id, g.FoundScene, g.TakenScene, g.Suspect,
				w.FoundScene,
				w.TakenScene, w.Suspect,
			)
		}
		if g.Held != w.Held || !g.ReleasedAt.Equal(w.ReleasedAt) || !g.LookedAt.Equal(w.LookedAt) ||
			!g.Redo.Equal(w.Redo) {
			k.t.Fatalf(
				"run %d: held for %q, released %v, redo %v; want %q, %v, %v", id, g.Held, g.ReleasedAt, g.Redo, w.Held,
				w.ReleasedAt, w.Redo,
			)
		}
		if g.State != w.State || !g.Done.Equal(w.Done) || !g.Parked.Equal(w.Parked) || !g.ToDo.Equal(w.ToDo) {
			k.t.Fatalf(
				"run %d: %s done %v parked %v to do %v; want %s done %v parked %v to do %v", id, g.State, g.Done,
				g.Parked, g.ToDo, w.State, w.Done, w.Parked, w.ToDo,
			)
		}
		if g.Terms.Put != w.Terms.Put || g.Terms.Ceiling != w.Terms.Ceiling || g.Terms.Level != w.Terms.Level ||
			!g.Terms.Due.Equal(w.Terms.Due) {
			k.t.Fatalf("run %d: terms %+v, want %+v", id, g.Terms, w.Terms)
		}
		if !reflect.DeepEqual(g.Spec, w.Spec) && g.Spec.Name() != w.Spec.Name() {
			k.t.Fatalf("run %d: spec %+v, want %+v", id, g.Spec, w.Spec)
		}
		if len(g.Delivering) != len(w.Delivering) {
			k.t.Fatalf("run %d: %d deliveries, want %d", id, len(g.Delivering), len(w.Delivering))
		}
		for f, t := range w.Trouble {
			if len(t.Attempts) > 0 && (g.Trouble[f] == nil || g.Trouble[f].Tried() != t.Tried()) {
				k.t.Fatalf("run %d frame %d: trouble %+v, want %+v", id, f, g.Trouble[f], t)
			}
		}
		if w.State.Closed() {
			continue
		}
		for lid, l := range w.Leases {
			if gl := got.Lease(
				lid,
			); gl == nil || gl.Open() != l.Open() || !gl.Left.Equal(l.Left) || !gl.Given.Equal(l.Given) || !gl.Share.Cores.Equal(l.Share.Cores) ||
				gl.Share.MemoryBytes != l.Share.MemoryBytes {
				k.t.Fatalf("run %d lease %d: %+v, want %+v", id, lid, gl, l)
			}
		}
	}
	for id, w := range want.Nodes {
		if g := got.Nodes[id]; written(k.t, g) != written(k.t, w) {
			k.t.Fatalf("node %d: %s, want %s", id, written(k.t, g), written(k.t, w))
		}
		if w.RetiredAt.IsZero() && got.NodeNamed(w.Name).ID != id {
			k.t.Fatalf("%s is another node", w.Name)
		}
	}
	if !reflect.DeepEqual(got.Places, want.Places) || !reflect.DeepEqual(got.Projects, want.Projects) {
		k.t.Fatalf("places %v and projects %v, want %v and %v", got.Places, got.Projects, want.Places, want.Projects)
	}
	if len(got.Licences) != len(want.Licences) {
		k.t.Fatalf("licences %v and loads differ, want %v", got.Licences, want.Licences)
	}
	for name, w := range want.Licences {
		if g := got.Licences[name]; g.Count != w.Count || g.Lowered != w.Lowered ||
			!g.LoweredUntil.Equal(w.LoweredUntil) {
			k.t.Fatalf("licence %+v, want %+v", g, w)
		}
	}
	if !reflect.DeepEqual(got.Channels, want.Channels) || got.OnCall != want.OnCall {
		k.t.Fatalf("channels read %v, want %v", got.Channels, want.Channels)
	}
	if !maps.EqualFunc(got.Hands, want.Hands, sameHand) || got.LastHand != want.LastHand {
		k.t.Fatalf("hands read %v, want %v", got.Hands, want.Hands)
	}
	if !reflect.DeepEqual(got.Waits, want.Waits) {
		k.t.Fatalf("waits read %v, want %v", got.Waits, want.Waits)
	}
	if !reflect.DeepEqual(got.Freezes, want.Freezes) {
		k.t.Fatalf("stays %v, want %v", got.Freezes, want.Freezes)
	}
	if got, want := shelved(got), shelved(want); !slices.Equal(got, want) {
		k.t.Fatalf("recipes %v, want %v", got, want)
	}
	if !reflect.DeepEqual(got.LaunchSettings, want.LaunchSettings) {
		k.t.Fatalf("environments %v, want %v", got.LaunchSettings, want.LaunchSettings)
	}
	if !reflect.DeepEqual(got.Pools, want.Pools) {
		k.t.Fatalf("pools %v, want %v", got.Pools, want.Pools)
	}
	for hash, w := range want.Keys {
		if g := got.Keys[hash]; g.UsesLeft != w.UsesLeft || !g.RevokedAt.Equal(w.RevokedAt) ||
			!slices.Equal(g.Pools, w.Pools) {
			k.t.Fatalf("key %s: %+v, want %+v", hash, g, w)
		}
	}
	if got.Keys["k"].UsesLeft != want.Keys["k"].UsesLeft || got.People["nadia"].Role != farm.Wrangler ||
		got.People["nadia"].PasswordHash != "y" {
		k.t.Fatal("keys or people differ")
	}
	if a, b := spoken(got), spoken(want); !slices.Equal(a, b) {
		k.t.Fatalf("people and their tokens are %q, want %q", a, b)
	}
	if run, _ := got.SubmittedWith("key1"); run == nil {
		k.t.Fatal("submit keys are forgotten")
	}
}

func sameHand(a, b *farm.Hand) bool {
	same := a.RaisedAt.Equal(b.RaisedAt) && a.LastAt.Equal(b.LastAt) && a.EndedAt.Equal(b.EndedAt) &&
		a.TakenAt.Equal(b.TakenAt) && a.SnoozedUntil.Equal(b.SnoozedUntil) && a.ResolvedAt.Equal(b.ResolvedAt)
	x, y := *a, *b
	for _, h := range []*farm.Hand{&x, &y} {
		h.RaisedAt, h.LastAt, h.EndedAt, h.TakenAt, h.SnoozedUntil, h.ResolvedAt = now, now, now, now, now, now
	}
	return same && x == y
}

func sameSkip(a, b farm.Skip) bool { return a.Note == b.Note && a.Frames.Equal(b.Frames) }

// sameNotes compares notes on frames; none is none.
func sameNotes(a, b map[int]string) bool {
	return len(a) == 0 && len(b) == 0 || reflect.DeepEqual(a, b)
}

// evidenceOf lists what speaks for and against whom, but for renderers: of which version one
// was when it failed is not kept.
func evidenceOf(s *farm.State) (out []string) {
	mishaps, e := s.Evidence(nil, nil)
	for i, f := range e.Failures {
		line := fmt.Sprintf(
			"frame %d of %d by %s, good %v:",
			mishaps[i].Frame,
			mishaps[i].Run,
			f.Cause,
			mishaps[i].Good,
		)
		for _, of := range f.Suspects {
			if of.Kind != blame.Renderer {
				line += fmt.Sprintf(" %v (%.3f passed, prior %.2f)", of, e.Passed[of], e.Prior[of])
			}
		}
		out = append(out, line)
	}
	return out
}
