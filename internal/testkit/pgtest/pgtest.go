// Package pgtest gives tests a real PostgreSQL server: one for each test
// program, and in it one empty database for each test.
package pgtest

import (
	"context"
	"database/sql"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver that makes databases

	"vexillum/internal/localpg"
)

var (
	once    sync.Once
	server  *localpg.Server
	failure error
	folder  string
	counter atomic.Int64
)

// Run is the body of a TestMain: it runs the tests and ends the server.
func Run(m *testing.M) int {
	defer func() {
		if server != nil {
			if err := server.Stop(); err != nil {
				fmt.Fprintln(os.Stderr, err)
			}
		}
		if folder != "" {
			_ = os.RemoveAll(folder)
		}
	}()
	return m.Run()
}

// Folder makes a temporary folder that the database's account may enter,
// unlike the testing package's own when tests run as root.
func Folder() (string, error) {
	dir, err := os.MkdirTemp("", "vexillum-test-")
	if err != nil {
		return "", err
	}
	return dir, os.Chmod(dir, 0o755)
}

// URL returns the address of an empty database of the test's own.
func URL(t testing.TB) string {
	t.Helper()
	once.Do(func() {
		if folder, failure = Folder(); failure != nil {
			return
		}
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		server, failure = localpg.Start(ctx, localpg.Options{Dir: filepath.Join(folder, "db"), Fast: true})
	})
	if failure != nil {
		t.Fatal(failure)
	}
	db, err := sql.Open("pgx", server.URL())
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	name := fmt.Sprintf("test_%d", counter.Add(1))
	if _, err := db.ExecContext(t.Context(), "CREATE DATABASE "+name); err != nil {
		t.Fatal(err)
	}
	u, err := url.Parse(server.URL())
	if err != nil {
		t.Fatal(err)
	}
	u.Path = "/" + name
	return u.String()
}
