package system

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/jmoiron/sqlx"

	"vexillum/internal/client"
	"vexillum/internal/localpg"
	"vexillum/internal/wire"
)

// durableFarm is a farm on a PostgreSQL server that flushes, as in real use.
func durableFarm(b *testing.B) (*farm, *localpg.Server) {
	b.Helper()
	dir, err := os.MkdirTemp("", "vexillum-scale-")
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { _ = os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		b.Fatal(err)
	}
	server, err := localpg.Start(b.Context(), localpg.Options{Dir: filepath.Join(dir, "db")})
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { _ = server.Stop() })
	f := &farm{t: b, dir: dir, listen: freeAddress(b), url: server.URL()}
	f.setUp()
	return f, server
}

// BenchmarkDurableLeases measures how many leases a second 64 askers get over
// HTTP, each committed before it is answered, beside the claims a second that
// pgbench makes in the same database with SKIP LOCKED. Goal: 4 times as many.
func BenchmarkDurableLeases(b *testing.B) {
	const askers, window = 64, 8 * time.Second
	f, server := durableFarm(b)
	f.scene("a.practice", "practice: 1\npicture: salt\n")
	var key wire.Key
	if err := f.admin.Do(b.Context(), http.MethodPost, "/api/v1/keys", wire.NewKey{Uses: new(askers)}, &key); err != nil {
		b.Fatal(err)
	}
	facts := wire.Facts{
		OS: "linux", Cores: 16, Speed: 1, Renderers: []wire.Renderer{{Recipe: "practice", Version: "1"}},
	}
	nodes := make([]*client.Client, askers)
	for i := range nodes {
		var enrolled wire.Enrolled
		if err := f.admin.Do(
			b.Context(), http.MethodPost, "/node/v1/enrol",
			wire.Enrol{Key: key.Key, Name: fmt.Sprintf("kiln-%02d", i), Kind: "rack", Facts: facts}, &enrolled,
		); err != nil {
			b.Fatal(err)
		}
		c, err := client.New("http://"+f.listen, enrolled.Token)
		if err != nil {
			b.Fatal(err)
		}
		nodes[i] = c
		if err := c.Do(
			b.Context(), http.MethodPost, "/node/v1/start", wire.Start{Facts: facts}, &wire.Started{},
		); err != nil {
			b.Fatal(err)
		}
	}
	began := time.Now()
	f.submit(wire.Submit{Job: "a", Scene: "a.practice", Frames: "1-1000000", Chunk: 1, StartOn: new(0)})
	submitted := time.Since(began)
	// rate returns how many leases a second the askers get, each of which reports
	// the end of those before with the next ask.
	numbers := make([]int64, askers)
	before := make([][]wire.Ended, askers)
	rate := func() float64 {
		var leases atomic.Int64
		ctx, cancel := context.WithTimeout(b.Context(), window)
		defer cancel()
		var wg sync.WaitGroup
		for i, c := range nodes {
			wg.Go(func() {
				for ctx.Err() == nil {
					var a wire.Answer
					if c.Do(
						ctx, http.MethodPost, "/node/v1/ask",
						wire.Ask{Session: 1, Number: numbers[i] + 1, Seconds: 5, Ended: before[i]}, &a,
					) != nil {
						continue
					}
					numbers[i]++
					before[i] = nil
					for _, l := range a.Leases {
						before[i] = append(before[i], wire.Ended{Lease: l.ID})
					}
					leases.Add(int64(len(a.Leases)))
				}
			})
		}
		wg.Wait()
		return float64(leases.Load()) / window.Seconds()
	}
	for b.Loop() {
		ours := rate()
		f.post("/api/v1/runs/1/cancel")
		f.submit(
			wire.Submit{
				Job: "b", Scene: "a.practice", Frames: "1-1000000", Chunk: 1, Takes: &wire.Amounts{Cores: 1},
				StartOn: new(0),
			},
		)
		beside := rate()
		theirs := claims(b, server)
		alone := answersAlone(b, askers, window)
		b.ReportMetric(alone, "answers-alone/s")
		b.ReportMetric(alone/theirs, "times-as-many-answers-alone")
		b.ReportMetric(ours, "leases/s-one-an-answer")
		b.ReportMetric(ours/theirs, "times-as-many-one-an-answer")
		b.ReportMetric(beside, "leases/s-16-side-by-side")
		b.ReportMetric(theirs, "pgbench-claims/s")
		b.ReportMetric(beside/theirs, "times-as-many-16-side-by-side")
		b.ReportMetric(submitted.Seconds(), "s-to-submit-1000000-frames")
		b.ReportMetric(0, "ns/op")
	}
}

