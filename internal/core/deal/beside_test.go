package deal_test

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
)

// sharedFarm is a farm with one node of the given facts and runs that take the
// given amounts, each with 100 frames, in the order of the queue.
func sharedFarm(t *testing.T, facts farm.Facts, caps farm.Caps, takes ...farm.Amounts) *farm.State {
	t.Helper()
	s := farm.NewState()
	now := time.Now()
	facts.Renderers = []farm.Renderer{{Recipe: "practice"}}
	records := []farm.Record{
		farm.PlaceSet{
			Name: "p",
		},
		farm.ProjectSet{Name: "salt-clock", Weight: 1, Scenes: "p", Frames: "p"},
		farm.KeyIssued{Hash: "k", Uses: 1, At: now, ExpiresAt: now.Add(time.Hour)},
		farm.NodeEnrolled{
			Node: 1, Name: "kiln-01", Of: farm.Rack, Facts: facts, KeyHash: "k", At: now,
		},
		farm.NodeStarted{Node: 1, Session: 1, Facts: facts, At: now},
		farm.NodeSet{Node: 1, Version: 1, Settings: farm.Settings{Caps: caps}, At: now},
	}
	for i, a := range takes {
		id := farm.RunID(i + 1)
		records = append(
			records,
			farm.RunSubmitted{Run: id, State: farm.RunQueued, Order: int64(id), At: now, Spec: farm.Spec{
				Job: string(rune('a' + i)), Project: "salt-clock", Kind: farm.Final, Number: 1, Recipe: "practice",
				Mode: farm.ModeSingle, Takes: a, Tries: 3, Frames: frames.Of(frames.Span{First: 1, Last: 100}),
			}},
		)
	}
	put(t, s, records...)
	return s
}

func put(t *testing.T, s *farm.State, records ...farm.Record) {
	t.Helper()
	for _, r := range records {
		if err := s.Apply(r); err != nil {
			t.Fatal(err)
		}
	}
}

// fill deals until the node gets nothing more, and returns what was opened and
// why no more was.
func fill(
	t *testing.T, s *farm.State, m *pace.Model, measured *capacity.Memory,
) (opened []farm.LeaseOpened, why string) {
	t.Helper()
	for range 1000 {
		d := deal.New(s, m, nil).Next(deal.Ask{Node: 1, Number: 1, Memory: measured}, time.Now())
		if len(d.Records) == 0 {
			return opened, d.Why
		}
		put(t, s, d.Records...)
		opened = append(opened, d.Records[0].(farm.LeaseOpened))
	}
	t.Fatal("a node never has enough")
	return nil, ""
}

const gib = 1 << 30

