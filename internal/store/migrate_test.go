package store

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/protocol/accept"
	"vexillum/internal/testkit/pgtest"
)

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
