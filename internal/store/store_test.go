package store

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"testing"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
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
