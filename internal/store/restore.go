package store

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
)

// A backup is read as rows alone. The tables are created by this program's own migrations, and
// each row is copied by a statement of this program's own: nothing that the backup itself says is
// executed, no matter who wrote it.

// Backup gives what a backup holds of some tables, as pg_restore writes it: a script of COPY
// statements with their rows. No name gives all tables.
type Backup func(ctx context.Context, tables ...string) (io.ReadCloser, error)

// ErrNotEmpty says that a database holds something already.
var ErrNotEmpty = errors.New("the database is not empty; restore into one that holds nothing")

// Lines of a script that mean nothing here: comments, settings of the session, and the brackets
// of newer versions of PostgreSQL.
var (
	harmless = regexp.MustCompile(`^(--.*|SET [a-z_]+ = [^;]*;|SELECT pg_catalog\.set_config\('search_path', '', false\);|` +
		`\\(un)?restrict [A-Za-z0-9]+)?$`)
	copyLine = regexp.MustCompile(`^COPY public\.([a-z0-9_]+) \(([a-z0-9_", ]+)\) FROM stdin;$`)
	setLine  = regexp.MustCompile(`^SELECT pg_catalog\.setval\('public\.([a-z0-9_]+)', ([0-9]+), (true|false)\);$`)
)

// mostLine bounds a line of a script that is no row, in bytes.
const mostLine = 1 << 16

const versions = "goose_db_version"

// Restore reads a backup into an empty database: all of it, or nothing. A backup of a newer
// program is refused with a *NewerError.
func (s *Store) Restore(ctx context.Context, backup Backup) error {
	var there int
	if err := s.db.GetContext(ctx, &there, `SELECT count(*) FROM pg_class c JOIN pg_namespace n ON n.oid =
		c.relnamespace WHERE n.nspname = 'public'`); err != nil {
		return fmt.Errorf("looking at the database: %w", err)
	}
	if there > 0 {
		return ErrNotEmpty
	}
	version, err := backupVersion(ctx, backup)
	if err != nil {
		return err
	}
	p, err := s.migrator()
	if err != nil {
		return err
	}
	if sources := p.ListSources(); len(sources) == 0 || version > sources[len(sources)-1].Version {
		return &NewerError{Have: version, Know: sources[len(sources)-1].Version}
	}
	if _, err = p.UpTo(ctx, version); err == nil {
		err = s.fill(ctx, backup)
	}
	if err != nil { // the database was empty, so all that is in it is of this restore
		_, dropped := s.db.ExecContext(context.WithoutCancel(ctx), `DROP SCHEMA public CASCADE; CREATE SCHEMA public`)
		return errors.Join(fmt.Errorf("reading the backup: %w", err), dropped)
	}
	return nil
}

// backupVersion returns which version of the tables a backup is of.
func backupVersion(ctx context.Context, backup Backup) (version int64, err error) {
	err = readScript(ctx, backup, []string{versions}, func(into copied, rows io.Reader) error {
		at, applied := slices.Index(into.columns, "version_id"), slices.Index(into.columns, "is_applied")
		if into.table != versions || at < 0 || applied < 0 {
			return nil
		}
		lines := bufio.NewScanner(rows)
		for lines.Scan() {
			fields := strings.Split(lines.Text(), "\t")
			if len(fields) != len(into.columns) || fields[applied] != "t" {
				continue
			}
			n, err := strconv.ParseInt(fields[at], 10, 64)
			if err != nil {
				return fmt.Errorf("reading its version: %w", err)
			}
			version = max(version, n)
		}
		return lines.Err()
	}, nil)
	if err == nil && version == 0 {
		err = errors.New("it is not a backup of a farm")
	}
	if err != nil {
		return 0, fmt.Errorf("reading the backup: %w", err)
	}
	return version, nil
}

// fill copies all rows of a backup in one transaction.
func (s *Store) fill(ctx context.Context, backup Backup) error {
	conn, err := s.db.Conn(ctx)
	if err != nil {
		return fmt.Errorf("connecting: %w", err)
	}
	defer conn.Close()
	return conn.Raw(func(driver any) error {
		c, ok := driver.(*stdlib.Conn)
		if !ok {
			return errors.New("the driver of the database cannot copy rows")
		}
		tx, err := c.Conn().Begin(ctx)
		if err != nil {
			return err
		}
		defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }() // after a commit it does nothing
		again, err := withoutForeignKeys(ctx, tx)
		if err != nil {
			return err
		}
		if err := s.copyAll(ctx, tx, backup); err != nil {
			return err
		}
		for _, statement := range again {
			if _, err := tx.Exec(ctx, statement); err != nil {
				return fmt.Errorf("its rows do not fit together: %w", err)
			}
		}
		return tx.Commit(ctx)
	})
}

