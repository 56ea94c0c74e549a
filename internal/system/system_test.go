// Package system tests the program as a whole: service, nodes and command
// line as processes of their own on loopback, rendering real frames. What
// they did is checked by reading files and tables.
package system

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/png"
	"io/fs"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"vexillum/internal/client"
	"vexillum/internal/testkit/pgtest"
	"vexillum/internal/wire"
)

var binary string

func TestMain(m *testing.M) { os.Exit(run(m)) }

func run(m *testing.M) int {
	dir, err := pgtest.Folder() // renderers run under an account of their own
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	binary = filepath.Join(dir, "vexillum")
	if out, err := exec.Command("go", "build", "-o", binary, "vexillum/cmd/vexillum").CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "building the program: %v\n%s", err, out)
		return 1
	}
	return pgtest.Run(m)
}

const password = "kestrel-over-the-flats"

// farm is a service and its nodes under test.
type farm struct {
	t       testing.TB
	dir     string
	listen  string
	url     string   // of the database
	serving []string // further arguments of the service
	service *program
	admin   *client.Client
	recipes string // folder of further ones, if any
	inbox   string // folder of job files, if any
}

// program is a process of ours.
type program struct {
	t    testing.TB
	name string
	cmd  *exec.Cmd
	out  *bytes.Buffer
	gone chan struct{}
}

func start(t testing.TB, name string, args ...string) *program {
	t.Helper()
	p := &program{t: t, name: name, cmd: exec.Command(binary, args...), out: &bytes.Buffer{}, gone: make(chan struct{})}
	p.cmd.Stdout, p.cmd.Stderr = p.out, p.out
	started := make(chan error)
	go func() {
		runtime.LockOSThread() // Pdeathsig belongs to the thread
		defer runtime.UnlockOSThread()
		p.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		err := p.cmd.Start()
		started <- err
		if err == nil {
			_ = p.cmd.Wait()
		}
		close(p.gone)
	}()
	if err := <-started; err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		p.end(syscall.SIGTERM)
		if t.Failed() {
			t.Logf("%s said:\n%s", name, p.out)
		}
	})
	return p
}

