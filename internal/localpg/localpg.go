// Package localpg finds, initialises, starts and stops a PostgreSQL server of
// our own on loopback, so that a farm needs no database administrator. The
// server ends with this process, even if the process is killed (on Linux),
// and recovers by itself at the next start.
//
// It knows nothing of what is kept in the database.
package localpg

import (
	"bytes"
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver that waits for the server

	"vexillum/internal/filelock"
)

// Options says where the server keeps its data and how it runs.
type Options struct {
	Dir  string // folder for the database; made when missing
	Port int    // on loopback; 0 finds a free one
	Log  *slog.Logger
	Fast bool // give up durability, for tests alone: a lost machine may lose data
}

// Server is a running PostgreSQL server.
type Server struct {
	url  string
	port int
	proc *process
	log  *slog.Logger
	stop sync.Once
}

// ErrNotInstalled says that no PostgreSQL server was found on the machine.
var ErrNotInstalled = errors.New(
	"no PostgreSQL server is installed here; install Debian's package postgresql, or name a database with --database",
)

// FindBinaries returns the folder of PostgreSQL's newest programs.
func FindBinaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	slices.SortFunc(found, func(a, b string) int { return version(a) - version(b) })
	if len(found) > 0 {
		return filepath.Dir(found[len(found)-1]), nil
	}
	if path, err := exec.LookPath("postgres"); err == nil {
		return filepath.Dir(path), nil
	}
	return "", ErrNotInstalled
}

func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

// Start initialises the folder if it is new and starts the server. It returns
// once the server answers. The context bounds the start alone.
func Start(ctx context.Context, o Options) (*Server, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	bin, err := FindBinaries()
	if err != nil {
		return nil, err
	}
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return nil, fmt.Errorf("finding the database folder: %w", err)
	}
	acct, err := findAccount()
	if err != nil {
		return nil, err
	}
	if err := prepareDir(dir, acct); err != nil {
		return nil, err
	}
	// Nobody else may begin a database here, or clear away what is begun, as long as we are.
	release, err := lock(ctx, o, dir)
	if err != nil {
		return nil, err
	}
	s, err := startLocked(ctx, o, bin, dir, acct)
	if err != nil {
		release()
		return nil, err
	}
	go func() {
		<-s.proc.gone
		release()
	}()
	return s, nil
}

// stillThere is how long a start waits for what works in the folder to end, and how often it
// looks.
const (
	stillThere = 20 * time.Second
	looksAgain = 500 * time.Millisecond
)

// lock takes the folder for this process. An earlier one may still be on its way down.
func lock(ctx context.Context, o Options, dir string) (release func(), err error) {
	for began := time.Now(); ; {
		release, err := filelock.Take(filepath.Join(dir, "lock"))
		if err == nil {
			return release, nil
		}
		if !errors.Is(err, filelock.ErrTaken) {
			return nil, fmt.Errorf("taking the database folder: %w", err)
		}
		if time.Since(began) > stillThere || ctx.Err() != nil {
			return nil, fmt.Errorf(
				"another vexillum process has its database in %s; end it first, or choose another folder with --data", dir,
			)
		}
		o.Log.Info("waiting for the process that has this database folder to end", "folder", dir)
		time.Sleep(looksAgain)
	}
}

func startLocked(ctx context.Context, o Options, bin, dir string, acct *account) (*Server, error) {
	data := filepath.Join(dir, "data")
	password, err := initialise(ctx, bin, dir, data, acct)
	if err != nil {
		return nil, err
	}
	// An earlier server of ours may still be on its way down.
	for began := time.Now(); ; {
		s, err := start(ctx, o, bin, data, password, acct)
		if err == nil {
			return s, nil
		}
		if time.Since(began) > stillThere || ctx.Err() != nil || !errors.Is(err, errStillThere) {
			return nil, err
		}
		o.Log.Info("waiting for the last database process to end", "folder", data)
		time.Sleep(looksAgain)
	}
}

// URL returns the address of the server's main database.
func (s *Server) URL() string { return s.url }

// Port returns the port on loopback that the server listens on.
func (s *Server) Port() int { return s.port }

// Stop ends the server cleanly and waits for it.
func (s *Server) Stop() error {
	var err error
	s.stop.Do(func() { err = s.proc.stop(20 * time.Second) })
	return err
}

// Gone is closed when the server has ended, wanted or not.
func (s *Server) Gone() <-chan struct{} { return s.proc.gone }

// PID returns the process id of the server.
func (s *Server) PID() int { return s.proc.cmd.Process.Pid }

func prepareDir(dir string, acct *account) error {
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return fmt.Errorf("making the database folder: %w", err)
	}
	if err := os.Mkdir(dir, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("making the database folder: %w", err)
	}
	if acct == nil {
		return nil
	}
	for parent := filepath.Dir(dir); ; parent = filepath.Dir(parent) {
		info, err := os.Stat(parent)
		if err != nil {
			return fmt.Errorf("looking at %s: %w", parent, err)
		}
		if info.Mode().Perm()&0o001 == 0 {
			return fmt.Errorf(
				"the database runs as account %s, which may not enter %s; let it in with chmod o+x %s, or choose another "+
					"folder",
				acct.name,
				parent,
				parent,
			)
		}
		if parent == filepath.Dir(parent) {
			break
		}
	}
	if err := os.Chown(dir, acct.uid, acct.gid); err != nil {
		return fmt.Errorf("giving the database folder to account %s: %w", acct.name, err)
	}
	return nil
}

