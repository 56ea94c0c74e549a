package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"vexillum/internal/localpg"
	"vexillum/internal/store"
)

type databaseFlags struct{ data, url string }

func (o *databaseFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&o.data, "data", dataDir(), "folder of the service's own database")
	c.Flags().StringVar(
		&o.url, "database", "",
		"URL of the PostgreSQL database, if the service uses another than its own (or VEXILLUM_DATABASE)",
	)
	c.PreRunE = func(*cobra.Command, []string) (err error) {
		o.url, err = databaseURL(o.url)
		return err
	}
}

// databaseVariable names the environment variable that the URL of a database can be in.
const databaseVariable = "VEXILLUM_DATABASE"

// databaseURL returns the URL of the database that a flag or the environment names, and takes one
// with a password off the command line.
func databaseURL(flag string) (string, error) {
	if flag == "" {
		flag = os.Getenv(databaseVariable)
		return flag, os.Unsetenv(databaseVariable)
	}
	if u, err := url.Parse(flag); err == nil && u.User != nil {
		if _, secret := u.User.Password(); secret {
			return flag, hideArgument("--database", flag, databaseVariable)
		}
	}
	return flag, nil
}

// open returns the URL of the database: of the server that runs, or of one
// that is started for the while and ended by done.
func (o *databaseFlags) open(ctx context.Context) (url string, running bool, done func() error, err error) {
	nothing := func() error { return nil }
	if o.url != "" {
		return o.url, true, nothing, nil
	}
	dir := filepath.Join(o.data, "database")
	if url, ok := localpg.Running(ctx, dir); ok {
		return url, true, nothing, nil
	}
	server, err := localpg.Start(ctx, localpg.Options{Dir: dir, Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	if err != nil {
		return "", false, nil, err
	}
	return server.URL(), false, server.Stop, nil
}

func (a *app) backupCommand() *cobra.Command {
	var o databaseFlags
	c := &cobra.Command{
		Use:   "backup FILE",
		Short: "Write all records of the farm to a file",
		Long: "Writes all records of the farm, as they are at one moment, to a new file (PostgreSQL's custom dump format). The\n" +
			"service may run on. Frames and scenes are not in it: they lie in their places.",
		Example: "  vexillum backup /srv/backup/farm-2031-03-04.dump",
		Args:    exactly(1, "the file to write"),
		RunE: func(c *cobra.Command, args []string) (err error) {
			began := time.Now()
			if o.url == "" {
				if _, err := os.Stat(filepath.Join(o.data, "database", "password")); err != nil {
					return fmt.Errorf(
						"there is no database in %s; name its folder with --data, or its URL with --database", o.data,
					)
				}
			}
			url, _, done, err := o.open(c.Context())
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, done()) }()
			if err := localpg.Dump(c.Context(), url, args[0], store.Passing...); err != nil {
				return err
			}
			info, err := os.Stat(args[0])
			if err != nil {
				return fmt.Errorf("looking at the backup: %w", err)
			}
			fmt.Fprintf(a.out, "Backed up to %s: %s in %s.\n", args[0], size(info.Size()), duration(time.Since(began)))
			return nil
		},
	}
	o.add(c)
	return c
}

func (a *app) restoreCommand() *cobra.Command {
	var o databaseFlags
	c := &cobra.Command{
		Use:   "restore FILE",
		Short: "Read a backup into a new database",
		Long: "Reads a backup into a database that holds no farm yet: a new folder (--data), or an empty database (--database).\n" +
			"The farm then goes on where it was when the backup was made. What nodes still hold of the time after that is set\n" +
			"aside on their machines, and its frames are rendered again.",
		Example: "  vexillum restore /srv/backup/farm-2031-03-04.dump --data /var/lib/vexillum-new",
		Args:    exactly(1, "the backup"),
		RunE: func(c *cobra.Command, args []string) (err error) {
			if _, err := os.Stat(args[0]); err != nil {
				return fmt.Errorf("reading the backup: %w", err)
			}
			runs, err := o.restore(c.Context(), args[0])
			if err != nil {
				return err
			}
			start := "--data " + o.data
			if o.url != "" {
				start = "--database and this URL"
			}
			fmt.Fprintf(
				a.out, "Restored %s with %d runs. Start the farm with: vexillum serve %s\n", args[0], runs, start,
			)
			return nil
		},
	}
	o.add(c)
	return c
}

// restore reads a backup into a database: a given one, or one of our own, which
// gets its place only when all is read. What fails leaves nothing that could be
// taken for a farm.
func (o *databaseFlags) restore(ctx context.Context, file string) (runs int, err error) {
	if o.url != "" {
		return restoreInto(ctx, o.url, file)
	}
	dir := filepath.Join(o.data, "database")
	if _, running := localpg.Running(ctx, dir); running {
		return 0, fmt.Errorf(
			"a service runs on %s; choose a new folder with --data, and start the service on that", o.data,
		)
	}
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return 0, fmt.Errorf(
			"%s holds a database already and is left as it is; restore into a new folder (--data)", dir,
		)
	}
	if err := os.MkdirAll(o.data, 0o755); err != nil {
		return 0, fmt.Errorf("making the folder of the farm: %w", err)
	}
	part := fmt.Sprintf("%s.restoring-%d", dir, time.Now().Unix())
	if err := os.Mkdir(part, 0o700); errors.Is(err, fs.ErrExist) {
		return 0, fmt.Errorf("%s is there already; look whether another restore is under way", part)
	} else if err != nil {
		return 0, fmt.Errorf("making a folder to restore into: %w", err)
	}
	defer func() {
		if err != nil { // this process has made it, and nothing but the backup was ever in it
			err = errors.Join(err, os.RemoveAll(part))
		}
	}()
	server, err := localpg.Start(ctx, localpg.Options{Dir: part, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return 0, err
	}
	runs, err = restoreInto(ctx, server.URL(), file)
	if err = errors.Join(err, server.Stop()); err != nil {
		return 0, err
	}
	if err := os.Remove(dir); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return 0, fmt.Errorf("putting the database into its place: %w", err)
	}
	if err := os.Rename(part, dir); err != nil {
		return 0, fmt.Errorf("putting the database into its place: %w", err)
	}
	return runs, nil
}

func restoreInto(ctx context.Context, url, file string) (runs int, err error) {
	st, err := store.Open(ctx, url)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, st.Close()) }()
	if _, err := st.Leader(ctx); !errors.Is(err, store.ErrNoLeader) {
		if err != nil {
			return 0, err
		}
		return 0, errors.New(
			"this database holds a farm already and is left as it is; restore into a new folder (--data) or an empty " +
				"database (--database)",
		)
	}
	if err := st.Restore(ctx, func(ctx context.Context, tables ...string) (io.ReadCloser, error) {
		return localpg.Script(ctx, file, tables...)
	}); err != nil {
		return 0, err
	}
	return st.Restored(ctx)
}
