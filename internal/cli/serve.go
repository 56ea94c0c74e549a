package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vexillum/internal/api"
	"vexillum/internal/client"
	"vexillum/internal/localpg"
	"vexillum/internal/notify"
	"vexillum/internal/recipe"
	"vexillum/internal/secret"
	"vexillum/internal/service"
	"vexillum/internal/store"
	"vexillum/web"
)

type serveOptions struct {
	trialAfter                                                                                         time.Duration
	inbox, inboxPerson                                                                                 string
	listen, data, database, recipes, passwordFile, cert, key, name, advertise, contents, contentsLimit string
	logs                                                                                               string
	fast                                                                                               bool
	clockOffset                                                                                        time.Duration
	mail, mailFrom, mailCA, url                                                                        string
	inward                                                                                             []string
	hurryNotices                                                                                       float64
}

func (a *app) serveCommand() *cobra.Command {
	var o serveOptions
	c := &cobra.Command{
		Use:   "serve",
		Short: "Run the service with its console and its own database",
		Long: "Runs the service. By default it keeps a PostgreSQL server of its own on loopback, which ends with it and\n" +
			"recovers by itself at the next start. The first start makes the administrator admin and prints the password once.\n\n" +
			"Several services may share one database (--database). One is active; the others stand by, hand requests on to\n" +
			"it, and take over within seconds when it gives no sign of life.",
		Args: exactly(0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) (err error) {
			if o.database, err = databaseURL(o.database); err != nil {
				return err
			}
			return a.serve(c.Context(), o)
		},
	}
	f := c.Flags()
	f.StringVar(&o.listen, "listen", "127.0.0.1:7420", "address and port to listen on")
	f.StringVar(&o.data, "data", dataDir(), "folder of the service's own database")
	f.StringVar(
		&o.database, "database", "", "URL of a PostgreSQL database to use instead of its own (or VEXILLUM_DATABASE)",
	)
	f.StringVar(
		&o.contents, "contents", "",
		"folder for the contents of bundles; services on one database share it (default: in --data)",
	)
	f.StringVar(
		&o.contentsLimit, "contents-limit", "200GiB",
		"disk that contents of bundles may take up besides what open runs need",
	)
	f.StringVar(&o.recipes, "recipes", "", "folder with further recipes")
	f.StringVar(&o.passwordFile, "admin-password-file", "", "file with the password of the first administrator")
	f.StringVar(&o.name, "name", "", "name of this service among those on one database (default: host and port)")
	f.StringVar(&o.advertise, "advertise", "", "address where other services reach this one (default: from --listen)")
	f.StringVar(
		&o.logs, "logs-limit", "8GiB",
		"how much of the database the logs of the last two weeks may take up; beyond that the oldest days go",
	)
	f.DurationVar(
		&o.trialAfter, "trial-after", 10*time.Minute,
		"after how long a node that the farm has sidelined is tried again first; then twice as long each time",
	)
	f.StringVar(&o.inbox, "inbox", "", "folder into which job files are dropped, to be submitted")
	f.StringVar(
		&o.inboxPerson, "inbox-person", "",
		"whose the files are that lie in the inbox directly; those in a folder called like a person are that person's",
	)
	f.StringVar(
		&o.mail,
		"mail",
		"",
		"mail server for notices: smtp://USER@HOST:PORT with STARTTLS, smtps:// or smtp+plain://; its password is "+
			"read from VEXILLUM_MAIL_PASSWORD",
	)
	f.StringVar(&o.mailFrom, "mail-from", "", "address that notices by e-mail are from")
	f.StringVar(&o.mailCA, "mail-ca", "", "file with certificates to trust for the mail server (PEM)")
	f.StringSliceVar(
		&o.inward, "notices-inward", nil,
		"addresses and networks inside to which webhooks may go, such as 10.1.0.0/16; all others inside are refused",
	)
	f.StringVar(&o.url, "url", "", "where people reach the console, for links in notices, such as https://farm.example")
	f.Float64Var(&o.hurryNotices, "hurry-notices", 1, "for tests alone: wait less before notices are sent again")
	_ = f.MarkHidden("hurry-notices")
	f.StringVar(&o.cert, "tls-cert", "", "certificate chain for TLS (PEM)")
	f.StringVar(&o.key, "tls-key", "", "private key for TLS (PEM)")
	f.BoolVar(&o.fast, "no-durability", false, "for tests alone: let the own database skip flushing")
	f.DurationVar(&o.clockOffset, "clock-offset", 0, "for tests alone: let the service's clock be wrong")
	_ = f.MarkHidden("no-durability")
	_ = f.MarkHidden("clock-offset")
	return c
}

