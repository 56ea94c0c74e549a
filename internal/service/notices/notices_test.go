package notices

import (
	"context"
	"encoding/json"
	"log/slog"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/notice"
	"vexillum/internal/store"
)

func happened(t *testing.T, r farm.Record, run string) store.Happened {
	t.Helper()
	body, err := json.Marshal(r)
	if err != nil {
		t.Fatal(err)
	}
	about := r.About()
	h := store.Happened{Seq: 7, At: about.At, Kind: string(r.Kind()), Run: int64(about.Run), Body: body, RunName: run}
	if run != "" {
		h.Project = "salt-clock"
	}
	return h
}

func TestWhatIsTold(t *testing.T) {
	raised := func(kind string) farm.HandRaised {
		return farm.HandRaised{
			Hand: farm.Hand{ID: 3, Of: farm.HandOf{Kind: kind}, Sentence: "So it is.", Evidence: "Look."},
		}
	}
	for _, c := range []struct {
		r     farm.Record
		run   string
		event farm.Event // empty: it is not told
		title string
	}{
		{farm.RunMoved{Run: 1, State: farm.RunDone}, "salt/final-1", farm.EventDone, "salt/final-1 is done."},
		{farm.RunMoved{Run: 1, State: farm.RunGaps}, "salt/final-1", farm.EventGaps, "salt/final-1 is done with gaps."},
		{farm.RunMoved{Run: 1, State: farm.RunFailed}, "salt/final-1", farm.EventFailed, "salt/final-1 has failed."},
		{raised(farm.HandParked), "", farm.EventHand, "So it is."},
		{raised(farm.HandAtRisk), "", farm.EventRisk, "So it is."},
		{raised(farm.HandSilent), "", farm.EventSilent, "So it is."},
		{raised(farm.HandHush), "", farm.EventSilent, "So it is."},
		{raised(farm.HandFailed), "", "", ""}, // told as a run that has failed
		{raised(farm.HandHeld), "", "", ""},
		{
			farm.Audited{Actor: "merlin", Action: "take over", From: "kestrel"}, "", farm.EventTakeOver,
			"merlin has taken over from kestrel.",
		},
	} {
		n, tells, err := noticeOf(happened(t, c.r, c.run))
		if err != nil || tells != (c.event != "") {
			t.Errorf("%+v: told %v, %v", c.r, tells, err)
			continue
		}
		if tells && (n.Event != c.event || n.Title != c.title) {
			t.Errorf("%+v: %s: %q", c.r, n.Event, n.Title)
		}
	}
	off := happened(t, raised(farm.HandParked), "")
	off.Snoozed = true
	if _, tells, _ := noticeOf(off); tells {
		t.Error("what somebody has put off is told")
	}
	if _, _, err := noticeOf(store.Happened{Kind: string(farm.RunMoved{}.Kind()), Body: []byte("{")}); err == nil {
		t.Error("what cannot be read is no error")
	}
}

// TestPersonsAreToldWhatTheySee: sentences about what is the farm's may name runs of projects
// that a person does not see.
func TestPersonsAreToldWhatTheySee(t *testing.T) {
	closed := &farm.Project{Name: "tidal-room", Closed: true}
	ines := farm.Person{Name: "ines", Role: farm.Artist}
	sight := farm.NewSight(ines, func(yield func(*farm.Project) bool) { yield(closed) })
	d := New(Options{
		Log: slog.New(slog.DiscardHandler), Now: time.Now,
		Veil: func(_ context.Context, s farm.Sight, texts ...*string) error {
			for _, text := range texts {
				if !s.Sees("tidal-room") {
					*text = strings.ReplaceAll(*text, "tidal/final-1", "a run of another project")
				}
			}
			return nil
		},
	})
	told := []notice.Notice{
		{Event: farm.EventHand, Title: "kiln-04 is sidelined.", Text: "It failed frame 3 of tidal/final-1."},
		{Event: farm.EventDone, Project: "tidal-room", Title: "tidal/final-1 is done."},
	}
	l := lists{sights: map[string]farm.Sight{"ines": sight}}
	hers, err := d.forChannel(t.Context(), farm.Channel{Person: "ines"}, told, l)
	if err != nil || len(hers) != 1 || strings.Contains(hers[0].Text, "tidal") {
		t.Errorf("ines is told %+v; %v", hers, err)
	}
	all, err := d.forChannel(t.Context(), farm.Channel{}, told, l)
	if err != nil || len(all) != 2 || !strings.Contains(all[0].Text, "tidal/final-1") {
		t.Errorf("the farm is told %+v; %v", all, err)
	}
}

func TestAnswersCanBeKept(t *testing.T) {
	for _, text := range []string{
		"", "500 out of order", "a\x00b\nc", strings.Repeat("ä", mostAnswer), "\xff\xfe" + strings.Repeat("x",
			3*mostAnswer),
	} {
		got := plain(text)
		if len(got) > mostAnswer || !utf8.ValidString(got) || strings.ContainsAny(got, "\x00\n") {
			t.Errorf("%.20q becomes %.20q", text, got)
		}
	}
}