// answersAlone returns how many asks a second the same askers get answered by a
// server that decodes the ask, answers with a lease, and does nothing else:
// what HTTP and JSON leave of this machine.
func answersAlone(b *testing.B, askers int, window time.Duration) float64 {
	b.Helper()
	gin.SetMode(gin.ReleaseMode)
	e := gin.New()
	lease := wire.Lease{
		ID: 1, Run: 1, RunName: "a/final-1", Recipe: "practice", Frames: "1", ShotFirst: 1,
		ShotLast: 1_000_000, Scene: "a.practice", SceneRoot: "/mnt/scenes", Output: "a/final-1",
		OutputRoot: "/mnt/frames", FilePrefix: "a.", FileEnding: ".png", Digits: 7, Width: 1920,
		Height: 1080, Values: map[string]string{},
	}
	e.POST("/node/v1/ask", func(c *gin.Context) {
		var in wire.Ask
		if c.ShouldBindJSON(&in) != nil {
			c.Status(http.StatusBadRequest)
			return
		}
		c.JSON(http.StatusOK, wire.Answer{Leases: []wire.Lease{lease}})
	})
	server := httptest.NewServer(e)
	defer server.Close()
	ctx, cancel := context.WithTimeout(b.Context(), window/2)
	defer cancel()
	var answers atomic.Int64
	var wg sync.WaitGroup
	for range askers {
		c, err := client.New(server.URL, "vxn_of_a_node")
		if err != nil {
			b.Fatal(err)
		}
		wg.Go(func() {
			for number := int64(1); ctx.Err() == nil; number++ {
				var a wire.Answer
				if c.Do(
					ctx, http.MethodPost, "/node/v1/ask",
					wire.Ask{Session: 1, Number: number, Seconds: 5, Ended: []wire.Ended{{Lease: number}}}, &a,
				) == nil &&
					len(a.Leases) > 0 {
					answers.Add(1)
				}
			}
		})
	}
	wg.Wait()
	return float64(answers.Load()) / (window / 2).Seconds()
}

