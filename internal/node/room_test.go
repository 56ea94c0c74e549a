package node

import (
	"os"
	"slices"
	"strings"
	"testing"
	"time"
)

// TestNoFrameIsBegunWithoutRoom lets a renderer be faster than its frames can
// be delivered: their place is not there for a while. What is finished counts,
// also in the middle of a launch, and the rest is launched when there is room.
func TestNoFrameIsBegunWithoutRoom(t *testing.T) {
	for _, mode := range []string{"single", "range"} {
		t.Run(mode, func(t *testing.T) {
			f := &fake{}
			script := "say:begin_{first} draw:{first} sleep:1100ms exit:0"
			if mode == "range" {
				script = "say:begin_{first} draw:{first} sleep:1200ms say:begin_2 draw:2 sleep:1200ms say:begin_3 " +
					"draw:3 exit:0"
			}
			w := newWork(t, f, script, "1-3")
			w.lease.Recipe.Mode = "range"
			if mode == "single" {
				w.lease.Recipe.Mode = "single"
			}
			w.host.room = &room{folder: w.staging, limit: 1}
			if err := os.Remove(w.lease.OutputRoot); err != nil {
				t.Fatal(err)
			}
			ended := make(chan error, 1)
			go func() { ended <- finish(t.Context(), w) }()
			<-w.ready
			for deadline := time.Now().Add(20 * time.Second); w.status.progress(w.lease.ID).Full == ""; time.Sleep(time.Millisecond) {
				if time.Now().After(deadline) {
					t.Fatal("it does not tell that there is no room")
				}
			}
			if p := w.status.progress(w.lease.ID); !strings.Contains(p.Full, "1 B is the limit of the staging disk") ||
				p.Phase != "waiting" ||
				p.Frame != nil {
				t.Errorf("it tells %+v", p)
			}
			if told := f.told(); slices.Contains(told, "good 3") {
				t.Errorf("it goes on rendering: %q", told)
			}
			if err := os.Mkdir(w.lease.OutputRoot, 0o755); err != nil {
				t.Fatal(err)
			}
			if err := <-ended; err != nil {
				t.Fatal(err)
			}
			told := f.told()
			slices.Sort(told)
			if want := []string{
				"delivered 1", "delivered 2", "delivered 3", "ended 0", "good 1", "good 2", "good 3",
			}; !slices.Equal(told, want) {
				t.Errorf("told %q, want %q", told, want)
			}
		})
	}
}
