package floor

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
	"testing/synctest"
	"time"
	"vexillum/internal/service/views"
	"vexillum/internal/service/writer"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/fleet"
	"vexillum/internal/service/queue"
	"vexillum/internal/wire"
)

// reader keeps what a follower was told, as a page does.
type reader struct {
	follower *views.Follower
	runs     map[float64]map[string]any
	nodes    map[float64]map[string]any
	facts    map[string]any
	hands    []any
	bytes    int
}

func (w *world) follower(after int64) *reader {
	w.t.Helper()
	l, first, err := w.Views.Follow(context.Background(), after)
	w.ok(err)
	r := &reader{
		follower: l, runs: map[float64]map[string]any{}, nodes: map[float64]map[string]any{}, facts: map[string]any{},
	}
	r.take(w.t, first)
	return r
}

func (r *reader) take(t *testing.T, p views.Piece) {
	t.Helper()
	r.bytes += len(p.Data)
	var change struct {
		Facts map[string]any   `json:"facts"`
		Hands *[]any           `json:"needs_a_hand"`
		Runs  []map[string]any `json:"runs"`
		Nodes []map[string]any `json:"nodes"`
	}
	if err := json.Unmarshal(p.Data, &change); err != nil {
		t.Fatal(err)
	}
	for name, value := range change.Facts {
		r.facts[name] = value
	}
	if change.Hands != nil {
		r.hands = *change.Hands
	}
	merge(r.runs, change.Runs)
	merge(r.nodes, change.Nodes)
}

func merge(all map[float64]map[string]any, changed []map[string]any) {
	for _, patch := range changed {
		id := patch["id"].(float64)
		if all[id] == nil {
			all[id] = map[string]any{}
		}
		for name, value := range patch {
			old, part := all[id][name].(map[string]any)
			if part && views.InParts(name) {
				for k, v := range value.(map[string]any) {
					old[k] = v
				}
				continue
			}
			all[id][name] = value
		}
	}
}

// catchUp takes all that waits.
func (r *reader) catchUp(t *testing.T) {
	for {
		select {
		case p, open := <-r.follower.Pieces():
			if !open {
				t.Fatal("the follower was dropped")
			}
			r.take(t, p)
		default:
			return
		}
	}
}

// same looks that what was told piece by piece is the farm as it is, but for
// what changes by itself from moment to moment.
func (r *reader) same(t *testing.T, w *world, what string) {
	t.Helper()
	r.catchUp(t)
	now, err := w.Views.Farm(context.Background())
	w.ok(err)
	compare := func(kind string, id int64, told map[string]any, v any) {
		want := map[string]any{}
		if err := json.Unmarshal(encoded(v), &want); err != nil {
			t.Fatal(err)
		}
		for _, passing := range []string{"forecast", "why"} { // they are told when something changes
			delete(want, passing)
			told = without(told, passing)
		}
		if !reflect.DeepEqual(told, want) {
			t.Fatalf("%s: %s %d was told as\n%v\nand is\n%v", what, kind, id, told, want)
		}
	}
	for _, run := range now.Runs {
		compare("run", run.ID, r.runs[float64(run.ID)], run)
	}
	for _, n := range now.Nodes {
		compare("node", n.ID, r.nodes[float64(n.ID)], n)
	}
	var hands []any
	if err := json.Unmarshal(encoded(now.Hands), &hands); err != nil {
		t.Fatal(err)
	}
	if len(hands) != len(r.hands) {
		t.Fatalf("%s: %d items need a hand, and %d were told: %v", what, len(hands), len(r.hands), r.hands)
	}
}

func without(m map[string]any, name string) map[string]any {
	out := map[string]any{}
	for k, v := range m {
		if k != name {
			out[k] = v
		}
	}
	return out
}

// TestFollowersKnowTheFarm follows a farm in which anything happens, and joins it
// at any time: piece by piece everybody has the whole of it, in little.
func TestFollowersKnowTheFarm(t *testing.T) {
	for seed := range uint64(20) {
		bubble(t, func(t *testing.T, w *world) {
			dice := rand.New(rand.NewPCG(seed, 1))
			nodes := []farm.NodeID{w.join("kiln-01"), w.join("kiln-02"), w.join("kiln-10")}
			readers := []*reader{w.follower(0)}
			whole, _, err := w.Views.Listen(context.Background(), 0)
			w.ok(err)
			wholeBytes := 0
			var runs []farm.RunID
			leases := map[farm.NodeID]*fleet.LeaseView{}
			for step := range 80 {
				n := nodes[dice.IntN(len(nodes))]
				switch what := dice.IntN(9); {
				case what < 2 || len(runs) == 0:
					runs = append(runs, w.submit(fmt.Sprintf("salt_%d", step), "practice-feed", "1-30"))
				case what < 5:
					if l := leases[n]; l != nil {
						frame := dice.IntN(30) + 1
						_ = w.Fleet.Beat(
							context.Background(), n, 1,
							fleet.Beat{
								Processor: dice.Float64(), Memory: 0.4,
								Leases: map[farm.LeaseID]fleet.Progress{
									l.ID: {Frame: &frame, Phase: "rendering", Fraction: dice.Float64()},
								},
							},
						)
					} else if a := w.askBriefly(n); a.Lease() != nil {
						leases[n] = a.Lease()
					}
				case what == 5:
					_, _ = w.Queue.Steer(
						context.Background(), runs[dice.IntN(len(runs))],
						[]queue.Steering{queue.Hold, queue.Release, queue.Cancel}[dice.IntN(3)],
						queue.How{Now: dice.IntN(2) == 0}, admin,
					)
				case what == 6:
					_, _ = w.Queue.ChangeRun(
						context.Background(), runs[dice.IntN(len(runs))],
						wire.RunChange{Priority: new([]string{"high", "low", "normal"}[dice.IntN(3)])}, admin,
					)
				case what == 7:
					w.act(wire.NodeAct{
						Do:        []string{"hold", "release"}[dice.IntN(2)],
						Selection: wire.Selection{Nodes: []int64{int64(n)}},
					})
				default:
					readers = append(readers, w.follower(int64(dice.IntN(20))))
				}
				time.Sleep(time.Duration(dice.IntN(300)) * time.Millisecond)
				for _, r := range readers {
					r.catchUp(t)
				}
				for len(whole.Changes()) > 0 {
					wholeBytes += len(encoded(<-whole.Changes()))
				}
			}
			time.Sleep(2 * writer.PulseEvery)
			synctest.Wait()
			for i, r := range readers {
				r.same(t, w, fmt.Sprintf("seed %d, follower %d", seed, i))
				w.Views.Unfollow(r.follower)
			}
			if told := readers[0].bytes; 2*told > wholeBytes {
				t.Errorf("seed %d: a follower was told %d bytes, one who listens to all %d", seed, told, wholeBytes)
			}
			w.Views.Ignore(whole)
		})
	}
}

