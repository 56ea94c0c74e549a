package system

import (
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vexillum/internal/wire"
)

// TestMisuseIsRefusedInWords calls the program wrongly in every way and looks
// at its exit code, at what it says, and that nothing half is left behind.
func TestMisuseIsRefusedInWords(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 20ms\n")
	f.scene("odd.xyz", "?")
	if err := os.Symlink("/etc/hostname", filepath.Join(f.dir, "scenes", "leads-out.practice")); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(filepath.Join(f.dir, "scenes", "folder.practice"), 0o755); err != nil {
		t.Fatal(err)
	}
	f.join("kiln-01", "--renderers", "practice")
	other := httptest.NewServer(http.NotFoundHandler())
	defer other.Close()
	nobody := freeAddress(t)
	submit := func(args ...string) []string {
		return append([]string{"submit", "salt.practice", "--project", "salt-clock", "--frames", "1-5"}, args...)
	}
	service := "http://" + f.listen
	join := func(args ...string) []string {
		return append(
			[]string{"join", service, "--data", filepath.Join(t.TempDir(), "node"), "--name", "kiln-09"},
			args...)
	}
	for _, c := range []struct {
		name string
		args []string
		code int
		says string
	}{
		{"no command of that name", []string{"rendr"}, 2, "has no command"},
		{"a flag that does not exist", []string{"queue", "--al"}, 2, "unknown flag"},
		{"too many arguments", []string{"queue", "now"}, 2, "needs no arguments"},
		{
			"an unreachable service", []string{"queue", "--token", "x", "--service", "http://" + nobody}, 3,
			"nothing listens there",
		},
		{
			"an unknown host", []string{"queue", "--token", "x", "--service", "http://no-such-host.invalid:7420"}, 3,
			"was not reached",
		},
		{
			"another program's port", []string{"queue", "--token", "x", "--service", other.URL}, 3,
			"not a Vexillum service",
		},
		{"a wrong token", []string{"queue", "--token", "vxp_wrong"}, 4, "sign in first"},
		{"an address that is none", []string{"sign-in", "ftp://farm"}, 2, "not the address of a service"},
		{"a wrong password", []string{"sign-in", service, "--name", "admin", "--password-file", filepath.Join(f.dir, "scenes", "odd.xyz")}, 4, "name or password is wrong"},
		{"nobody is named", []string{"sign-in", service, "--password-file", filepath.Join(f.dir, "scenes", "odd.xyz")}, 4, "say otherwise with --name"},

		{"an open range", submit("--frames", "1-"), 2, "last frame is missing"},
		{"a range backwards", submit("--frames", "10-1"), 2, "is before the first frame"},
		{"a step of nothing", submit("--frames", "1-5/0"), 2, "step must be 1 or more"},
		{"a million commas", submit("--frames", strings.Repeat(",", 100_000)), 2, "parts"},
		{"a size that is none", submit("--size", "big"), 2, "1920x1080"},
		{"a setting that is none", submit("--set", "quality"), 2, "name=value"},
		{"an unknown recipe", submit("--recipe", "nothing"), 1, `no recipe "nothing"`},
		{"an unknown setting", submit("--set", "quality=9"), 1, "no such setting"},
		{"an unknown project", submit("--project", "nothing"), 1, `no project "nothing"`},
		{"a scene that is not there", []string{"submit", "gone.practice", "-p", "salt-clock", "-f", "1"}, 1, "there is no scene gone.practice"},
		{
			"a scene that is a folder", []string{"submit", "folder.practice", "-p", "salt-clock", "-f", "1"}, 1,
			"is not a regular file",
		},
		{"a scene that leads out by a link", []string{"submit", "leads-out.practice", "-p", "salt-clock", "-f", "1"}, 1, "cannot be read"},
		{"a scene outside its place", []string{"submit", "../password.practice", "-p", "salt-clock", "-f", "1"}, 1, "outside its place"},
		{"a scene that no recipe reads", []string{"submit", "odd.xyz", "-p", "salt-clock", "-f", "1"}, 1, "no recipe reads"},
		{"an output outside its place", submit("--output", "../elsewhere"), 1, "outside its place"},
		{"an output from the root", submit("--output", "/tmp"), 1, "outside its place"},
		{"a job name that is a path", submit("--job", "a/b"), 1, "a job cannot be called"},
		{"a due time that has passed", submit("--due", "2020-01-01 18:00"), 1, "has passed"},
		{"no scene", []string{"submit", "", "-p", "salt-clock", "-f", "1"}, 2, "the scene is empty"},
		{"no frames", submit("--frames", ""), 2, "--frames is empty"},
		{"a preset that is a variable nobody set", submit("--preset", " "), 2, "--preset is empty"},
		{"one frame in none", submit("--every", "0"), 2, "--every 0: one frame in 1 or more"},
		{"flags that are missing", []string{"submit", "a.practice"}, 2, "--project must be given"},
		{"a command that a group has not", []string{"place", "frob"}, 2, "it has drop, hold, list, mark, release, set"},
		{"a speed that no machine has", join("--key", f.key(), "--speed", "5e-324"), 2, "a speed index is between"},
		{"root", []string{"launch", "set", "--account", "root"}, 1, "never run as root"},
		{"an account that nobody has allowed", []string{"launch", "set", "--account", "daemon"}, 4, "no administrator has allowed"},
		{"fewer licences than none", []string{"licence", "set", "grading", "--count", "-3"}, 2, "0 licences or more"},
		{"too many tries", submit("--tries", "99"), 1, "tries a frame must be"},
		{"a run that is not there", []string{"show", "nothing"}, 1, "no run called"},
		{"a run number that is not there", []string{"hold", "#77"}, 1, "no run called"},
		{"a number that is no name", []string{"hold", "77"}, 1, "is written '#77'"},
		{"an empty name to cancel", []string{"cancel", ""}, 2, "name of the run is empty"},
		{"an empty name to hold", []string{"hold", " "}, 2, "name of the run is empty"},
		{"an empty name to change", []string{"change", "", "--priority", "high"}, 2, "name of the run is empty"},
		{"an empty name to fetch", []string{"fetch", ""}, 2, "name of the run is empty"},
		{"an empty name for a sheet", []string{"sheet", ""}, 2, "name of the run is empty"},
		{"an empty name to show", []string{"show", ""}, 2, "name of the run is empty"},
		{"an empty name of a node", []string{"nodes", "hold", ""}, 2, "name of the node is empty"},
		{"a shot with a step", submit("--shot", "1-9/2"), 2, "a whole animation has no step"},
		{
			"frames outside the shot", submit("--shot", "1-3"), 1,
			"frames 4-5 lie outside the shot range 1-3; a longer animation needs --shot 1-5",
		},
		{"the farm's own project", submit("--project", "self-test"), 1, "no project"},
		{"a node that is not there", []string{"nodes", "hold", "kiln-77"}, 1, `no node "kiln-77"`},

		{"no key", join(), 4, "not enrolled yet"},
		{"a wrong key", join("--key", "vxk_wrong"), 4, "not known"},
		{"a name that is taken", join("--key", f.key(), "--name", "kiln-01"), 1, "there is a node kiln-01 already"},
		{"a name that is none", join("--key", f.key(), "--name", "Kiln 1"), 1, "not a valid node name"},
		{"a kind that is none", join("--key", f.key(), "--kind", "tower"), 1, "a rack or a desk"},
		{"joining nobody", []string{"join", nobody, "--data", filepath.Join(t.TempDir(), "n"), "--key", "x"}, 3, "nothing listens there"},
		{"joining another program", []string{"join", other.URL, "--data", filepath.Join(t.TempDir(), "n"), "--key", "x"}, 3, "not a Vexillum service"},

		{"a key without uses", []string{"key", "new", "--uses", "0"}, 2, "one use at least"},
		{"a key without time", []string{"key", "new", "--for", "0s"}, 2, "a second at least"},
		{"a place that is not whole", []string{"place", "set", "p", "--linux", "srv"}, 1, "is not an absolute path"},
		{"a project in no place", []string{"project", "set", "p", "--scenes", "nowhere", "--frames", "frames"}, 1, `no place "nowhere"`},
		{"a role that is none", []string{"person", "set", "nadia", "--role", "king"}, 1, "a viewer, an artist, a wrangler or an admin"},
		{"the last admin", []string{"person", "set", "admin", "--role", "viewer"}, 1, "only admin"},
		{"a key for too long", []string{"key", "new", "--for", "9999h"}, 1, "seven days"},
	} {
		out, stderr, code := f.vexillum(c.args...)
		if code != c.code || !strings.Contains(stderr, c.says) || out != "" {
			t.Errorf("%s: exit code %d, said %q and %q; want %d and %q", c.name, code, stderr, out, c.code, c.says)
		}
		if strings.Count(strings.TrimSpace(stderr), "\n") > 0 || len(stderr) > 500 {
			t.Errorf("%s: not one sentence: %q", c.name, stderr)
		}
	}
	for what, query := range map[string]string{
		"runs": `SELECT count(*) FROM run`, "people": `SELECT count(*) - 1 FROM person`, "nodes": `SELECT count(*) - 1 FROM node`,
		"projects": `SELECT count(*) - 1 FROM project`, "places": `SELECT count(*) - 2 FROM place`,
	} {
		if n := f.count(query); n != 0 {
			t.Errorf("%d %s were left behind by refused calls", n, what)
		}
	}
}