// mailer returns the sender of e-mail; nil where no mail server is named.
func (o serveOptions) mailer() (*notify.Mailer, error) {
	switch {
	case o.mail == "" && o.mailFrom == "" && o.mailCA == "":
		return nil, nil
	case o.mail == "" || o.mailFrom == "":
		return nil, errors.New("notices by e-mail need both --mail and --mail-from")
	}
	return notify.ParseMailer(o.mail, o.mailFrom, os.Getenv("VEXILLUM_MAIL_PASSWORD"), o.mailCA)
}

func (a *app) serve(ctx context.Context, o serveOptions) (err error) {
	log := a.logger(slog.LevelInfo)
	if (o.cert == "") != (o.key == "") {
		return usageError{errors.New("TLS needs both --tls-cert and --tls-key")}
	}
	mostLogs, err := bytesOf(o.logs)
	if err != nil || mostLogs < 1<<20 {
		return usageError{fmt.Errorf("--logs-limit %q: write it like 8GiB, at least 1MiB", o.logs)}
	}
	mostContents, err := bytesOf(o.contentsLimit)
	if err != nil || mostContents < 1 {
		return usageError{fmt.Errorf("--contents-limit %q: write it like 200GiB", o.contentsLimit)}
	}
	book, err := recipe.Builtin()
	if err != nil {
		return err
	}
	own, err := recipe.Folder(o.recipes)
	if err != nil {
		return err
	}
	guard, err := notify.ParseGuard(o.inward)
	if err != nil {
		return usageError{fmt.Errorf("--notices-inward: %w", err)}
	}
	mailer, err := o.mailer()
	if err != nil {
		return usageError{err}
	}
	// The port first: a second start on it shall not touch the database.
	listener, err := net.Listen("tcp", o.listen)
	if err != nil {
		return fmt.Errorf("cannot listen on %s: %w; choose another with --listen", o.listen, err)
	}
	defer listener.Close()
	url := o.database
	if url == "" {
		db, err := localpg.Start(ctx, localpg.Options{Dir: filepath.Join(o.data, "database"), Log: log, Fast: o.fast})
		if err != nil {
			return err
		}
		keeper := keepDatabase(
			ctx, db, localpg.Options{Dir: filepath.Join(o.data, "database"), Port: db.Port(), Log: log, Fast: o.fast},
		)
		defer func() { err = errors.Join(err, keeper()) }()
		url = db.URL()
	}
	st, err := store.Open(ctx, url)
	if err != nil {
		return err
	}
	defer st.Close()
	name, address := o.who(listener.Addr())
	svc := service.New(service.Options{
		Store: st, Recipes: book, OwnRecipes: own, Log: log, Name: name, Address: address, Version: Version,
		Socket: socketName(listener.Addr()), Now: func() time.Time { return time.Now().Add(o.clockOffset) },
		Alone: o.database == "", MostLogs: mostLogs, Folder: o.data,
		Contents: o.contents, MostContents: mostContents, Inbox: o.inbox, InboxPerson: o.inboxPerson,
		TrialAfter: o.trialAfter, Mailer: mailer, Guard: guard, Console: o.url, HurryNotices: o.hurryNotices,
		FirstAdmin: func() (string, string, error) { return a.firstAdmin(o.passwordFile) },
	})
	pin, err := o.pin()
	if err != nil {
		return err
	}
	server, err := api.New(api.Options{
		Service: svc, Console: web.Files(), Log: log, Name: name, Version: Version, Secure: o.cert != "", Pin: pin,
	})
	if err != nil {
		return err
	}
	return a.listen(ctx, listener, server, svc, o, log)
}

// pin returns what nodes know this service by that enrol; empty without TLS.
func (o serveOptions) pin() (string, error) {
	if o.cert == "" {
		return "", nil
	}
	pair, err := tls.LoadX509KeyPair(o.cert, o.key)
	if err != nil {
		return "", fmt.Errorf("reading the certificate for TLS: %w", err)
	}
	return client.PinOf(pair.Leaf), nil
}