func TestWhatLeasesOwnSideBySide(t *testing.T) {
	three := []farm.Device{{ID: "a"}, {ID: "b"}, {ID: "c"}}
	for _, c := range []struct {
		name  string
		facts farm.Facts
		caps  farm.Caps
		takes []farm.Amounts
		want  string // cores of each lease, with memory in GiB and devices
		why   string
	}{
		{"a lease that says nothing has the node for itself", farm.Facts{Cores: 8}, farm.Caps{}, []farm.Amounts{{}, {Cores: 1}}, "all", "no room for a further lease"},
		{"as many as there are cores", farm.Facts{Cores: 8}, farm.Caps{}, []farm.Amounts{{Cores: 3}}, "0-2 3-5", "takes 3 cores a lease, and 2 of kiln-01 are free"},
		{"a smaller one fills the rest", farm.Facts{Cores: 8}, farm.Caps{}, []farm.Amounts{{Cores: 3}, {Cores: 2}}, "0-2 3-5 6-7", "no room for a further lease"},
		{"one that wants all waits for the others", farm.Facts{Cores: 4}, farm.Caps{}, []farm.Amounts{{Cores: 3}, {}}, "0-2", "has its node for itself"},
		{"cores that the farm may not use stay free", farm.Facts{Cores: 8}, farm.Caps{Cores: 4}, []farm.Amounts{{Cores: 2}}, "0-1 2-3", "no room for a further lease"},
		{"not more than allowed side by side", farm.Facts{Cores: 8}, farm.Caps{Leases: 2}, []farm.Amounts{{Cores: 1}}, "0 1", "no room for a further lease"},
		{"memory is promised once", farm.Facts{Cores: 8, MemoryBytes: 16 * gib}, farm.Caps{MemoryBytes: 10 * gib}, []farm.Amounts{{Cores: 1, MemoryBytes: 4 * gib}}, "0(4) 1(4)", "2.0 GiB of kiln-01 are not promised to others"},
		{"devices are owned by one", farm.Facts{Cores: 8, Devices: three}, farm.Caps{}, []farm.Amounts{{Cores: 1, Devices: 2}, {Cores: 1, Devices: 1}}, "0[a b] 1[c]", "1 graphics device a lease, and 0 of kiln-01 are free"},
		{"devices that are kept back are nobody's", farm.Facts{Cores: 8, Devices: three}, farm.Caps{KeptDevices: []string{"b"}}, []farm.Amounts{{Cores: 1, Devices: 2}}, "0[a c]", "0 of kiln-01 are free"},
		{"what is too big for a node never comes to it", farm.Facts{Cores: 4, MemoryBytes: 8 * gib}, farm.Caps{}, []farm.Amounts{{Cores: 8}}, "", "takes 8 cores a lease, and the farm may use 4 of kiln-01"},
		{"nor what takes too much memory", farm.Facts{Cores: 4, MemoryBytes: 8 * gib}, farm.Caps{}, []farm.Amounts{{Cores: 1, MemoryBytes: 9 * gib}}, "", "takes 9.0 GiB of memory a lease, and the farm may use 8.0 GiB"},
		{"nor what needs devices that it has not", farm.Facts{Cores: 4, Devices: three[:1]}, farm.Caps{}, []farm.Amounts{{Cores: 1, Devices: 2}}, "", "2 graphics devices a lease, and the farm may use 1"},
		{"a node that does not tell its cores takes one lease", farm.Facts{}, farm.Caps{}, []farm.Amounts{{Cores: 1}}, "0", "no room for a further lease"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := sharedFarm(t, c.facts, c.caps, c.takes...)
			opened, why := fill(t, s, pace.New(), nil)
			var got []string
			for _, o := range opened {
				text := o.Share.Cores.String()
				if o.Share.Whole() {
					text = "all"
				}
				if o.Share.MemoryBytes > 0 {
					text += "(" + string(rune('0'+o.Share.MemoryBytes/gib)) + ")"
				}
				if len(o.Share.Devices) > 0 && !o.Share.Whole() {
					text += "[" + strings.Join(o.Share.Devices, " ") + "]"
				}
				got = append(got, text)
			}
			if text := strings.Join(got, " "); text != c.want {
				t.Errorf("got %q, want %q", text, c.want)
			}
			if !strings.Contains(why, c.why) {
				t.Errorf("no more because %q, want %q", why, c.why)
			}
		})
	}
}

// TestTheMemoryGuard lets a first lease grow and looks when a second is begun.
func TestTheMemoryGuard(t *testing.T) {
	facts := farm.Facts{Cores: 8, MemoryBytes: 32 * gib} // of which 1 GiB stays free
	for _, c := range []struct {
		name       string
		told, seen int64 // GiB that the run says, and was seen with
		used, free int64 // GiB: of the first lease now, and free
		spare      int64
		want       int // leases in all
		why        string
	}{
		{"nobody knows what it takes", 0, 0, 1, 30, 0, 1, "not yet known how much memory"},
		{"what it says fits", 4, 0, 4, 9, 0, 3, "take 4.0 GiB"},
		{"the first still grows", 12, 0, 2, 28, 0, 2, "8.0 GiB of kiln-01 are not promised"},
		{"the first still grows, and no further one has room", 14, 0, 2, 26, 0, 1, "only 14 GiB will be free " +
			"beside 1 lease"},
		{"seen is believed more than said", 2, 20, 2, 28, 0, 1, "is expected to take 20 GiB"},
		{"what stays free is the wrangler's choice", 4, 0, 4, 9, 6, 1, "of which 6.0 GiB stay free"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := sharedFarm(
				t, facts, farm.Caps{SpareBytes: c.spare * gib}, farm.Amounts{Cores: 1, MemoryBytes: c.told * gib},
			)
			m := pace.New()
			if c.seen > 0 {
				m.Observe(
					s.Runs[1], s.Nodes[1], 1, farm.FrameAccepted{Run: 1, RenderSeconds: 1, MemoryBytes: c.seen * gib},
				)
			}
			first := deal.New(s, m, nil).Next(deal.Ask{Node: 1, Memory: &capacity.Memory{Free: 31 * gib}}, time.Now())
			put(t, s, first.Records...)
			measured := &capacity.Memory{Free: c.free * gib, Used: map[farm.LeaseID]int64{1: c.used * gib}}
			more, why := fill(t, s, m, measured)
			if 1+len(more) != c.want || !strings.Contains(why, c.why) {
				t.Errorf("%d leases, want %d; no more because %q, want %q", 1+len(more), c.want, why, c.why)
			}
		})
	}
}

