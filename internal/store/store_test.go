package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/hours"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/protocol/accept"
	"vexillum/internal/core/triage"
	"vexillum/internal/testkit/pgtest"
)

func TestMain(m *testing.M) { os.Exit(pgtest.Run(m)) }

var now = time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)

func open(t *testing.T, url string) *Store {
	t.Helper()
	s, err := Open(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	return s
}

func claimed(t *testing.T, url string) (*Store, Lead) {
	t.Helper()
	s := open(t, url)
	if err := s.Migrate(t.Context()); err != nil {
		t.Fatal(err)
	}
	return s, claim(t, s, "test")
}

func claim(t *testing.T, s *Store, holder string) Lead {
	t.Helper()
	seen, err := s.Leader(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	lead, err := s.Claim(t.Context(), seen, holder)
	if err != nil {
		t.Fatal(err)
	}
	return lead
}

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
		},
		farm.PersonSet{Name: "nadia", Role: farm.Artist, PasswordHash: "x", At: now},
		farm.PersonSet{Name: "nadia", Role: farm.Wrangler, PasswordHash: "y", At: now},
		farm.TokenIssued{Hash: "t1", Of: farm.AccessToken, Person: "nadia", At: now},
		farm.TokenIssued{Hash: "t2", Of: farm.SessionToken, Person: "nadia", At: now, ExpiresAt: &expires},
		farm.TokenRevoked{Hash: "t1", At: now},
		farm.KeyIssued{Hash: "k", Label: "first", CreatedBy: "nadia", Uses: 1000, At: now, ExpiresAt: expires},
	}
}

// TestWhatIsLoadedIsWhatWasCommitted lets a farm live at random and, again and
// again, compares the State in memory with the one read from the tables.
func TestWhatIsLoadedIsWhatWasCommitted(t *testing.T) {
	used := map[farm.Kind]bool{}
	defer func() {
		for _, r := range farm.Records() {
			if k := kinds[r.Kind()]; (k.statement == "") == (k.columns == nil) {
				t.Errorf("it is not said how a %q is kept", r.Kind())
			}
			if !used[r.Kind()] {
				t.Errorf("no farm had a %q, so that nobody looked how it is read back", r.Kind())
			}
		}
	}()
	for seed := range uint64(6) {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			s, lead := claimed(t, pgtest.URL(t))
			k := &keeper{t: t, s: s, lead: lead, state: farm.NewState(), used: used}
			k.do(studio()...)
			r := rand.New(rand.NewPCG(seed, 5))
			m := pace.New()
			facts := farm.Facts{
				OS: "linux", Cores: 4, Speed: 1,
				Renderers: []farm.Renderer{{Recipe: "practice", Version: "1"}},
			}
			for id := farm.NodeID(1); id <= 3; id++ {
				k.do(
					farm.NodeEnrolled{
						Node: id, Name: fmt.Sprintf("kiln-%02d", id), Of: farm.Rack, Facts: facts,
						KeyHash: "k", At: now,
					},
					farm.NodeStarted{Node: id, Session: 1, Facts: facts, At: now},
				)
			}
			for i := range 3 {
				set, _ := frames.Parse([]string{"1-40", "1-60/3", "-9--1,5"}[i])
				mode := []farm.Mode{farm.ModeRange, farm.ModeFeed, farm.ModeSingle}[i]
				k.do(
					farm.RunSubmitted{
						Run: farm.RunID(i + 1), State: farm.RunQueued, Order: int64(i), Key: fmt.Sprint("key", i),
						At: now,
						Spec: farm.Spec{
							Job:     fmt.Sprint("job", i),
							Project: "salt-clock", Kind: farm.Final, Number: 1, Recipe: "practice", Mode: mode,
							Frames: set, Tries: 2,
							Takes: []farm.Amounts{{}, {Cores: 1, MemoryBytes: 1 << 20}, {Cores: 2}}[i],
						},
					},
				)
			}
			k.batch = []int{0, 60}[seed%2] // one by one, and many at once
			for step := range 400 {
				k.randomStep(r, m, int64(step))
				if r.IntN(5) == 0 {
					k.randomNode(r, step)
				}
				if step%40 == 0 {
					k.compare()
				}
			}
			k.compare()
		})
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
		if !run.Done.Empty() && r.IntN(30) == 0 {
			k.do(farm.FramesRedone{Run: run.ID, Frames: run.Done.Take(1 + r.IntN(3)), At: now})
		}
		if r.IntN(90) == 0 {
			k.do(farm.RunMoved{Run: run.ID, State: farm.RunHeld, Held: farm.HeldFailing, Reason: "it fails", At: now})
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
					Lease: l.ID, Launch: 1, Frame: l.Left.First(), Cause: triage.CauseCrash,
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
				Files: []farm.File{{Hash: "a", Bytes: 4}, {Pass: "depth", Hash: "b", Bytes: 6}}[:2*(f&1)],
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
	for _, run := range k.state.Queue() { // frames that were left on their way
		for f, d := range run.Delivering {
			if r.IntN(10) == 0 {
				k.do(farm.FrameDone{Run: run.ID, Frame: f, Lease: d.Lease, Node: d.Node, Hash: d.Hash, At: now})
				return
			}
		}
	}
}

