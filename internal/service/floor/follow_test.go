package floor

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"vexillum/internal/client"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/protocol/accept"
	"vexillum/internal/service/fleet"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/views"
	"vexillum/internal/service/writer"
	"vexillum/internal/wire"
)

// reader keeps what a follower was told, as a page does.
type reader struct {
	follower *views.Follower
	sight    farm.Sight
	farm     *client.Farm
	bytes    int
	whole    int            // bytes that the things have of which something was told
	events   map[string]int // by name
}

func (w *world) follower(after int64) *reader { return w.followerWho(after, farm.Sight{}) }

func (w *world) followerWho(after int64, sight farm.Sight) *reader {
	w.t.Helper()
	l, first, err := w.Views.Follow(context.Background(), after, sight)
	w.ok(err)
	r := &reader{follower: l, sight: sight, farm: client.NewFarm(), events: map[string]int{}}
	r.take(w.t, first)
	return r
}

func (r *reader) take(t *testing.T, p views.Piece) {
	t.Helper()
	for _, e := range p.Events {
		r.bytes += len(e.Data)
		r.events[e.Name]++
		told, err := r.farm.Take(e.Name, e.Data)
		if err != nil {
			t.Fatal(err)
		}
		for _, id := range told.Runs {
			r.whole += len(encoded(r.farm.Runs[id]))
		}
		for _, id := range told.Nodes {
			r.whole += len(encoded(r.farm.Nodes[id]))
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
	now, err := w.Views.Farm(context.Background(), r.sight)
	w.ok(err)
	for _, run := range r.farm.Runs {
		if !r.sight.Sees(run.Project) || strings.Contains(run.Why, "heron") {
			t.Fatalf("%s: run %d of %s was told: %s", what, run.ID, run.Project, run.Why)
		}
	}
	if told := string(encoded(r.farm.Nodes)); !r.sight.All() && strings.Contains(told, "heron") {
		t.Fatalf("%s: what nodes do was told: %s", what, told)
	}
	still := func(v any) map[string]any { // but for what is told when something changes
		out := map[string]any{}
		if err := json.Unmarshal(encoded(v), &out); err != nil {
			t.Fatal(err)
		}
		delete(out, "forecast")
		delete(out, "why")
		return out
	}
	for _, run := range now.Runs {
		if got, want := still(r.farm.Runs[run.ID]), still(run); !reflect.DeepEqual(got, want) {
			t.Fatalf("%s: run %d was told as\n%v\nand is\n%v", what, run.ID, got, want)
		}
	}
	for _, n := range now.Nodes {
		if got, want := still(r.farm.Nodes[n.ID]), still(n); !reflect.DeepEqual(got, want) {
			t.Fatalf("%s: node %d was told as\n%v\nand is\n%v", what, n.ID, got, want)
		}
	}
	if len(now.Hands) != len(r.farm.Hands) {
		t.Fatalf(
			"%s: %d items need a hand, and %d were told: %v",
			what,
			len(now.Hands),
			len(r.farm.Hands),
			r.farm.Hands,
		)
	}
}

// TestFollowersKnowTheFarm follows a farm in which anything happens, and joins it
// at any time: piece by piece everybody has the whole of it, in little.
func TestFollowersKnowTheFarm(t *testing.T) {
	for seed := range uint64(20) {
		bubble(t, func(t *testing.T, w *world) {
			dice := rand.New(rand.NewPCG(seed, 1))
			nodes := []farm.NodeID{w.join("kiln-01"), w.join("kiln-02"), w.join("kiln-10")}
			yes := true
			_, err := w.Setup.SetProject(
				context.Background(),
				"gannet",
				wire.ProjectChange{Scenes: "scenes", Frames: "frames", Closed: &yes},
				"",
				"admin",
			)
			w.ok(err)
			outside := farm.NewSight(
				farm.Person{Name: "tobin", Role: farm.Artist},
				slices.Values([]*farm.Project{{Name: "gannet", Closed: true}, {Name: "salt-clock"}}),
			)
			readers := []*reader{w.follower(0), w.followerWho(0, outside)}
			var runs []farm.RunID
			leases := map[farm.NodeID]*fleet.LeaseView{}
			for step := range 80 {
				n := nodes[dice.IntN(len(nodes))]
				switch what := dice.IntN(9); {
				case what < 2 || len(runs) == 0:
					project, job := "salt-clock", "salt"
					if dice.IntN(3) == 0 {
						project, job = "gannet", "heron"
					}
					runs = append(runs, w.submitTo(project, fmt.Sprintf("%s_%d", job, step), "practice-feed", "1-30"))
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
					sight := []farm.Sight{{}, outside}[dice.IntN(2)]
					readers = append(readers, w.followerWho(int64(dice.IntN(20)), sight))
				}
				time.Sleep(time.Duration(dice.IntN(300)) * time.Millisecond)
				for _, r := range readers {
					r.catchUp(t)
				}
			}
			time.Sleep(2 * writer.PulseEvery)
			synctest.Wait()
			for i, r := range readers {
				r.same(t, w, fmt.Sprintf("seed %d, follower %d", seed, i))
				w.Views.Unfollow(r.follower)
			}
			if r := readers[0]; 5*r.bytes > 3*r.whole {
				t.Errorf("seed %d: a follower was told %d bytes, and the things whole are %d", seed, r.bytes, r.whole)
			}
		})
	}
}

// TestFollowersStartAnew lets a follower come back after a project was closed to it: nothing
// counts any more that it was told.
func TestFollowersStartAnew(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		w.submit("salt_010", "practice-feed", "1-3")
		was := w.follower(0)
		yes := true
		_, err := w.Setup.SetProject(t.Context(), "salt-clock", wire.ProjectChange{Closed: &yes}, "", "admin")
		w.ok(err)
		sight := farm.NewSight(
			farm.Person{Name: "tobin", Role: farm.Artist},
			slices.Values([]*farm.Project{{Name: "salt-clock", Closed: true}}),
		)
		again := w.followerWho(was.farm.Seq, sight)
		if again.events[wire.EventAnew] != 1 || len(again.farm.Runs) != 0 {
			t.Errorf("told %v, runs %v", again.events, again.farm.Runs)
		}
		again.same(t, w, "after the change")
		if last := w.followerWho(again.farm.Seq, sight); last.events[wire.EventAnew] != 0 {
			t.Error("a follower who has missed nothing starts anew")
		}
	})
}