// withoutForeignKeys drops all foreign keys, as a backup has its tables in any order, and
// returns the statements that create them again.
func withoutForeignKeys(ctx context.Context, tx pgx.Tx) (again []string, err error) {
	rows, err := tx.Query(ctx, `SELECT conrelid::regclass::text, conname, pg_get_constraintdef(oid) FROM pg_constraint
		WHERE contype = 'f' AND connamespace = 'public'::regnamespace AND conparentid = 0`)
	if err != nil {
		return nil, err
	}
	var drop []string
	var table, name, is string
	if _, err := pgx.ForEachRow(rows, []any{&table, &name, &is}, func() error {
		quoted := pgx.Identifier{name}.Sanitize()
		drop = append(drop, fmt.Sprintf("ALTER TABLE %s DROP CONSTRAINT %s", table, quoted))
		again = append(again, fmt.Sprintf("ALTER TABLE %s ADD CONSTRAINT %s %s", table, quoted, is))
		return nil
	}); err != nil {
		return nil, err
	}
	for _, statement := range drop {
		if _, err := tx.Exec(ctx, statement); err != nil {
			return nil, err
		}
	}
	return again, nil
}

func (s *Store) copyAll(ctx context.Context, tx pgx.Tx, backup Backup) error {
	emptied := map[string]bool{}
	return readScript(ctx, backup, nil, func(into copied, rows io.Reader) error {
		if into.table == versions { // the migrations have written it
			_, err := io.Copy(io.Discard, rows)
			return err
		}
		if err := createPartition(ctx, tx, into.table); err != nil {
			return err
		}
		name := pgx.Identifier{"public", into.table}.Sanitize()
		if !emptied[into.table] { // of what the migrations have put there
			emptied[into.table] = true
			if _, err := tx.Exec(ctx, "DELETE FROM "+name); err != nil {
				return fmt.Errorf("the table %s: %w", into.table, err)
			}
		}
		var columns []string
		for _, c := range into.columns {
			columns = append(columns, pgx.Identifier{c}.Sanitize())
		}
		_, err := tx.Conn().PgConn().CopyFrom(
			ctx, rows, fmt.Sprintf("COPY %s (%s) FROM STDIN", name, strings.Join(columns, ", ")),
		)
		if err != nil {
			return fmt.Errorf("the table %s: %w", into.table, err)
		}
		return nil
	}, func(sequence string, value int64, called bool) error {
		_, err := tx.Exec(
			ctx, `SELECT setval($1::regclass, $2, $3)`, pgx.Identifier{"public", sequence}.Sanitize(), value, called,
		)
		return err
	})
}

// createPartition creates a table that is a partition of one that has them.
func createPartition(ctx context.Context, tx pgx.Tx, name string) error {
	for _, p := range allPartitioned {
		at, is := p.begins(name)
		if !is || !strings.HasPrefix(name, p.table+"_") {
			continue
		}
		_, err := tx.Exec(ctx, p.create(at, "IF NOT EXISTS"))
		return err
	}
	return nil
}

// copied is what a COPY statement of a script fills.
type copied struct {
	table   string
	columns []string
}

// readScript reads a script, and refuses one that holds anything but rows. set may be nil.
func readScript(
	ctx context.Context, backup Backup, tables []string, rows func(into copied, rows io.Reader) error,
	set func(sequence string, value int64, called bool) error,
) (err error) {
	script, err := backup(ctx, tables...)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, script.Close()) }()
	in := bufio.NewReaderSize(script, mostLine)
	for {
		slice, err := in.ReadSlice('\n')
		if errors.Is(err, io.EOF) && len(slice) == 0 {
			return nil
		}
		if err != nil && !errors.Is(err, io.EOF) { // too long, or the file
			return err
		}
		line := strings.TrimRight(string(slice), "\r\n")
		switch m, n := copyLine.FindStringSubmatch(line), setLine.FindStringSubmatch(line); {
		case harmless.MatchString(line):
		case m != nil:
			into := copied{table: m[1]}
			for column := range strings.SplitSeq(m[2], ", ") {
				into.columns = append(into.columns, strings.Trim(column, `"`))
			}
			data := &rowReader{in: in, start: true}
			if err := rows(into, data); err != nil {
				return err
			}
			if _, err := io.Copy(io.Discard, data); err != nil {
				return err
			}
		case n != nil:
			value, err := strconv.ParseInt(n[2], 10, 64)
			if err != nil {
				return fmt.Errorf("the sequence %s: %w", n[1], err)
			}
			if set != nil {
				if err := set(n[1], value, n[3] == "true"); err != nil {
					return fmt.Errorf("the sequence %s: %w", n[1], err)
				}
			}
		default:
			return fmt.Errorf("it holds a statement that no backup of a farm has, and was not executed: %.120q", line)
		}
	}
}

// rowReader reads the rows behind a COPY statement, up to the line that ends them.
type rowReader struct {
	in    *bufio.Reader
	start bool // a line begins
	rest  []byte
	done  bool
}

var endOfRows = []byte("\\.\n")

// Read implements [io.Reader].
func (r *rowReader) Read(p []byte) (int, error) {
	if len(r.rest) == 0 {
		if r.done {
			return 0, io.EOF
		}
		part, err := r.in.ReadSlice('\n')
		switch {
		case errors.Is(err, io.EOF):
			return 0, io.ErrUnexpectedEOF
		case err != nil && !errors.Is(err, bufio.ErrBufferFull):
			return 0, err
		}
		if r.start && bytes.Equal(part, endOfRows) {
			r.done = true
			return 0, io.EOF
		}
		r.start, r.rest = err == nil, part
	}
	n := copy(p, r.rest)
	r.rest = r.rest[n:]
	return n, nil
}
