package system

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"vexillum/internal/client"
	"vexillum/internal/testkit/badline"
	"vexillum/internal/wire"
)

// another starts one more service on the farm's database, reached by the
// database URL given, and waits until it stands by.
func (f *farm) another(name, database string) (p *program, address string) {
	f.t.Helper()
	listen := freeAddress(f.t)
	p = start(f.t, name, "serve", "--listen", listen, "--database", database, "--name", name)
	f.wait(name+" stands by", func() bool { return health(f.t, listen).Part == "stand-by" })
	return p, listen
}

func health(t testing.TB, listen string) (h wire.Health) {
	c, err := client.New("http://"+listen, "")
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	_ = c.Do(ctx, http.MethodGet, "/healthz", nil, &h)
	return h
}

// TestAStandByTakesOver loses the active service in three ways in the middle
// of a run. The stand-by goes on with it; nothing is lost or done twice, and a
// service that comes back commits nothing before it stands by.
func TestAStandByTakesOver(t *testing.T) {
	for name, way := range map[string]struct {
		lose, back func(f *farm, line *badline.Line)
	}{
		"killed": {func(f *farm, _ *badline.Line) { f.service.end(syscall.SIGKILL) }, nil},
		"stopped": {
			func(f *farm, _ *badline.Line) { _ = f.service.cmd.Process.Signal(syscall.SIGSTOP) },
			func(f *farm, _ *badline.Line) { _ = f.service.cmd.Process.Signal(syscall.SIGCONT) },
		},
		"cut off from its database": {
			func(_ *farm, l *badline.Line) { l.HalfOpen() },
			func(_ *farm, l *badline.Line) { l.Mend() },
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel() // most of it is waiting
			f := newFarm(t)
			f.service.end(syscall.SIGTERM)
			database, err := url.Parse(f.url)
			if err != nil {
				t.Fatal(err)
			}
			line, err := badline.New(database.Host)
			if err != nil {
				t.Fatal(err)
			}
			defer line.Close()
			direct := f.url
			database.Host = line.Address()
			f.url = database.String()
			f.serve()
			f.url = direct
			first := f.listen
			_, second := f.another("merlin", direct)
			both := "http://" + first + ",http://" + second
			if f.admin, _, err = mustClient(t, both).SignIn(t.Context(), "admin", password, "test"); err != nil {
				t.Fatal(err)
			}
			f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 150ms\n")
			for _, node := range []string{"kiln-01", "kiln-02"} {
				f.join(node, "http://"+second, "--renderers", "practice")
			}
			id := f.submit(wire.Submit{Job: "salt_010", Scene: "salt.practice", Frames: "1-80"})
			f.done(id, 10)
			lost := time.Now()
			way.lose(f, line)
			f.wait("merlin is active", func() bool { return health(t, second).Part == "active" })
			t.Logf(
				"taken over after %v", time.Since(lost).Round(10*time.Millisecond),
			) // how long it may take is tested under a fake clock
			if way.back != nil {
				time.Sleep(500 * time.Millisecond)
				way.back(f, line)
				f.wait(
					"the first stands by",
					func() bool { h := health(t, first); return h.Part == "stand-by" && h.Active == "merlin" },
				)
			}
			f.wantDone(id, 1, 80, "salt")
			if n := f.count(`SELECT count(*) FROM audit WHERE action = 'take over' AND actor = 'merlin'`); n != 1 {
				t.Errorf("%d take-overs of merlin are on record", n)
			}
			if way.back == nil {
				return
			}
			// The first is asked, and hands on: calls, streams and the command line.
			through := mustClient(t, "http://"+first)
			through, _, err = through.SignIn(t.Context(), "admin", password, "test")
			if err != nil {
				t.Fatal(err)
			}
			var members []wire.Member
			if err := through.Do(t.Context(), http.MethodGet, "/api/v1/services", nil, &members); err != nil ||
				!slices.ContainsFunc(members, func(m wire.Member) bool { return m.Name == "merlin" && m.Active }) {
				t.Errorf("the services are told as %+v, %v", members, err)
			}
			changed := false
			stop := fmt.Errorf("seen")
			ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
			defer cancel()
			_ = through.Events(ctx, 0, func(c *client.Farm, _ client.Event) error {
				changed = c.Facts.Active.Name == "merlin" &&
					strings.Contains(c.Facts.Active.Why, "gave no sign of life")
				return stop
			}, nil)
			if !changed {
				t.Error("no change came through the service that stands by")
			}
		})
	}
}

func mustClient(t testing.TB, addresses string) *client.Client {
	t.Helper()
	c, err := client.New(addresses, "")
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// TestACleanStopIsTakenOverAtOnce: nobody is waited for who said goodbye.
func TestACleanStopIsTakenOverAtOnce(t *testing.T) {
	f := newFarm(t)
	_, second := f.another("merlin", f.url)
	began := time.Now()
	f.service.end(syscall.SIGTERM)
	f.wait("merlin is active", func() bool { return health(t, second).Part == "active" })
	t.Logf("taken over %v after the stop began", time.Since(began).Round(10*time.Millisecond))
	out, stderr, code := f.vexillum(
		"sign-in",
		"http://"+f.listen,
		"http://"+second,
		"--name", "admin", "--password-file", filepath.Join(f.dir, "password"),
	)
	if code != 0 {
		t.Fatalf("signing in at the second of two addresses: %s%s", out, stderr)
	}
	if out, stderr, code = f.vexillum("nodes"); code != 0 {
		t.Errorf("nodes: %s%s", out, stderr)
	}
}