// TestASlowFollowerIsDropped looks that one who does not read keeps nobody
// waiting.
func TestASlowFollowerIsDropped(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		l, _, err := w.Views.Follow(context.Background(), 0)
		w.ok(err)
		for i := range views.MostBehind + 10 {
			w.submit(fmt.Sprint("b", i), "practice", "1")
			time.Sleep(2 * writer.PulseEvery)
		}
		n := 0
		for range l.Pieces() {
			n++
		}
		if n != views.MostBehind {
			t.Errorf("a slow follower had %d pieces before it was dropped", n)
		}
		w.Views.Unfollow(l)
	})
}

// TestPagesOfTheQueue searches all runs that there ever were.
func TestPagesOfTheQueue(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		for i := range 12 {
			id := w.submit(fmt.Sprintf("salt_%d", i+1), "practice", "1-3")
			if i < 10 {
				_, err := w.Queue.Steer(
					context.Background(), id, queue.Cancel, queue.How{Reason: "the cut has changed"}, admin,
				)
				w.ok(err)
			}
			time.Sleep(time.Second)
		}
		names := func(q views.Search) string {
			t.Helper()
			if q.Size == 0 {
				q.Size = 50
			}
			q.Page = max(1, q.Page)
			page, err := w.Views.QueuePage(context.Background(), q)
			w.ok(err)
			var out []string
			for _, run := range page.Runs {
				out = append(out, run.Job)
			}
			return fmt.Sprintf("%d of %d: %s", page.Page, page.Pages, strings.Join(out, " "))
		}
		for _, c := range []struct {
			q    views.Search
			want string
		}{
			{views.Search{Size: 5}, "1 of 3: salt_11 salt_12 salt_10 salt_9 salt_8"},
			{views.Search{Size: 5, Page: 9}, "3 of 3: salt_2 salt_1"},
			{views.Search{State: "open"}, "1 of 1: salt_11 salt_12"},
			{views.Search{State: "queued, done", Down: true}, "1 of 1: salt_12 salt_11"},
			{views.Search{Text: "CUT salt_1"}, "1 of 1: salt_10 salt_1"},
			{views.Search{Text: "#3"}, "1 of 1: salt_3"},
			{views.Search{Sort: "name", Size: 3}, "1 of 4: salt_1 salt_2 salt_3"},
			{views.Search{Sort: "name", Down: true, Size: 3}, "1 of 4: salt_12 salt_11 salt_10"},
			{views.Search{Owner: "nobody"}, "1 of 1: "},
			{views.Search{Due: "any"}, "1 of 1: "},
			{views.Search{Due: "none", Size: 1}, "1 of 12: salt_11"},
		} {
			if got := names(c.q); got != c.want {
				t.Errorf("%+v: %s, want %s", c.q, got, c.want)
			}
		}
		for _, q := range []views.Search{{State: "asleep"}, {Sort: "size"}, {Due: "soon"}} {
			q.Size, q.Page = 5, 1
			if _, err := w.Views.QueuePage(context.Background(), q); err == nil {
				t.Errorf("%+v is answered", q)
			}
		}
	})
}

// TestForeseen takes the farm with a change and without it.
func TestForeseen(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		w.join("kiln-01")
		first := w.submit("salt_010", "practice-feed", "1-400")
		second := w.submit("salt_020", "practice-feed", "1-400")
		seen, err := w.Queue.Foresee(context.Background(), second, wire.RunChange{Priority: new("high")}, admin)
		w.ok(err)
		before, after := seen.Before.Play(1, 8), seen.After.Play(1, 8)
		if seen.Names[first] != "salt_010/final-1" || len(before) != 2 || len(after) != 2 {
			t.Fatalf("it knows %v, and plays %v and %v", seen.Names, before, after)
		}
		if !before[first].Early.Before(before[second].Early) || !after[second].Early.Before(after[first].Early) {
			t.Errorf("before the change %v, after it %v", before, after)
		}
		if w.run(second).Priority != "normal" {
			t.Error("foreseeing has changed the run")
		}
	})
}

func encoded(v any) []byte {
	data, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	return data
}
