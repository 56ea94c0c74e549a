package store

import (
	"errors"
	"fmt"
	"testing"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/testkit/pgtest"
)

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
