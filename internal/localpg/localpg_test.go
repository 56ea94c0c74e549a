package localpg

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

func folder(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "vexillum-localpg-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	return dir
}

func started(t *testing.T, dir string) *Server {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	s, err := Start(ctx, Options{Dir: filepath.Join(dir, "db"), Fast: true})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Stop() })
	return s
}

// TestWhatIsKeptSurvives stops the server, kills it, and cuts off its first
// start.
func TestWhatIsKeptSurvives(t *testing.T) {
	dir := folder(t)
	// A first start that was cut off leaves a cluster without a password.
	if err := os.MkdirAll(filepath.Join(dir, "db", "data.new", "base"), 0o755); err != nil {
		t.Fatal(err)
	}
	s := started(t, dir)
	run := func(s *Server, query string, out ...any) {
		t.Helper()
		db, err := sql.Open("pgx", s.URL())
		if err != nil {
			t.Fatal(err)
		}
		defer db.Close()
		if len(out) == 0 {
			_, err = db.Exec(query)
		} else {
			err = db.QueryRow(query).Scan(out...)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	run(s, `CREATE TABLE kept AS SELECT 42 AS n`)
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	s = started(t, dir)
	var n int
	if run(s, `SELECT n FROM kept`, &n); n != 42 {
		t.Errorf("after a stop: %d", n)
	}
	if err := syscall.Kill(s.PID(), syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	<-s.Gone()
	s = started(t, dir)
	if run(s, `SELECT n FROM kept`, &n); n != 42 {
		t.Errorf("after a kill: %d", n)
	}
}

// TestNobodyElseGetsIn looks that the port needs the password.
func TestNobodyElseGetsIn(t *testing.T) {
	s := started(t, folder(t))
	db, err := sql.Open("pgx", strings.Replace(s.URL(), "vexillum:", "vexillum:wrong", 1))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if err := db.Ping(); err == nil {
		t.Error("a wrong password was let in")
	}
}

func TestAFolderThatTheAccountCannotEnter(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root starts the server under another account")
	}
	dir := t.TempDir()
	if err := os.Chmod(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	_, err := Start(t.Context(), Options{Dir: filepath.Join(dir, "db")})
	if err == nil || !strings.Contains(err.Error(), "may not enter "+dir+"; let it in with chmod o+x "+dir) {
		t.Errorf("%v", err)
	}
}

// TestTwoStartsDoNotClearEachOther begins twice in one new folder: one of them has it, and the
// other changes nothing until that has ended.
func TestTwoStartsDoNotClearEachOther(t *testing.T) {
	dir := filepath.Join(folder(t), "db")
	ctx, cancel := context.WithTimeout(t.Context(), 90*time.Second)
	defer cancel()
	servers, errs := make(chan *Server, 2), make(chan error, 2)
	for range 2 {
		go func() {
			s, err := Start(ctx, Options{Dir: dir, Fast: true})
			if err != nil {
				errs <- err
				return
			}
			servers <- s
		}()
	}
	first := <-servers
	pid := first.PID()
	select {
	case second := <-servers:
		t.Fatalf("two servers run: %d and %d", pid, second.PID())
	case err := <-errs:
		t.Fatalf("the second has not waited: %v", err)
	case <-first.Gone():
		t.Fatal("the first has ended")
	case <-time.After(3 * time.Second):
	}
	if err := first.Stop(); err != nil {
		t.Fatal(err)
	}
	select {
	case second := <-servers:
		if err := second.Stop(); err != nil {
			t.Fatal(err)
		}
	case err := <-errs:
		t.Errorf("the second has not got the folder once it was free: %v", err)
	}
}