func TestExpiredAndUsedUpKeys(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	newKey := func(in wire.NewKey) string {
		var key wire.Key
		if err := f.admin.Do(t.Context(), http.MethodPost, "/api/v1/keys", in, &key); err != nil {
			t.Fatal(err)
		}
		return key.Key
	}
	short := newKey(wire.NewKey{Seconds: new(1)})
	time.Sleep(1100 * time.Millisecond)
	if _, stderr, code := f.vexillum(
		"join",
		"http://"+f.listen,
		"--key", short, "--data", filepath.Join(f.dir, "n1"),
	); code != 4 ||
		!strings.Contains(stderr, "expired at") {
		t.Errorf("an expired key: %d %s", code, stderr)
	}
	once := newKey(wire.NewKey{Uses: new(1)})
	p := start(
		t, "kiln-01", "join",
		"http://"+f.listen,
		"--key", once, "--name", "kiln-01", "--data", filepath.Join(f.dir, "n2"), "--renderers", "practice",
	)
	f.wait("kiln-01 is online", func() bool { n := f.node("kiln-01"); return n != nil && n.Reach == "online" })
	if _, stderr, code := f.vexillum(
		"join",
		"http://"+f.listen,
		"--key", once, "--name", "kiln-02", "--data", filepath.Join(f.dir, "n3"),
	); code != 4 ||
		!strings.Contains(stderr, "used up") {
		t.Errorf("a used up key: %d %s", code, stderr)
	}
	if !alive(p.cmd.Process.Pid) {
		t.Error("the node that used the key has ended")
	}
}