// TestTheGuardKnowsWhatIsAhead renders a job again whose last frames take much
// memory: light frames at the begin are no reason for leases side by side,
// unless only light ones are left.
func TestTheGuardKnowsWhatIsAhead(t *testing.T) {
	for name, c := range map[string]struct {
		done string
		want int
		why  string
	}{
		"the heavy end is ahead":    {"1-2", 1, "is expected to take 20 GiB"}, // beside a light frame
		"the heavy end is done":     {"1-2,60-100", 14, "is expected to take 2.0 GiB"},
		"a heavy frame is rendered": {"1-50", 0, "is expected to take 20 GiB"},
	} {
		t.Run(name, func(t *testing.T) {
			s := sharedFarm(
				t, farm.Facts{Cores: 16, MemoryBytes: 32 * gib}, farm.Caps{}, farm.Amounts{Cores: 1},
				farm.Amounts{Cores: 1},
			)
			m := pace.New()
			s.Runs[1].Spec.Job = "b" // as the second
			for f, peak := range map[int]int64{5: 2, 40: 2, 70: 2, 90: 20, 100: 20} {
				m.Observe(
					s.Runs[1], s.Nodes[1], 1,
					farm.FrameAccepted{Run: 1, Frame: f, RenderSeconds: 1, MemoryBytes: peak * gib},
				)
			}
			put(t, s, farm.RunMoved{Run: 1, State: farm.RunCancelled})
			m.Close(s.Runs[1])
			m.Observe(
				s.Runs[2], s.Nodes[1], 1, farm.FrameAccepted{Run: 2, Frame: 2, RenderSeconds: 1, MemoryBytes: 2 * gib},
			)
			var done frames.Set
			if err := done.UnmarshalText([]byte(c.done)); err != nil {
				t.Fatal(err)
			}
			s.Runs[2].ToDo = s.Runs[2].ToDo.Minus(done)
			first := deal.New(s, m, nil).Next(deal.Ask{Node: 1, Memory: &capacity.Memory{Free: 31 * gib}}, time.Now())
			put(t, s, first.Records...)
			more, why := fill(t, s, m, &capacity.Memory{Free: 30 * gib, Used: map[farm.LeaseID]int64{1: 2 * gib}})
			if len(more) != c.want || !strings.Contains(why, c.why) {
				t.Errorf("%d leases more, want %d; no more because %q", len(more), c.want, why)
			}
		})
	}
}

// TestNothingIsOwnedTwice deals at random, with leases that end, and looks that
// cores and devices have one owner and memory is promised once.
func TestNothingIsOwnedTwice(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 3))
		facts := farm.Facts{Cores: 1 + r.IntN(16), MemoryBytes: int64(4+r.IntN(60)) * gib}
		for i := range r.IntN(5) {
			facts.Devices = append(facts.Devices, farm.Device{ID: string(rune('a' + i))})
		}
		caps := farm.Caps{Cores: r.IntN(3) * r.IntN(9), Leases: r.IntN(3) * r.IntN(5)}
		var takes []farm.Amounts
		for range 4 {
			a := farm.Amounts{Cores: r.IntN(6), MemoryBytes: int64(r.IntN(8)) * gib}
			if a.Cores > 0 {
				a.Devices = r.IntN(3)
			}
			takes = append(takes, a)
		}
		s := sharedFarm(t, facts, caps, takes...)
		n := s.Nodes[1]
		for range 60 {
			fill(t, s, pace.New(), nil) // what collides is refused by Apply
			var promised int64
			held := s.LeasesOf(1)
			for _, l := range held {
				promised += l.Share.MemoryBytes
				if l.Share.Cores.Len() > 0 && l.Share.Cores.Last() >= n.OfferedCores() {
					t.Fatalf(
						"seed %d: lease %d owns cores %v, and the farm may use %d", seed, l.ID, l.Share.Cores,
						n.OfferedCores(),
					)
				}
			}
			if promised > n.Offer().MemoryBytes {
				t.Fatalf("seed %d: %d bytes are promised of %d", seed, promised, n.Offer().MemoryBytes)
			}
			if caps.Leases > 0 && len(held) > caps.Leases {
				t.Fatalf("seed %d: %d leases side by side", seed, len(held))
			}
			if len(held) == 0 {
				break
			}
			l := held[r.IntN(len(held))]
			put(t, s, farm.LeaseEnded{Lease: l.ID, Node: 1, Run: l.Run, At: time.Now()})
		}
		if err := s.Check(); err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
	}
}

