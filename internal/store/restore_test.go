package store

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"vexillum/internal/localpg"
	"vexillum/internal/testkit/pgtest"
)

// contents returns a digest of each table of a database.
func contents(t *testing.T, s *Store) map[string]string {
	t.Helper()
	var tables []string
	if err := s.db.Select(&tables, `SELECT c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = 'public' AND c.relkind = 'r' AND c.relname <> 'goose_db_version'`); err != nil {
		t.Fatal(err)
	}
	out := map[string]string{}
	for _, table := range tables {
		var digest string
		if err := s.db.Get(
			&digest, `SELECT count(*) || ' ' || COALESCE(md5(string_agg(t::text, '|' ORDER BY t::text)), '') FROM "`+table+`" t`,
		); err != nil {
			t.Fatal(err)
		}
		out[table] = digest
	}
	return out
}

// TestABackupIsReadAsRows dumps a database that has something in each kind of table, reads it
// into another, and compares.
func TestABackupIsReadAsRows(t *testing.T) {
	url := pgtest.URL(t)
	s, _ := claimed(t, url)
	if err := s.Partition(t.Context(), now, 1<<40); err != nil {
		t.Fatal(err)
	}
	for _, statement := range []string{
		`INSERT INTO place (name, paths) VALUES (E'sc\\enes\t\n', '{"linux": "/mnt/\\.\n"}')`,
		`INSERT INTO person (name, role, password_hash, created_at) VALUES ('nadia', 'wrangler', E'\\.', now())`,
	} {
		if _, err := s.db.Exec(statement); err != nil {
			t.Fatal(err)
		}
	}
	file := filepath.Join(t.TempDir(), "farm.dump")
	if err := localpg.Dump(t.Context(), url, file); err != nil {
		t.Fatal(err)
	}
	backup := func(ctx context.Context, tables ...string) (io.ReadCloser, error) {
		return localpg.Script(ctx, file, tables...)
	}
	other, err := Open(t.Context(), pgtest.URL(t))
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	if err := other.Restore(t.Context(), backup); err != nil {
		t.Fatal(err)
	}
	got := contents(t, other)
	for table, want := range contents(t, s) {
		if got[table] != want {
			t.Errorf("%s holds %s, want %s", table, got[table], want)
		}
	}
	if err := other.Restore(t.Context(), backup); !errors.Is(err, ErrNotEmpty) {
		t.Errorf("over a farm: %v", err)
	}
	var keys int
	if err := other.db.Get(&keys, `SELECT count(*) FROM pg_constraint WHERE contype = 'f'`); err != nil || keys == 0 {
		t.Errorf("%d foreign keys are there, %v", keys, err)
	}
}

// TestNothingThatABackupSaysIsExecuted gives scripts that hold more than rows, as somebody could
// write into a backup.
func TestNothingThatABackupSaysIsExecuted(t *testing.T) {
	mark := filepath.Join(t.TempDir(), "mark")
	version := "COPY public.goose_db_version (id, version_id, is_applied, tstamp) FROM stdin;\n1\t24\tt\t2031-01-01\n\\.\n"
	for _, evil := range []string{
		"COPY (SELECT 1) TO PROGRAM 'touch " + mark + "';",
		"COPY public.place (name) FROM PROGRAM 'touch " + mark + "';",
		"COPY public.place (name) FROM stdin; COPY (SELECT 1) TO PROGRAM 'touch " + mark + "';",
		"COPY public.place (name) FROM stdin WHERE pg_ls_dir('/') IS NULL;",
		"COPY public.place (name, (SELECT 1)) FROM stdin;\nx\n\\.",
		"COPY pg_catalog.pg_authid (rolname) FROM stdin;\nx\n\\.",
		"COPY public.place (nothing) FROM stdin;\nx\n\\.",
		"COPY public.person (name) FROM stdin;\nx\n",
		"SELECT pg_catalog.setval('public.place', 1, true);",
		"SELECT lo_import('/etc/passwd');",
		"CREATE FUNCTION public.f() RETURNS void LANGUAGE sql AS 'SELECT 1';",
		"SET session_authorization = 'postgres'; DROP TABLE place;",
		"SET a = b\n; DROP TABLE place;",
		"\\! touch " + mark,
		"\\copy place to program 'touch " + mark + "'",
		"DO $$ BEGIN EXECUTE 'x'; END $$;",
		strings.Repeat("-", 2*mostLine),
	} {
		s, err := Open(t.Context(), pgtest.URL(t))
		if err != nil {
			t.Fatal(err)
		}
		err = s.Restore(t.Context(), func(_ context.Context, tables ...string) (io.ReadCloser, error) {
			if len(tables) > 0 {
				return io.NopCloser(strings.NewReader(version)), nil
			}
			return io.NopCloser(strings.NewReader("SET lock_timeout = 0;\n" + version + evil + "\n")), nil
		})
		if err == nil {
			t.Errorf("%.100q is taken", evil)
		}
		var left int
		if err := s.db.Get(&left, `SELECT count(*) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
			WHERE n.nspname = 'public'`); err != nil || left != 0 {
			t.Errorf("%.100q leaves %d tables, %v", evil, left, err)
		}
		_ = s.Close()
	}
	if _, err := os.Stat(mark); err == nil {
		t.Error("a statement of a backup was executed")
	}
	s, err := Open(t.Context(), pgtest.URL(t))
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	var newer *NewerError
	if err := s.Restore(t.Context(), func(context.Context, ...string) (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader(strings.Replace(version, "\t24\t", "\t9999\t", 1))), nil
	}); !errors.As(err, &newer) {
		t.Errorf("of a newer program: %v", err)
	}
}