// TestReads runs every command that reads, as text and as JSON.
func TestReads(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 20ms\n")
	f.join("kiln-01", "--renderers", "practice")
	f.ended(f.submit(wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-3"}))
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"queue"}, "salt/final-1  salt-clock  ● done"},
		{[]string{"nodes"}, "kiln-01"},
		{[]string{"show", "salt"}, "salt.practice"},
		{[]string{"show", "kiln-01"}, "practice 1.0"},
		{[]string{"recipe", "list"}, "practice-feed"},
		{[]string{"project", "list"}, "The Salt Clock"},
		{[]string{"place", "list"}, f.dir},
		{[]string{"person", "list"}, "admin"},
		{[]string{"key", "list"}, "admin"},
		{[]string{"audit"}, "submit run"},
	} {
		out, stderr, code := f.vexillum(c.args...)
		if code != 0 || !strings.Contains(out, c.says) || strings.Contains(out, "\x1b[") {
			t.Errorf("%v: %d %s%s", c.args, code, out, stderr)
		}
		out, stderr, code = f.vexillum(append(c.args, "--json")...)
		if code != 0 || stderr != "" {
			t.Errorf("%v --json: %d %s", c.args, code, stderr)
		}
		decode[any](t, out)
	}
	sheet := filepath.Join(f.dir, "sheet.png")
	if _, stderr, code := f.vexillum("sheet", "salt", "-o", sheet); code != 0 {
		t.Fatal(stderr)
	}
	if b := readPNG(t, sheet).Bounds(); b.Dx() < 3*60 || b.Dy() < 36 {
		t.Errorf("the contact sheet is %v", b)
	}
	// The same submit twice is one run.
	out, _, _ := f.vexillum(
		"submit", "salt.practice", "-p", "salt-clock", "-f", "1-2", "--size", "64x36", "--held", "--json",
	)
	if r := decode[wire.Receipt](t, out); r.Name != "salt/final-2" || r.State != "held" || r.Nodes != 1 {
		t.Errorf("receipt %+v", r)
	}
}

// TestServiceOfItsOwnDatabase starts the service with its own PostgreSQL,
// kills it, and starts it again.
func TestServiceOfItsOwnDatabase(t *testing.T) {
	t.Parallel()
	f := newFarm(t) // only for its folder
	data := filepath.Join(f.dir, "own")
	listen := freeAddress(t)
	serve := func() *program {
		p := start(t, "own service", "serve", "--listen", listen, "--data", data)
		f.wait("it answers", func() bool {
			r, err := http.Get("http://" + listen + "/readyz")
			if err != nil {
				return false
			}
			defer r.Body.Close()
			return r.StatusCode == http.StatusOK
		})
		return p
	}
	first := serve()
	if !strings.Contains(first.out.String(), "Sign in as admin with the password ") {
		t.Errorf("the first start told no password: %s", first.out)
	}
	database := descendants(t, first.cmd.Process.Pid)
	first.end(9)
	for _, pid := range database {
		f.wait("the database ends with its service", func() bool { return !alive(pid) })
	}
	second := serve()
	if strings.Contains(second.out.String(), "password") {
		t.Error("the second start made another administrator")
	}
	database = descendants(t, second.cmd.Process.Pid)
	if out, code := startAndWait(t, "serve", "--listen", listen, "--data", data); code != 1 ||
		!strings.Contains(out, "cannot listen") {
		t.Errorf("a second service on the same port: %d %s", code, out)
	}
	second.end(15)
	if code := second.cmd.ProcessState.ExitCode(); code != 0 {
		t.Errorf("SIGTERM ended it with %d: %s", code, second.out)
	}
	for _, pid := range database {
		if alive(pid) {
			t.Errorf("process %d is left", pid)
		}
	}
	if _, err := net.Dial("tcp", listen); err == nil {
		t.Error("something still listens")
	}
}

func startAndWait(t *testing.T, args ...string) (string, int) {
	t.Helper()
	p := start(t, args[0], args...)
	<-p.gone
	return p.out.String(), p.cmd.ProcessState.ExitCode()
}