// TestARendererThatIsUpEndsOnlyForWhatCanTakeItsPlace: a lease that is warm is
// told to end when work comes first that fits once it is gone, and not before.
func TestARendererThatIsUpEndsOnlyForWhatCanTakeItsPlace(t *testing.T) {
	for _, c := range []struct {
		name  string
		other farm.Amounts
		want  string
	}{
		{"it fits where the warm one was", farm.Amounts{Cores: 1, MemoryBytes: gib}, "other work comes first now"},
		{
			"it needs both that are warm to end", farm.Amounts{Cores: 2},
			"keeps its room for a/final-1, which comes first",
		},
		{"it wants the node for itself", farm.Amounts{}, "keeps its room for a/final-1, which comes first"},
		{"it never fits", farm.Amounts{Cores: 3}, "gets frame 25"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := sharedFarm(
				t, farm.Facts{Cores: 2, MemoryBytes: 8 * gib}, farm.Caps{}, c.other,
				farm.Amounts{Cores: 1, MemoryBytes: gib},
			)
			s.Runs[2].Spec.Mode = farm.ModeFeed
			put(t, s, farm.RunMoved{Run: 1, State: farm.RunHeld, At: time.Now()})
			m := pace.New()
			opened, _ := fill(t, s, m, nil)
			if len(opened) != 2 {
				t.Fatalf("%d leases are open", len(opened))
			}
			put(t, s, farm.RunMoved{Run: 1, State: farm.RunQueued, At: time.Now()})
			d := deal.New(s, m, nil).Next(deal.Ask{Node: 1, Number: 2, Warm: opened[0].Lease}, time.Now())
			if !strings.Contains(d.Why, c.want) {
				t.Errorf("it says %q, want %q", d.Why, c.want)
			}
		})
	}
}

// TestRoomIsKeptOnlyWhereWaitingHelps: what comes later fills the room that what
// comes first cannot use, and does not keep it from what it could.
func TestRoomIsKeptOnlyWhereWaitingHelps(t *testing.T) {
	for _, c := range []struct {
		name        string
		mode        farm.Mode // of the run that comes later and holds a core
		first       farm.Amounts
		why         string
		third       farm.Amounts
		thirdsCores string
	}{
		{
			"a renderer that stays up makes room", farm.ModeFeed, farm.Amounts{Cores: 4},
			"keeps its room for a/final-1", farm.Amounts{Cores: 1}, "",
		},
		{
			"single frames make room", farm.ModeSingle, farm.Amounts{Cores: 4}, "keeps its room for a/final-1",
			farm.Amounts{Cores: 1}, "",
		},
		{"a long lease is not waited for", farm.ModeRange, farm.Amounts{Cores: 4}, "", farm.Amounts{Cores: 1}, "1"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := sharedFarm(
				t, farm.Facts{Cores: 4, MemoryBytes: 8 * gib}, farm.Caps{}, c.first, farm.Amounts{Cores: 1}, c.third,
			)
			s.Runs[2].Spec.Mode = c.mode
			put(
				t, s,
				farm.LeaseOpened{
					Lease: 1, Node: 1, Run: 2, Session: 1, Frames: frames.One(1),
					Share: farm.Share{Cores: frames.One(0)}, At: time.Now(),
				},
			)
			d := deal.New(s, pace.New(), nil).Next(deal.Ask{Node: 1, Number: 2}, time.Now())
			got := ""
			if len(d.Records) > 0 {
				got = d.Records[0].(farm.LeaseOpened).Share.Cores.String()
			}
			if !strings.Contains(d.Why, c.why) || got != c.thirdsCores {
				t.Errorf("it gives cores %q because %q", got, d.Why)
			}
		})
	}
	// A run that fills the node by itself does not keep what it leaves over.
	s := sharedFarm(t, farm.Facts{Cores: 8}, farm.Caps{}, farm.Amounts{Cores: 3}, farm.Amounts{Cores: 1})
	s.Runs[2].Spec.Mode = farm.ModeFeed
	opened, _ := fill(t, s, pace.New(), nil)
	if len(opened) != 4 || opened[3].Run != 2 {
		t.Errorf("the rest of a node stays empty: %d leases", len(opened))
	}
}