// randomNode changes a node, or what it belongs to, often twice in one batch.
func (k *keeper) randomNode(r *rand.Rand, step int) {
	n := k.state.Nodes[farm.NodeID(1+r.IntN(3))]
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
		k.do(farm.PoolSet{Name: pool, Projects: []string{"salt-clock"}[:r.IntN(2)], At: now})
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
		of := []farm.LaunchScope{{}, {Recipe: "practice"}, {Project: "salt-clock"}}[r.IntN(3)]
		k.do(
			farm.LaunchSettingsSet{
				Of:  of,
				Env: []farm.LaunchSettings{{}, {Account: "render", Mask: "002", Variables: map[string]string{"A": "b"}}}[r.IntN(2)],
				At:  now,
			},
		)
	case 8: // people come and go
		person, hash := fmt.Sprint("oona-", step), fmt.Sprint("token ", step)
		k.do(
			farm.PersonSet{Name: person, Role: farm.Artist, PasswordHash: "x", At: now},
			farm.TokenIssued{Hash: hash, Of: farm.AccessToken, Person: person, Label: "x", At: now},
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
			farm.ProjectSet{Name: "short", Title: "Short", Weight: 1, Scenes: "loft", Frames: "loft", At: now},
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
						Put: int64(-step),
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
	for id, w := range want.Runs {
		g := got.Runs[id]
		for f, d := range w.Delivering {
			if got := g.Delivering[f]; got.Hash != d.Hash || got.Bytes != d.Bytes || !slices.Equal(got.Files, d.Files) {
				k.t.Fatalf("run %d frame %d: delivery %+v, want %+v", id, f, got, d)
			}
		}
		if g.Held != w.Held || !g.ReleasedAt.Equal(w.ReleasedAt) || !g.Redo.Equal(w.Redo) {
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
	if !reflect.DeepEqual(got.Freezes, want.Freezes) {
		k.t.Fatalf("stays %v, want %v", got.Freezes, want.Freezes)
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

func TestADeposedServiceCommitsNothing(t *testing.T) {
	url := pgtest.URL(t)
	first, old := claimed(t, url)
	if err := first.Commit(t.Context(), &old, studio()); err != nil {
		t.Fatal(err)
	}
	second := open(t, url)
	seen, err := second.Leader(t.Context())
	if err != nil || seen.Holder != "test" || seen.Epoch != old.Epoch {
		t.Fatalf("saw %+v, %v", seen, err)
	}
	if err := first.Beat(t.Context(), old.Epoch); err != nil {
		t.Fatal(err)
	}
	if _, err := second.Claim(t.Context(), seen, "second"); !errors.Is(err, ErrDeposed) {
		t.Fatalf("a service took over although the other gave a sign of life since: %v", err)
	}
	lead := claim(t, second, "second")
	if lead.Seq != old.Seq || lead.Epoch != old.Epoch+1 {
		t.Errorf("claimed %+v after %+v", lead, old)
	}
	record := farm.PlaceSet{Name: "late", Paths: map[string]string{}, At: now}
	if err := first.Commit(t.Context(), &old, []farm.Record{record}); !errors.Is(err, ErrDeposed) {
		t.Errorf("the deposed service got %v", err)
	}
	if err := first.Beat(t.Context(), old.Epoch); !errors.Is(err, ErrDeposed) {
		t.Errorf("the deposed service's beat got %v", err)
	}
	var n int
	if err := second.db.Get(&n, `SELECT count(*) FROM place WHERE name = 'late'`); err != nil || n != 0 {
		t.Errorf("%d rows of the deposed service, %v", n, err)
	}
}

// TestAStoppedBatchKeepsNobodyFromTakingOver: a service that is stopped in the
// middle of a batch holds the leader's row; the database ends that by itself.
func TestAStoppedBatchKeepsNobodyFromTakingOver(t *testing.T) {
	url := pgtest.URL(t)
	first, old := claimed(t, url)
	tx, err := first.writer.Beginx()
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback() //nolint:errcheck // the database has ended it
	if _, err := tx.Exec(`UPDATE leader SET batch = batch + 1`); err != nil {
		t.Fatal(err)
	}
	second := open(t, url)
	lead := claim(t, second, "second")
	if lead.Epoch != old.Epoch+1 {
		t.Errorf("claimed %+v after %+v", lead, old)
	}
	if err := tx.Commit(); err == nil {
		t.Error("the stopped batch was committed after the take-over")
	}
}

// TestALeaderGivenBackIsFree also looks at a database of the first form, in
// which a service must be able to stand by before it may migrate.
func TestALeaderGivenBackIsFree(t *testing.T) {
	url := pgtest.URL(t)
	s := open(t, url)
	if _, err := s.Leader(t.Context()); !errors.Is(err, ErrNoLeader) {
		t.Fatalf("an empty database: %v", err)
	}
	s.migrateTo(t, 1)
	seen, err := s.Leader(t.Context())
	if err != nil || seen.Epoch != 0 || seen.Address != "" {
		t.Fatalf("saw %+v, %v", seen, err)
	}
	lead := claim(t, s, "first")
	if err := s.Migrate(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := s.Announce(t.Context(), lead.Epoch, "http://127.0.0.1:1", "", "why not"); err != nil {
		t.Fatal(err)
	}
	if seen, err = s.Leader(t.Context()); err != nil || seen.Released() || seen.Address != "http://127.0.0.1:1" {
		t.Errorf("saw %+v, %v", seen, err)
	}
	if err := s.Release(t.Context(), lead.Epoch); err != nil {
		t.Fatal(err)
	}
	if seen, err = s.Leader(t.Context()); err != nil || !seen.Released() {
		t.Errorf("saw %+v, %v", seen, err)
	}
	if err := s.Commit(t.Context(), &lead, studio()); !errors.Is(err, ErrDeposed) {
		t.Errorf("a service committed after it had given the farm back: %v", err)
	}
}

// TestOlderDatabasesAreOpened brings a farm of the first form to the newest and
// reads it, and lets it go on.
func TestOlderDatabasesAreOpened(t *testing.T) {
	s := open(t, pgtest.URL(t))
	s.migrateTo(t, 1)
	old, err := os.ReadFile("testdata/form1.sql")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.db.Exec(string(old)); err != nil {
		t.Fatal(err)
	}
	lead := claim(t, s, "merlin")
	if err := s.Migrate(t.Context()); err != nil {
		t.Fatal(err)
	}
	loaded, err := s.Load(t.Context(), lead.Seq)
	if err != nil {
		t.Fatal(err)
	}
	state := loaded.State
	run := state.Runs[1]
	if lead.Epoch != 4 || lead.Seq != 42 || state.Seq != 42 || run == nil || state.Nodes[1].Session != 2 ||
		len(state.Tokens) != 2 ||
		state.Keys["k"].UsesLeft != 4 {
		t.Fatalf("read %+v with %+v", state, lead)
	}
	if got := fmt.Sprintln(
		run.Done, run.Parked, run.ToDo, run.Dealt(), run.Delivering[5].Hash, run.Trouble[11].Tried(),
	); got != "1-4 11 8-10,12 6-7 five 1\n" {
		t.Errorf("the run is %s", got)
	}
	k := &keeper{t: t, s: s, lead: lead, state: state}
	k.do(farm.FrameDone{Run: 1, Frame: 5, Lease: 1, Node: 1, Hash: "five", At: now})
	records, _ := accept.Start(state, state.Nodes[1], state.Nodes[1].Facts, []farm.LeaseID{1}, now)
	k.do(records...)
	if loaded, err = s.Load(t.Context(), k.lead.Seq); err != nil {
		t.Fatal(err)
	}
	if run := loaded.State.Runs[1]; run.Done.String() != "1-5" || loaded.State.Nodes[1].Session != 3 ||
		loaded.State.Lease(1).Session != 3 {
		t.Errorf("it went on with %v done, session %d", run.Done, loaded.State.Nodes[1].Session)
	}
}

// TestNewerDatabasesAreRefused: an older program keeps its hands off.
func TestNewerDatabasesAreRefused(t *testing.T) {
	s, _ := claimed(t, pgtest.URL(t))
	if _, err := s.db.Exec(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, true)`); err != nil {
		t.Fatal(err)
	}
	var newer *NewerError
	if err := s.Migrate(t.Context()); !errors.As(err, &newer) || newer.Have != 9999 ||
		!strings.Contains(err.Error(), "start the newer vexillum") {
		t.Errorf("a newer database: %v", err)
	}
}

// migrateTo brings an empty database to an older form.
func (s *Store) migrateTo(t *testing.T, version int64) {
	t.Helper()
	p, err := s.migrator()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.UpTo(t.Context(), version); err != nil {
		t.Fatal(err)
	}
}

func TestDatabasesThatCannotBeOpened(t *testing.T) {
	for url, says := range map[string]string{
		"host=127.0.0.1 dbname=x": "give the database as a URL", "postgres://127.0.0.1:1/x?connect_timeout=2": "reaching the database", "": "give the database as a URL",
	} {
		if _, err := Open(t.Context(), url); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", url, err)
		}
	}
}

func TestAFailedBatchWritesNothing(t *testing.T) {
	s, lead := claimed(t, pgtest.URL(t))
	before := lead
	bad := farm.ProjectSet{Name: "p", Title: "P", Weight: 1, Scenes: "nowhere", Frames: "nowhere", At: now}
	if err := s.Commit(t.Context(), &lead, append(studio(), bad)); err == nil {
		t.Fatal("a project in a place that does not exist was written")
	}
	loaded, err := s.Load(t.Context(), 0)
	if err != nil || len(loaded.State.Places) != 0 || lead != before {
		t.Errorf("half a batch was written: %v, %v, lead %+v", loaded.State.Places, err, lead)
	}
}

func TestNewerDatabaseIsRefused(t *testing.T) {
	s, _ := claimed(t, pgtest.URL(t))
	if _, err := s.db.Exec(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, true)`); err != nil {
		t.Fatal(err)
	}
	if err := s.Migrate(t.Context()); err == nil {
		t.Error("a database of a newer form was opened")
	}
}

func TestThumbnailsAndLogs(t *testing.T) {
	s, lead := claimed(t, pgtest.URL(t))
	k := &keeper{t: t, s: s, lead: lead, state: farm.NewState()}
	k.do(studio()...)
	k.do(
		farm.RunSubmitted{
			Run: 1, State: farm.RunQueued, Reason: "submitted by nadia", At: now,
			Spec: farm.Spec{Job: "a", Project: "salt-clock", Kind: farm.Final, Number: 1, Frames: frames.One(1)},
		},
		farm.Audited{Actor: "nadia", Action: "submit run", Subject: "a/final-1", Run: 1, At: now},
	)
	if _, err := s.Thumbnail(t.Context(), 1, 1); !errors.Is(err, ErrNotFound) {
		t.Errorf("a thumbnail that is not there: %v", err)
	}
	for _, picture := range []string{"old", "new"} {
		if err := s.PutThumbnail(t.Context(), 1, 1, []byte(picture)); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := s.Thumbnail(t.Context(), 1, 1); err != nil || string(got) != "new" {
		t.Errorf("thumbnail %q, %v", got, err)
	}
	log, err := s.RunLog(t.Context(), 1, 0, 0, 10)
	if err != nil || len(log) != 1 || log[0].Reason != "submitted by nadia" {
		t.Errorf("log %+v, %v", log, err)
	}
	audits, err := s.Audits(t.Context(), 0, 10)
	if err != nil || len(audits) != 1 || audits[0].Actor != "nadia" {
		t.Errorf("audit %+v, %v", audits, err)
	}
	var secrets int
	if err := s.db.Get(
		&secrets,
		`SELECT count(*) FROM event WHERE body::text LIKE '%password%' OR body::text LIKE '%hash%'`,
	); err != nil ||
		secrets != 0 {
		t.Errorf("%d events tell a secret, %v", secrets, err)
	}
}

// TestWhatMovedWorkIsTold reads how leases moved frames from node to node.
func TestWhatMovedWorkIsTold(t *testing.T) {
	s, lead := claimed(t, pgtest.URL(t))
	k := &keeper{t: t, s: s, lead: lead, state: farm.NewState()}
	k.do(studio()...)
	for id := farm.NodeID(1); id <= 3; id++ {
		k.do(
			farm.NodeEnrolled{Node: id, Name: fmt.Sprintf("kiln-%02d", id), Of: farm.Rack, KeyHash: "k", At: now},
			farm.NodeStarted{Node: id, Session: 1, At: now},
		)
	}
	lease := func(id farm.LeaseID, set string) farm.LeaseOpened {
		f, err := frames.Parse(set)
		if err != nil {
			t.Fatal(err)
		}
		return farm.LeaseOpened{
			Lease: id, Node: farm.NodeID(id), Run: 1, Session: 1, Frames: f, Reason: fmt.Sprint("lease ", id), At: now,
		}
	}
	first, over, race := lease(1, "1-5"), lease(2, "6-9"), lease(3, "1")
	over.From, race.Race = 1, true
	k.do(farm.RunSubmitted{
		Run: 1, State: farm.RunRendering, At: now,
		Spec: farm.Spec{
			Job: "a", Project: "salt-clock", Kind: farm.Final, Number: 1, Frames: first.Frames.Union(over.Frames),
		},
	}, first, over, race)
	log, err := s.RunLog(t.Context(), 1, 0, 0, 10)
	if err != nil || len(log) != 3 || log[0].Moved != "race" || log[1].Moved != "take-over" || log[2].Moved != "" {
		t.Errorf("log %+v, %v", log, err)
	}
}

// written is what is kept of a node, as text.
func written(t *testing.T, n *farm.Node) string {
	t.Helper()
	out := *n
	out.Changed = 0
	for _, at := range []*time.Time{&out.ReachSince, &out.DutySince, &out.OffUntil, &out.EnrolledAt, &out.RetiredAt} {
		*at = at.UTC()
	}
	data, err := json.Marshal(out)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}
