package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
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
	c.Flags().StringVar(&o.url, "database", "", "URL of the PostgreSQL database, if the service uses another than its own")
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
					return fmt.Errorf("there is no database in %s; name its folder with --data, or its URL with --database", o.data)
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
			url, running, done, err := o.open(c.Context())
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, done()) }()
			if running && o.url == "" {
				return fmt.Errorf("a service runs on %s; choose a new folder with --data, and start the service on that", o.data)
			}
			st, err := store.Open(c.Context(), url)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, st.Close()) }()
			if _, err := st.Leader(c.Context()); !errors.Is(err, store.ErrNoLeader) {
				if err != nil {
					return err
				}
				return errors.New("this database holds a farm already and is left as it is; restore into a new folder (--data) or an empty database (--database)")
			}
			if err := localpg.Restore(c.Context(), url, args[0]); err != nil {
				return err
			}
			runs, err := st.Restored(c.Context())
			if err != nil {
				return err
			}
			start := "--data " + o.data
			if o.url != "" {
				start = "--database and this URL"
			}
			fmt.Fprintf(a.out, "Restored %s with %d runs. Start the farm with: vexillum serve %s\n", args[0], runs, start)
			return nil
		},
	}
	o.add(c)
	return c
}
