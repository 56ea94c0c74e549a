package system

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"vexillum/internal/testkit/pgtest"
)

// readmeCommands are the commands of a part of the README, in their order.
func readmeCommands(t *testing.T, from, to string) []string {
	t.Helper()
	text, err := os.ReadFile("../../README.md")
	if err != nil {
		t.Fatal(err)
	}
	_, rest, found := strings.Cut(string(text), from)
	part, _, closed := strings.Cut(rest, to)
	if !found || !closed {
		t.Fatalf("the README has no part from %q to %q", from, to)
	}
	var out []string
	for _, line := range strings.Split(part, "\n") {
		if command, isCode := strings.CutPrefix(line, "    "); isCode && strings.HasPrefix(command, "vexillum ") {
			out = append(out, command)
		}
	}
	return out
}

// TestTheReadmeGivesAFarm pastes the commands of the README one after the other,
// on one machine. Only folders, addresses and how much is rendered are others.
func TestTheReadmeGivesAFarm(t *testing.T) {
	t.Parallel()
	dir, err := pgtest.Folder()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	listen := freeAddress(t)
	readmeFolders(t, dir)
	here := strings.NewReplacer(
		"0.0.0.0:7420", listen, "farm.example:7420", listen, "/var/lib/vexillum", filepath.Join(dir, "service"),
		"/mnt/scenes", filepath.Join(dir, "scenes"), "/mnt/frames", filepath.Join(dir, "frames"),
		"--frames 1-180", "--frames 1-8", "--size 1920x1080", "--size 32x24", "--frame 77", "--frame 7",
	)
	environment := append(
		os.Environ(), "HOME="+dir, "XDG_CONFIG_HOME="+dir, "XDG_DATA_HOME="+filepath.Join(dir, "data"),
		"PATH="+filepath.Join(dir, "bin")+":"+os.Getenv("PATH"), "VEXILLUM_ACCESS=",
	)
	password, key := filepath.Join(dir, "password"), ""
	for _, command := range readmeCommands(t, "## A real farm", "A run's name is") {
		line := here.Replace(command)
		switch {
		case strings.HasPrefix(line, "vexillum serve "), strings.HasPrefix(line, "vexillum join "):
			// Its usual folder is outside of what this test may touch.
			line = strings.Replace(
				line,
				"vexillum join ",
				"vexillum join --data "+filepath.Join(dir, "above", "node")+" ",
				1,
			)
			said := &transcript{}
			cmd := exec.Command("sh", "-c", "exec "+line)
			cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr, cmd.Stdin = dir, environment, said, said, strings.NewReader(
				key+"\n",
			)
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { _ = cmd.Process.Signal(syscall.SIGTERM); _ = cmd.Wait() })
			ready := map[bool]string{true: "password", false: "is on the farm"}[strings.Contains(line, " serve ")]
			for deadline := time.Now().Add(90 * time.Second); !strings.Contains(said.String(), ready); time.Sleep(50 * time.Millisecond) {
				if time.Now().After(deadline) {
					t.Fatalf("%s\nsays only\n%s", line, said)
				}
			}
			if strings.Contains(line, " serve ") {
				time.Sleep(500 * time.Millisecond)
				found := regexp.MustCompile(`(?i)password[^\n]*?:?\s+([A-Za-z0-9-]{10,})`).
					FindStringSubmatch(said.String())
				if found == nil {
					t.Fatalf("the first start tells no password:\n%s", said)
				}
				if err := os.WriteFile(password, []byte(found[1]), 0o600); err != nil {
					t.Fatal(err)
				}
			}
			continue
		case strings.HasPrefix(line, "vexillum sign-in "):
			line += " --password-file " + password
		}
		cmd := exec.Command("sh", "-c", line)
		cmd.Dir, cmd.Env = dir, environment
		var out bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &out
		if err := cmd.Run(); err != nil {
			t.Fatalf("%s\n%v\n%s", line, err, out.String())
		}
		if found := regexp.MustCompile(`vxk_\S+`).FindString(out.String()); found != "" {
			key = found
		}
	}
	// What lies above the folder of a node is for others, too.
	above, err := os.Stat(filepath.Join(dir, "above"))
	if err != nil || above.Mode().Perm() != 0o755 {
		t.Errorf("above the folder of the node: %v, %v", above.Mode(), err)
	}
	if files, _ := filepath.Glob(filepath.Join(dir, "frames/salt_010/*/*.png")); len(files) != 8 {
		all, _ := filepath.Glob(filepath.Join(dir, "frames/*/*"))
		t.Errorf("%d frames stand in the frame place: %v", len(files), all)
	}
}

// transcript keeps what a program says while it runs.
type transcript struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (o *transcript) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.text.Write(p)
}

func (o *transcript) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.text.String()
}

// repository returns the path of something in the repository.
func repository(t *testing.T, name string) string {
	t.Helper()
	path, err := filepath.Abs(filepath.Join("../..", name))
	if err != nil {
		t.Fatal(err)
	}
	return path
}

// readmeFolders makes what the README takes for granted: places, two scenes and
// the program on the path.
func readmeFolders(t *testing.T, dir string) {
	t.Helper()
	for _, folder := range []string{"scenes/shots", "frames", "bin"} {
		if err := os.MkdirAll(filepath.Join(dir, folder), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	scene, err := os.ReadFile("../selftest/sphere.pov")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"salt_010.pov", "salt_011.pov"} {
		if err := os.WriteFile(filepath.Join(dir, "scenes/shots", name), scene, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	jobs := "job_file: 1\nproject: salt-clock\njobs: [{name: tonight, scene: shots/salt_010.pov, frames: 1-8, held: true}]\n"
	if err := os.WriteFile(filepath.Join(dir, "jobs.yaml"), []byte(jobs), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(binary, filepath.Join(dir, "bin", "vexillum")); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(repository(t, "examples"), filepath.Join(dir, "examples")); err != nil {
		t.Fatal(err)
	}
}
