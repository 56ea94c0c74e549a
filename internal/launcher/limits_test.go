//go:build linux

package launcher

import (
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// answer runs a shell script under limits and returns what it says.
func answer(t *testing.T, limits Limits, script string) (text, how string) {
	t.Helper()
	c := connect(t, folder(t))
	var out said
	p, err := c.Start(
		Spec{ID: "it", Program: "/bin/sh", Args: []string{"-c", script}, Dir: "/tmp", Limits: limits}, &out,
	)
	if err != nil {
		return "", err.Error()
	}
	<-p.Gone()
	_, how = p.Ended()
	p.Forget()
	return strings.TrimSpace(out.String()), how
}

func TestAProcessIsHeldToItsCores(t *testing.T) {
	const allowed = `grep Cpus_allowed_list /proc/self/status | cut -f2`
	all, _ := answer(t, Limits{}, allowed)
	if got, how := answer(t, Limits{Cores: []int{0}}, allowed); got != "0" || how != "" {
		t.Errorf("held to core 0 it runs on %q %s", got, how)
	}
	if got, _ := answer(t, Limits{Cores: []int{4000}}, allowed); got != all {
		t.Errorf("held to a core that is not there it runs on %q, want %q", got, all)
	}
	c := connect(t, folder(t)) // the launcher itself, and who comes next, are not held
	for _, limits := range []Limits{{Cores: []int{0}}, {}} {
		var out said
		p, err := c.Start(
			Spec{
				ID: strconv.Itoa(len(limits.Cores)), Program: "/bin/sh", Args: []string{"-c", allowed},
				Dir: "/tmp", Limits: limits,
			},
			&out,
		)
		if err != nil {
			t.Fatal(err)
		}
		<-p.Gone()
		if got := strings.TrimSpace(out.String()); len(limits.Cores) == 0 && got != all {
			t.Errorf("after one that was held it runs on %q, want %q", got, all)
		}
	}
}

func TestAProcessIsHeldToItsMemory(t *testing.T) {
	const eat = `x=$(head -c 400000000 /dev/zero | tr '\0' 'a'); echo ${#x}`
	if got, how := answer(t, Limits{}, eat); got != "400000000" {
		t.Fatalf("without a limit it says %q %s", got, how)
	}
	got, how := answer(t, Limits{Memory: 100 << 20}, eat)
	if got == "400000000" || how == "" {
		t.Errorf("held to 100 MiB it has %q and ends %q", got, how)
	}
}

func TestMemoryIsMeasuredWithAllBelow(t *testing.T) {
	c := connect(t, folder(t))
	var out said
	script := `(x=$(head -c 60000000 /dev/zero | tr '\0' 'a'); echo ready; read y; echo ${#x} > /dev/null)`
	p, err := c.Start(Spec{ID: "it", Program: "/bin/sh", Args: []string{"-c", script}, Dir: "/tmp", Input: true}, &out)
	if err != nil {
		t.Fatal(err)
	}
	eventually(t, "it is ready", func() bool { return strings.Contains(out.String(), "ready") })
	if got := p.Memory(); got < 60_000_000 || got > 1<<30 {
		t.Errorf("it has %d bytes, want 60 MB and some", got)
	}
	p.CloseInput()
	<-p.Gone()
	if peak, over := p.Peak(); peak < 60_000_000 || over {
		t.Errorf("it had %d bytes, over its limit: %v", peak, over)
	}
}

func TestAProcessRunsAsTold(t *testing.T) {
	mask := 0o027
	script := `umask; id -un; id -gn; : > "$PWD/new-file-$$"; stat -c %a "$PWD/new-file-$$"; rm "$PWD/new-file-$$"`
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	got, how := answer(t, Limits{Mask: &mask}, script)
	if words := strings.Fields(got); len(words) != 4 || words[0] != "0027" || words[1] != me.Username ||
		words[3] != "640" {
		t.Errorf("under the mask 027 it says %q %s", got, how)
	}
	if _, how := answer(t, Limits{Account: "nobody-has-this"}, script); !strings.Contains(
		how, "has no account nobody-has-this",
	) {
		t.Errorf("an account that is not there: %q", how)
	}
	if _, how := answer(t, Limits{Group: "nobody-has-this"}, script); !strings.Contains(
		how, "has no group nobody-has-this",
	) {
		t.Errorf("a group that is not there: %q", how)
	}
	if os.Geteuid() != 0 {
		if _, how := answer(t, Limits{Account: "root"}, script); !strings.Contains(
			how, "cannot start renderers as root",
		) {
			t.Errorf("as root: %q", how)
		}
		return
	}
	if got, how := answer(
		t, Limits{Account: "nobody", Group: "daemon"},
		`id -un; id -gn; echo $HOME`,
	); !strings.HasPrefix(got, "nobody\ndaemon") {
		t.Errorf("as nobody in daemon it says %q %s", got, how)
	}
}

// TestControlGroups plays the kernel's files, as the control groups of this
// machine may not be ours to change.
func TestControlGroups(t *testing.T) {
	root := t.TempDir()
	base := filepath.Join(root, "farm.service")
	file := func(name, text string) {
		t.Helper()
		if err := os.MkdirAll(filepath.Dir(filepath.Join(base, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(base, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	read := func(name string) string {
		data, _ := os.ReadFile(filepath.Join(base, name))
		return string(data)
	}
	const self = "0::/farm.service\n"
	file("cgroup.controllers", "cpu memory pids\n")
	file("cgroup.subtree_control", "")
	file("cgroup.procs", "11\n12\n")
	for _, c := range []struct {
		self, controllers string
		mine              bool
		want              string
	}{
		{self, "cpu memory pids", true, ""},
		{self, "cpu pids", true, "cannot limit memory"},
		{self, "cpu memory", false, "others are in the control group"},
		{"4:memory:/x\n0::/\n", "memory", true, "no control group of its own"},
		{"4:memory:/x\n", "memory", true, "no control group of its own"},
	} {
		file("cgroup.controllers", c.controllers)
		got, err := ownGroup(root, c.self, func(int) bool { return c.mine })
		if c.want == "" && (err != nil || got != base) {
			t.Errorf("%+v: %s %v", c, got, err)
		}
		if c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%+v: %v, want %q", c, err, c.want)
		}
	}
	if err := setUp(base); err != nil {
		t.Fatal(err)
	}
	if read("cgroup.subtree_control") != "+memory" || read(ownLeaf+"/cgroup.procs") != "12" {
		t.Errorf("set up as %q with %q in the leaf", read("cgroup.subtree_control"), read(ownLeaf+"/cgroup.procs"))
	}
	if got, err := ownGroup(root, "0::/farm.service/"+ownLeaf+"\n", func(int) bool { return true }); err != nil ||
		got != base {
		t.Errorf("a launcher that was moved finds %s %v", got, err)
	}
	f, err := newFence(filepath.Join(base, "renderer-1"), 5<<20)
	if err != nil {
		t.Fatal(err)
	}
	if read("renderer-1/memory.max") != "5242880" {
		t.Errorf("the limit is %q", read("renderer-1/memory.max"))
	}
	file("renderer-1/memory.peak", "5242000\n")
	file("renderer-1/memory.events", "low 0\nhigh 0\nmax 7\noom 1\noom_kill 1\n")
	if peak, killed := f.end(); peak != 5242000 || !killed {
		t.Errorf("it ended with %d bytes, killed: %v", peak, killed)
	}
}

// TestSecretsDoNotReachRenderers puts what a node process and its database may
// be told into the environment.
func TestSecretsDoNotReachRenderers(t *testing.T) {
	for _, name := range []string{"VEXILLUM_KEY", "VEXILLUM_TOKEN", "VEXILLUM_ACCESS", "VEXILLUM_ANYTHING", "PGPASSWORD", "DATABASE_URL"} {
		t.Setenv(name, "salt-and-tide")
	}
	t.Setenv("STUDIO_COLOURS", "pellmarsh")
	said, how := answer(t, Limits{}, "env")
	if strings.Contains(said, "salt-and-tide") || strings.Contains(said, "VEXILLUM") {
		t.Errorf("a renderer finds %s%s", said, how)
	}
	if !strings.Contains(said, "STUDIO_COLOURS=pellmarsh") || !strings.Contains(said, marker) {
		t.Errorf("a renderer finds nothing else: %s%s", said, how)
	}
}