// TestEventsAreNamed looks by which names a follower hears what happens.
func TestEventsAreNamed(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		r := w.follower(0)
		var frames []wire.FrameEvent
		heard := func(what string, do func(), names ...string) {
			t.Helper()
			do()
			time.Sleep(2 * writer.PulseEvery)
			frames = nil
			got := map[string]bool{}
			for len(r.follower.Pieces()) > 0 {
				for _, e := range (<-r.follower.Pieces()).Events {
					told, err := r.farm.Take(e.Name, e.Data)
					w.ok(err)
					got[e.Name] = true
					frames = append(frames, told.Frames...)
				}
			}
			delete(got, wire.EventFacts) // counts of all sorts
			delete(got, wire.EventAlerts)
			if have := slices.Sorted(maps.Keys(got)); !slices.Equal(have, names) {
				t.Errorf("%s: told as %v, want %v", what, have, names)
			}
		}
		var id farm.RunID
		heard("a submit", func() { id = w.submit("salt_010", "practice-feed", "1-3") }, wire.EventRunAdded)
		heard("a second node", func() { w.join("kiln-02") }, wire.EventNodeAdded)
		var l *fleet.LeaseView
		heard("frames are dealt", func() { l = w.ask(n, 0).Lease() }, wire.EventNodeChanged, wire.EventRunChanged)
		first := l.Frames.First()
		heard("a frame begins", func() { w.beat(n, l.ID, first) }, wire.EventNodeProgress, wire.EventRunProgress)
		good := accept.Report{
			Outcome: accept.Good, Lease: l.ID, Launch: 1, Frame: first, Hash: strings.Repeat("a", 64), Bytes: 1,
			RenderSeconds: 2.5,
		}
		heard("it is verified", func() { w.report(n, good) },
			wire.EventFrameVerified, wire.EventNodeProgress, wire.EventRunProgress)
		want := wire.FrameEvent{Run: int64(id), Frame: first, Node: "kiln-01", Seconds: 2.5}
		if len(frames) != 1 || frames[0] != want {
			t.Errorf("told %+v, want %+v", frames, want)
		}
		good.Outcome = accept.Delivered
		heard("it is done", func() { w.report(n, good) }, wire.EventFrameDone, wire.EventRunProgress)
		l = w.ask(n, l.ID).Lease()
		bad := accept.Report{Outcome: accept.Failed, Lease: l.ID, Launch: 1, Frame: l.Frames.First(), Cause: "crash"}
		heard("a try fails", func() { w.report(n, bad) }, wire.EventFrameFailed, wire.EventRunProgress)
		if len(frames) != 1 || frames[0].Cause != "crash" || frames[0].Node != "kiln-01" {
			t.Errorf("told %+v", frames)
		}
		heard("the run is held", func() {
			_, err := w.Queue.Steer(t.Context(), id, queue.Hold, queue.How{}, admin)
			w.ok(err)
		}, wire.EventRunChanged)
	})
}

// TestASlowFollowerIsDropped looks that one who does not read keeps nobody
// waiting.
func TestASlowFollowerIsDropped(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		l, _, err := w.Views.Follow(context.Background(), 0, farm.Sight{})
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
			page, err := w.Views.QueuePage(context.Background(), q, farm.Sight{})
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
			if _, err := w.Views.QueuePage(context.Background(), q, farm.Sight{}); err == nil {
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

// TestWhatARunWaitsForIsToldWhenItChanges holds a place and releases it: no Record
// is about the run that waits for it.
func TestWhatARunWaitsForIsToldWhenItChanges(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		id := w.submit("salt_010", "practice", "1-3")
		r := w.follower(0)
		for _, held := range []bool{true, false} {
			w.stay(wire.Stay{Kind: "place", Name: "frames", Held: held})
			time.Sleep(2 * time.Second)
			synctest.Wait()
			r.catchUp(t)
			if why := r.farm.Runs[int64(id)].Why; strings.Contains(why, "is held by") != held {
				t.Errorf("held %v: the run says %q", held, why)
			}
		}
	})
}