// ErrNoPassword says that there is a database whose password is not.
var ErrNoPassword = errors.New("there is a database, and its password is missing")

// initialise makes the cluster once, beside its place, and only then gives it its
// name: what has the name is a database, and is never cleared away.
func initialise(ctx context.Context, bin, dir, data string, acct *account) (string, error) {
	passwordFile := filepath.Join(dir, "password")
	fresh, making := passwordFile+".new", data+".new"
	known, err := os.ReadFile(passwordFile)
	if err == nil {
		return strings.TrimSpace(string(known)), nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("reading the database password: %w", err)
	}
	entries, err := os.ReadDir(data)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("looking into the database folder: %w", err)
	}
	if len(entries) > 0 {
		if known, err := os.ReadFile(fresh); err == nil { // a start that was cut off just before the end
			return strings.TrimSpace(string(known)), keepPassword(fresh, passwordFile)
		}
		return "", fmt.Errorf(
			"%w: %s is not there, and %s holds a farm. Put that file back from a backup of the machine; or move the "+
				"folder away and begin again from a backup of the farm: vexillum restore FILE --data NEW-FOLDER. "+
				"Nothing was changed",
			ErrNoPassword, passwordFile, data,
		)
	}
	if err := os.RemoveAll(making); err != nil { // of a start that was cut off; no server has ever seen it
		return "", fmt.Errorf("clearing an unfinished database: %w", err)
	}
	password := rand.Text()
	if err := os.WriteFile(fresh, []byte(password+"\n"), 0o600); err != nil {
		return "", fmt.Errorf("writing the database password: %w", err)
	}
	if acct != nil {
		if err := os.Chown(fresh, acct.uid, acct.gid); err != nil {
			return "", fmt.Errorf("giving the password file to account %s: %w", acct.name, err)
		}
	}
	cmd := exec.CommandContext(
		ctx, filepath.Join(bin, "initdb"), "-D", making, "-U", "vexillum", "-A", "scram-sha-256", "--pwfile="+fresh,
		"-E", "UTF8", "--locale=C.UTF-8", "--no-sync",
	)
	cmd.Dir = "/"
	acct.apply(cmd)
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("initialising the database: %w: %s", err, lastLines(out))
	}
	if err := os.Remove(data); err != nil && !errors.Is(err, fs.ErrNotExist) { // it is empty
		return "", fmt.Errorf("putting the database into its place: %w", err)
	}
	if err := os.Rename(making, data); err != nil {
		return "", fmt.Errorf("putting the database into its place: %w", err)
	}
	return password, keepPassword(fresh, passwordFile)
}

func keepPassword(fresh, file string) error {
	if err := os.Rename(fresh, file); err != nil {
		return fmt.Errorf("keeping the database password: %w", err)
	}
	return nil
}

var errStillThere = errors.New("another server uses this folder")

func start(ctx context.Context, o Options, bin, data, password string, acct *account) (*Server, error) {
	port := o.Port
	if port == 0 {
		var err error
		if port, err = freePort(); err != nil {
			return nil, err
		}
	}
	args := []string{
		"-D", data, "-p", strconv.Itoa(port),
		"-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=",
		"-c", "max_connections=100", "-c", "shared_buffers=128MB", "-c", "logging_collector=off",
	}
	if o.Fast {
		args = append(args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off")
	}
	cmd := exec.Command(filepath.Join(bin, "postgres"), args...)
	cmd.Dir = "/"
	var output tail
	cmd.Stdout, cmd.Stderr = &output, &output
	acct.apply(cmd)
	proc, err := launch(cmd)
	if err != nil {
		return nil, fmt.Errorf("starting the database: %w", err)
	}
	address := (&url.URL{
		Scheme: "postgres", User: url.UserPassword("vexillum", password),
		Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(port)), Path: "/postgres", RawQuery: "sslmode=disable",
	}).String()
	s := &Server{url: address, port: port, proc: proc, log: o.Log}
	if err := s.waitReady(ctx); err != nil {
		_ = proc.stop(5 * time.Second)
		if text := output.String(); strings.Contains(text, "postmaster.pid") || strings.Contains(text, "still in use") {
			return nil, fmt.Errorf("%w: %s", errStillThere, text)
		}
		return nil, fmt.Errorf("starting the database: %w: %s", err, output.String())
	}
	o.Log.Info("database is up", "folder", data, "port", port)
	return s, nil
}

func (s *Server) waitReady(ctx context.Context) error {
	db, err := sql.Open("pgx", s.url)
	if err != nil {
		return err
	}
	defer db.Close()
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	for {
		if err = db.PingContext(ctx); err == nil {
			return nil
		}
		select {
		case <-s.proc.gone:
			return errors.New("it ended at once")
		case <-ctx.Done():
			return fmt.Errorf("it does not answer: %w", err)
		case <-time.After(20 * time.Millisecond):
		}
	}
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, fmt.Errorf("finding a free port on loopback: %w", err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// tail keeps the end of what a program says.
type tail struct {
	mu  sync.Mutex
	buf []byte
}

func (t *tail) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.buf = append(t.buf, p...)
	if over := len(t.buf) - 8192; over > 0 {
		t.buf = t.buf[over:]
	}
	return len(p), nil
}

func (t *tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return lastLines(t.buf)
}

func lastLines(out []byte) string {
	lines := strings.Split(string(bytes.TrimSpace(out)), "\n")
	return strings.Join(lines[max(0, len(lines)-4):], "; ")
}