// tools makes a folder for renderers that the render account may enter and write to.
func tools(t testing.TB) string {
	t.Helper()
	dir, err := pgtest.Folder()
	if err == nil {
		err = os.Chmod(dir, 0o777)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

// end sends a signal and waits until the process has ended.
func (p *program) end(s syscall.Signal) {
	_ = p.cmd.Process.Signal(s)
	select {
	case <-p.gone:
	case <-time.After(30 * time.Second):
		_ = p.cmd.Process.Kill()
		<-p.gone
		p.t.Errorf("%s did not end after %v", p.name, s)
	}
}

// newFarm starts a service on a database of its own and sets up a project.
func newFarm(t testing.TB) *farm { return newFarmWith(t, nil) }

// newFarmWith starts one that knows further recipes, given by file name.
func newFarmWith(t testing.TB, recipes map[string]string) *farm {
	t.Helper()
	dir, err := pgtest.Folder()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	f := &farm{t: t, dir: dir, listen: freeAddress(t), url: pgtest.URL(t)}
	for name, text := range recipes {
		f.recipes = filepath.Join(dir, "recipes")
		if err := os.MkdirAll(f.recipes, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(f.recipes, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	f.setUp()
	return f
}

// paintPicture writes a picture that passes for a frame.
func (f *farm) paintPicture(path string, width, height int) {
	f.t.Helper()
	img := image.NewGray(image.Rect(0, 0, width, height))
	for i := range img.Pix {
		img.Pix[i] = uint8(i * 7)
	}
	file, err := os.Create(path)
	if err == nil {
		err = errors.Join(png.Encode(file, img), file.Close())
	}
	if err != nil {
		f.t.Fatal(err)
	}
}

// setUp starts the service on the farm's database and makes a project.
func (f *farm) setUp() {
	t, dir := f.t, f.dir
	t.Helper()
	for _, name := range []string{"scenes", "frames"} {
		if err := os.Mkdir(filepath.Join(dir, name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "password"), []byte(password), 0o600); err != nil {
		t.Fatal(err)
	}
	f.serve()
	c, err := client.New("http://"+f.listen, "")
	if err != nil {
		t.Fatal(err)
	}
	c = c.Patient(time.Minute) // a busy machine may make a service load its records again
	if f.admin, _, err = c.SignIn(t.Context(), "admin", password, "test"); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"scenes", "frames"} {
		f.patch("/api/v1/places/"+name, wire.PlaceChange{Paths: map[string]string{"linux": filepath.Join(dir, name)}})
	}
	f.patch(
		"/api/v1/projects/salt-clock",
		wire.ProjectChange{Title: new("The Salt Clock"), Scenes: "scenes", Frames: "frames"},
	)
}

// Ports below those that systems give to outgoing connections: one of these would otherwise take a
// port between the moment it is found free and the moment a service listens there.
const (
	firstPort = 20_000
	morePorts = 12_000
)

// given are the ports that tests of this process have got.
var given sync.Map

// freeAddress returns a loopback address on which nothing listens and that no other test gets.
func freeAddress(t testing.TB) string {
	t.Helper()
	for range 1000 {
		address := fmt.Sprintf("127.0.0.1:%d", firstPort+rand.IntN(morePorts))
		if _, taken := given.LoadOrStore(address, true); taken {
			continue
		}
		if l, err := net.Listen("tcp", address); err == nil {
			_ = l.Close()
			return address
		}
	}
	t.Fatal("no port is free")
	return ""
}

// serve starts the service and waits until it is ready.
func (f *farm) serve() {
	f.t.Helper()
	args := []string{
		"serve", "--listen", f.listen, "--database", f.url, "--admin-password-file", filepath.Join(f.dir, "password"),
		"--data", filepath.Join(f.dir, "service"),
	}
	if f.recipes != "" {
		args = append(args, "--recipes", f.recipes)
	}
	if f.inbox != "" {
		args = append(args, "--inbox", f.inbox, "--inbox-person", "admin")
	}
	f.service = start(f.t, "service", append(args, f.serving...)...)
	c, err := client.New("http://"+f.listen, "")
	if err != nil {
		f.t.Fatal(err)
	}
	f.wait("the service is ready", func() bool {
		return c.Do(context.Background(), http.MethodGet, "/readyz", nil, &wire.Health{}) == nil
	})
}

// wait waits until something holds. The limit is far beyond what is needed:
// it only keeps a broken test from hanging.
func (f *farm) wait(what string, holds func() bool) {
	f.t.Helper()
	for deadline := time.Now().Add(90 * time.Second); !holds(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(deadline) {
			f.t.Fatalf("waited too long until %s", what)
		}
	}
}

func (f *farm) patch(path string, in any) {
	f.t.Helper()
	if err := f.admin.Do(f.t.Context(), http.MethodPatch, path, in, nil); err != nil {
		f.t.Fatal(err)
	}
}

func (f *farm) put(path string, in any) {
	f.t.Helper()
	if err := f.admin.Do(f.t.Context(), http.MethodPut, path, in, nil); err != nil {
		f.t.Fatal(err)
	}
}

func (f *farm) post(path string) {
	f.t.Helper()
	if err := f.admin.Do(f.t.Context(), http.MethodPost, path, struct{}{}, nil); err != nil {
		f.t.Fatal(err)
	}
}

// must runs the command line and returns what it says; it must succeed.
func (f *farm) must(args ...string) string {
	f.t.Helper()
	out, stderr, code := f.vexillum(args...)
	if code != 0 {
		f.t.Fatalf("vexillum %s: %d: %s%s", strings.Join(args, " "), code, out, stderr)
	}
	return out
}

func (f *farm) key() string {
	f.t.Helper()
	var key wire.Key
	if err := f.admin.Do(f.t.Context(), http.MethodPost, "/api/v1/keys", wire.NewKey{Uses: new(10)}, &key); err != nil {
		f.t.Fatal(err)
	}
	return key.Key
}

// join starts a node process and waits until it is on the farm. Its speed is 1
// unless the arguments say another, so that scenes cost what they say however
// busy the machine is.
func (f *farm) join(name string, args ...string) *program {
	f.t.Helper()
	all := append(
		[]string{
			"join",
			"http://" + f.listen,
			"--key", f.key(), "--name", name, "--data", filepath.Join(f.dir, name), "--verbose", "--speed", "1",
		},
		args...)
	p := start(f.t, name, all...)
	f.wait(name+" is online", func() bool {
		n := f.node(name)
		return n != nil && n.Reach == "online"
	})
	return p
}

func (f *farm) node(name string) *wire.Node {
	var nodes []wire.Node
	if err := f.admin.Do(context.Background(), http.MethodGet, "/api/v1/nodes", nil, &nodes); err != nil {
		return nil
	}
	for _, n := range nodes {
		if n.Name == name {
			return &n
		}
	}
	return nil
}

// scene writes a scene file.
func (f *farm) scene(name, text string) {
	f.t.Helper()
	if err := os.WriteFile(filepath.Join(f.dir, "scenes", name), []byte(text), 0o644); err != nil {
		f.t.Fatal(err)
	}
}

func (f *farm) submit(in wire.Submit) int64 {
	f.t.Helper()
	if in.Project == "" {
		in.Project = "salt-clock"
	}
	if in.Width == 0 {
		in.Width, in.Height = 64, 36
	}
	var r wire.Receipt
	if err := f.admin.Do(f.t.Context(), http.MethodPost, "/api/v1/runs", in, &r); err != nil {
		f.t.Fatal(err)
	}
	return r.Run
}

func (f *farm) run(id int64) (run wire.Run) {
	_ = f.admin.Do(
		context.Background(), http.MethodGet, fmt.Sprintf("/api/v1/runs/%d", id), nil, &run,
	) // the service may be away
	return run
}

// ended waits until a run has ended and returns it.
func (f *farm) ended(id int64) wire.Run {
	f.t.Helper()
	f.wait(fmt.Sprintf("run %d has ended", id), func() bool { return f.run(id).EndedAt != nil })
	return f.run(id)
}

func (f *farm) done(id int64, atLeast int) {
	f.t.Helper()
	f.wait(
		fmt.Sprintf("%d frames of run %d are done", atLeast, id), func() bool { return f.run(id).DoneCount >= atLeast },
	)
}

// files returns the names of the files in a run's output folder and below.
func (f *farm) files(run wire.Run) []string {
	f.t.Helper()
	top := filepath.Join(f.dir, "frames", run.Output)
	var names []string
	if err := filepath.WalkDir(top, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		name, err := filepath.Rel(top, path)
		names = append(names, name)
		return err
	}); err != nil {
		f.t.Fatal(err)
	}
	return names
}

// frameNames are the names of the frame files of a job.
func frameNames(job string, first, last int) []string {
	var names []string
	for i := first; i <= last; i++ {
		names = append(names, fmt.Sprintf("%s.%04d.png", job, i))
	}
	return names
}

func (f *farm) wantFiles(run wire.Run, want []string) {
	f.t.Helper()
	if got := f.files(run); !slices.Equal(got, want) {
		f.t.Errorf("%s has the files %v, want %v", run.Output, got, want)
	}
}

// count asks the tables.
func (f *farm) count(query string, args ...any) int {
	f.t.Helper()
	db, err := sqlx.Open("pgx", f.url)
	if err != nil {
		f.t.Fatal(err)
	}
	defer db.Close()
	var n int
	if err := db.Get(&n, query, args...); err != nil {
		f.t.Fatal(err)
	}
	return n
}

// wantOnce checks in the tables that every frame of a run counted once and
// nothing is left over.
func (f *farm) wantOnce(run int64, frames int) {
	f.t.Helper()
	for what, c := range map[string]struct {
		query string
		want  int
	}{
		"frames done":             {`SELECT count(*) FROM frame WHERE run = $1 AND state = 'done'`, frames},
		"frames not done":         {`SELECT count(*) FROM frame WHERE run = $1 AND state <> 'done'`, 0},
		"times a frame was done":  {`SELECT count(*) FROM event WHERE run = $1 AND kind = 'frame done'`, frames},
		"leases open":             {`SELECT count(*) FROM lease WHERE run = $1 AND ended_at IS NULL`, 0},
		"frames in the done set":  {`SELECT COALESCE(sum(upper(r) - lower(r)), 0) FROM run, unnest(done) r WHERE id = $1`, frames},
		"gaps in what was logged": {`SELECT count(*) FROM (SELECT seq - lag(seq, 1, 0::bigint) OVER (ORDER BY seq) AS step FROM event WHERE $1 > 0) e WHERE step <> 1`, 0},
	} {
		if got := f.count(c.query, run); got != c.want {
			f.t.Errorf("%s: %d, want %d", what, got, c.want)
		}
	}
}

// wantDone waits until a run has ended and checks that every frame of it is
// there once, whole and right.
func (f *farm) wantDone(id int64, first, last int, picture string) wire.Run {
	f.t.Helper()
	run := f.ended(id)
	if run.State != "done" {
		f.t.Fatalf("%s is %s: %s", run.Name, run.State, run.Why)
	}
	f.wantFiles(run, frameNames(run.Job, first, last))
	f.practicePixels(run, picture)
	f.wantOnce(id, last-first+1)
	return run
}

// vexillum runs a command of the command line and returns what it said.
func (f *farm) vexillum(args ...string) (stdout, stderr string, code int) {
	f.t.Helper()
	cmd := exec.Command(binary, args...)
	cmd.Env = append(os.Environ(), "VEXILLUM_ACCESS="+filepath.Join(f.dir, "access.json"), "HOME="+f.dir)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		f.t.Fatal(err)
	}
	return out.String(), errs.String(), cmd.ProcessState.ExitCode()
}

func (f *farm) signIn() {
	f.t.Helper()
	if _, stderr, code := f.vexillum(
		"sign-in",
		"http://"+f.listen,
		"--name", "admin", "--password-file", filepath.Join(f.dir, "password"),
	); code != 0 {
		f.t.Fatalf("sign-in: %s", stderr)
	}
}

// alive reports whether a process lives.
func alive(pid int) bool {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return false
	}
	after := data[bytes.LastIndexByte(data, ')')+1:]
	return !strings.HasPrefix(strings.TrimSpace(string(after)), "Z")
}

// descendants returns the living processes below a process.
func descendants(t testing.TB, of int) []int {
	t.Helper()
	parents := map[int][]int{}
	entries, err := filepath.Glob("/proc/[0-9]*/stat")
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range entries {
		data, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		var pid, parent int
		var state string
		head, after, _ := strings.Cut(string(data), " ")
		_, _ = fmt.Sscan(head, &pid)
		_, _ = fmt.Sscan(after[strings.LastIndexByte(after, ')')+1:], &state, &parent)
		if state != "Z" {
			parents[parent] = append(parents[parent], pid)
		}
	}
	var all []int
	for queue := []int{of}; len(queue) > 0; queue = queue[1:] {
		all = append(all, parents[queue[0]]...)
		queue = append(queue, parents[queue[0]]...)
	}
	return all
}

func decode[T any](t testing.TB, text string) T {
	t.Helper()
	var v T
	if err := json.Unmarshal([]byte(text), &v); err != nil {
		t.Fatalf("%v in %s", err, text)
	}
	return v
}