// who returns the name of this service and the address where others reach it.
func (o serveOptions) who(listening net.Addr) (name, address string) {
	host, _ := os.Hostname()
	bound, port, _ := net.SplitHostPort(listening.String())
	name, address = o.name, o.advertise
	if name == "" {
		name = host + ":" + port
	}
	if address == "" {
		if ip := net.ParseIP(bound); ip != nil && ip.IsUnspecified() {
			bound = host
		}
		scheme := "http"
		if o.cert != "" {
			scheme = "https"
		}
		address = scheme + "://" + net.JoinHostPort(bound, port)
	}
	return name, address
}

// socketName returns what only one living process can listen on: the port of
// this machine, or of this part of it. It is empty where that is not known.
func socketName(listening net.Addr) string {
	boot, err1 := os.ReadFile("/proc/sys/kernel/random/boot_id")
	network, err2 := os.Readlink("/proc/self/ns/net")
	if err1 != nil || err2 != nil {
		return ""
	}
	return strings.TrimSpace(string(boot)) + " " + network + " " + listening.String()
}

// listen serves until the context ends or the service gives up.
func (a *app) listen(
	ctx context.Context, listener net.Listener, handler http.Handler, svc *service.Service, o serveOptions,
	log *slog.Logger,
) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	h := &http.Server{
		Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		BaseContext: func(net.Listener) context.Context { return ctx }, // open streams end with us
		ErrorLog:    slog.NewLogLogger(log.Handler(), slog.LevelWarn),
	}
	served := make(chan error, 1)
	go func() {
		if o.cert != "" {
			served <- h.ServeTLS(listener, o.cert, o.key)
			return
		}
		served <- h.Serve(listener)
	}()
	ran := make(chan error, 1)
	// The farm outlives the requests: those in flight shall be answered.
	floorCtx, stopFloor := context.WithCancel(context.Background())
	defer stopFloor()
	go func() { ran <- svc.Run(floorCtx) }()
	if host, _, err := net.SplitHostPort(listener.Addr().String()); err == nil && o.cert == "" &&
		!net.ParseIP(host).IsLoopback() {
		log.Warn(
			"other machines can reach this port and tokens cross the network in the clear; give --tls-cert and " +
				"--tls-key where you do not trust it",
		)
	}
	log.Info("listening", "address", "http://"+listener.Addr().String(), "version", Version)
	var err error
	select {
	case <-ctx.Done():
		log.Info("stopping")
	case err = <-served:
		err = fmt.Errorf("listening on %s: %w", o.listen, err)
	case err = <-ran:
		ran <- err
	}
	stop()
	closing, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	_ = h.Shutdown(closing) // what is still open then is cut off
	stopFloor()
	return errors.Join(err, unlessSame(err, <-ran))
}

func unlessSame(a, b error) error {
	if a != nil && b != nil {
		return nil
	}
	return b
}

// keepDatabase starts our own database again if it ends without us. The
// returned function ends it.
func keepDatabase(ctx context.Context, db *localpg.Server, o localpg.Options) (stop func() error) {
	ending := make(chan struct{})
	ended := make(chan error, 1)
	go func() {
		for {
			select {
			case <-ending:
				ended <- db.Stop()
				return
			case <-db.Gone():
			}
			o.Log.Error("the database has ended; it is started again")
			next, err := localpg.Start(context.WithoutCancel(ctx), o)
			if err != nil {
				o.Log.Error("starting the database again", "error", err)
				select {
				case <-ending:
					ended <- nil
					return
				case <-time.After(time.Second):
				}
				continue
			}
			db = next
		}
	}()
	return func() error {
		close(ending)
		return <-ended
	}
}

// firstAdmin returns name and password hash of the first administrator.
func (a *app) firstAdmin(file string) (name, hash string, err error) {
	password := secret.Password()
	if file != "" {
		data, err := os.ReadFile(file)
		if err != nil {
			return "", "", fmt.Errorf("reading the administrator's password: %w", err)
		}
		password = strings.TrimSpace(string(data))
	} else {
		fmt.Fprintf(a.out, "\nFirst start. Sign in as admin with the password %s\nIt is shown only now.\n\n", password)
	}
	hash, err = secret.HashPassword(password)
	return "admin", hash, err
}
