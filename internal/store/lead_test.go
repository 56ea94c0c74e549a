package store

import (
	"errors"
	"testing"

	"vexillum/internal/core/farm"
	"vexillum/internal/testkit/pgtest"
)

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