// claims returns the best rate of SKIP LOCKED claims with 8, 16 and 64
// clients.
func claims(b *testing.B, server *localpg.Server) float64 {
	b.Helper()
	db, err := sqlx.Open("pgx", server.URL())
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	bin, err := localpg.FindBinaries()
	if err != nil {
		b.Fatal(err)
	}
	script := filepath.Join(b.TempDir(), "claim.sql")
	text := `UPDATE claim SET node = 1, state = 'leased' WHERE id = (SELECT id FROM claim WHERE state = 'to do' ORDER BY id LIMIT 1 FOR UPDATE SKIP LOCKED) RETURNING id;`
	if err := os.WriteFile(script, []byte(text), 0o644); err != nil {
		b.Fatal(err)
	}
	u, err := url.Parse(server.URL())
	if err != nil {
		b.Fatal(err)
	}
	password, _ := u.User.Password()
	best := 0.0
	for _, clients := range []int{8, 16, 64} {
		for _, q := range []string{
			`DROP TABLE IF EXISTS claim`,
			`CREATE TABLE claim AS SELECT g AS id, 0 AS node, 'to do'::text AS state FROM generate_series(1, 300000) g`,
			`ALTER TABLE claim ADD PRIMARY KEY (id)`,
			`CREATE INDEX claim_open ON claim (id) WHERE state = 'to do'`,
			`VACUUM ANALYZE claim`,
		} {
			if _, err := db.Exec(q); err != nil {
				b.Fatal(err)
			}
		}
		cmd := exec.Command(
			filepath.Join(bin, "pgbench"), "-n", "-M", "prepared", "-c", strconv.Itoa(clients), "-j", "2", "-T", "5",
			"-f", script, "-h", "127.0.0.1", "-p", strconv.Itoa(server.Port()), "-U", u.User.Username(), "postgres",
		)
		cmd.Env = append(os.Environ(), "PGPASSWORD="+password)
		out, err := cmd.CombinedOutput()
		if err != nil {
			b.Fatalf("%v: %s", err, out)
		}
		m := regexp.MustCompile(`tps = ([\d.]+)`).FindSubmatch(out)
		if m == nil {
			b.Fatalf("pgbench said %s", out)
		}
		if tps, err := strconv.ParseFloat(string(m[1]), 64); err == nil {
			best = max(best, tps)
		}
	}
	return best
}

// BenchmarkRestart measures how long a service takes from its start to its
// first answer on a farm of 1,000 open runs with 10,000 frames each, half of
// them done in pieces. Goal: below 5 s.
func BenchmarkRestart(b *testing.B) {
	f, _ := durableFarm(b)
	f.scene("a.practice", "practice: 1\npicture: salt\n")
	f.submit(wire.Submit{Job: "a", Scene: "a.practice", Frames: "1-10000", Held: true})
	f.service.end(syscall.SIGKILL)
	db, err := sqlx.Open("pgx", f.url)
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	// Frames 1 to 5050 but every hundredth are done, and some after the last
	// time that the done set was kept whole.
	for _, q := range []string{
		`INSERT INTO run (id, job, project, kind, number, spec, state, reason, queue_order, submitted_at, started_at, done, done_seq)
			SELECT g, 'a' || g, project, kind, number, spec || jsonb_build_object('job', 'a' || g), 'rendering', 'dealt', g, submitted_at, now(),
				(SELECT range_agg(int4range(h * 100 + 1, h * 100 + 100)) FROM generate_series(0, 48) h), g * 100000 + 4900
			FROM run, generate_series(2, 1000) g WHERE id = 1`,
		`INSERT INTO node SELECT g, 'kiln-' || g, 'rack', '{"os": "linux", "speed": 1, "renderers": [{"recipe": "practice"}]}', 1, 'silent', now(), 'on duty', now() FROM generate_series(1, 50) g`,
		`INSERT INTO frame (run, frame, state, lease, launch, node, hash, bytes, startup_seconds, render_seconds, check_seconds, accepted_at, done_at, seq)
			SELECT g, h, 'done', g, 1, 1 + g % 50, md5(h::text) || md5(g::text), 100000, 0, 1 + random(), 0.1, now(), now(), g * 100000 + h
			FROM generate_series(2, 1000) g, generate_series(1, 5050) h WHERE h % 100 <> 0`,
		`UPDATE leader SET seq = 200000000`,
		`VACUUM ANALYZE`,
	} {
		if _, err := db.Exec(q); err != nil {
			b.Fatalf("%v: %s", err, q)
		}
	}
	for b.Loop() {
		began := time.Now()
		f.serve()
		took := time.Since(began)
		var runs []wire.Run
		if err := f.admin.Do(b.Context(), http.MethodGet, "/api/v1/runs", nil, &runs); err != nil || len(runs) < 1000 {
			b.Fatalf("%d runs, %v", len(runs), err)
		}
		b.ReportMetric(took.Seconds(), "s-to-restart")
		b.ReportMetric(0, "ns/op")
		f.service.end(syscall.SIGKILL)
	}
}
