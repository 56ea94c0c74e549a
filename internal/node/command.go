package node

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	mathrand "math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"vexillum/internal/account"
	"vexillum/internal/launcher"
	"vexillum/internal/recipe"
)

// commands runs the short commands that recipes have beside their renderer: those that report
// a version, look at a scene, or check a file. They run as renderers do: by the launcher, under
// the render account, in a folder of their own, with bounds on time, memory and output.
type commands struct {
	launcher *launcher.Client
	accounts *account.Policy
	staging  string
	tell     func(line string) // hears why a renderer cannot be started; may be nil
}

// Bounds of such a command.
const (
	mostSaid      = 1 << 20 // bytes that it prints
	commandMemory = 4 << 30 // bytes of main memory
	commandGrace  = time.Second
)

// command is one of them.
type command struct {
	words          []string // program and arguments
	account, group string   // empty: the machine's usual
	of             int64    // the launches whose files it works with; 0: none
	folder         string   // that it works in; empty: one of its own, which is removed
	within         time.Duration
}

// said is what a command printed and how it ended.
type said struct {
	out, complaint string
	code           int
	how            string // empty: well
}

// errNoProgram says that this machine does not have a command's program.
var errNoProgram = errors.New("the program is not on this machine")

// errTooLong and errTooMuch are the reasons for ending a command.
var (
	errTooLong = errors.New("it took too long")
	errTooMuch = fmt.Errorf("it printed more than %d bytes", mostSaid)
)

// run runs a command and returns once all its processes are gone.
func (c *commands) run(ctx context.Context, what command) (said, error) {
	program, err := commandPath(what.words[0])
	if err != nil {
		return said{}, err
	}
	if what.of == 0 {
		what.of = mathrand.Int64()
	}
	who, err := c.accounts.Resolve(what.account, what.group, what.of)
	if err != nil {
		return said{}, err
	}
	id := "command-" + strings.ToLower(rand.Text())
	if what.folder == "" {
		what.folder = filepath.Join(c.staging, trialFolders+id, "folder")
		defer os.RemoveAll(filepath.Dir(what.folder))
		if err := os.MkdirAll(what.folder, 0o700); err != nil {
			return said{}, fmt.Errorf("making the folder of a command: %w", err)
		}
		if err := letIn(what.folder, who); err != nil {
			return said{}, fmt.Errorf("preparing the folder of a command: %w", err)
		}
	}
	ctx, cancel := context.WithTimeoutCause(ctx, what.within, errTooLong)
	defer cancel()
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	heard := &gathered{full: func() { stop(errTooMuch) }}
	p, err := c.launcher.Start(launcher.Spec{
		ID: id, Program: program, Args: what.words[1:], Dir: what.folder, Bound: true,
		Limits: under(launcher.Limits{Memory: commandMemory}, who),
	}, heard)
	if err != nil {
		return said{}, err
	}
	defer p.Forget()
	select {
	case <-p.Gone():
	case <-ctx.Done():
		p.Stop(commandGrace)
		<-p.Gone()
		return said{}, context.Cause(ctx)
	}
	out := heard.said()
	out.code, out.how = p.Ended()
	return out, nil
}

// commandPath finds the program of a command.
func commandPath(name string) (string, error) {
	if name == "{vexillum}" {
		return os.Executable()
	}
	path, err := exec.LookPath(name)
	if errors.Is(err, exec.ErrNotFound) || errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("%s: %w", name, errNoProgram)
	}
	return path, err
}

// gathered keeps what a command prints, up to a bound.
type gathered struct {
	full func() // called when it prints more

	mu             sync.Mutex
	out, complaint strings.Builder
}

// Said implements [launcher.Output].
func (g *gathered) Said(stream int, data []byte, _ time.Time) {
	g.mu.Lock()
	defer g.mu.Unlock()
	room := mostSaid - g.out.Len() - g.complaint.Len()
	if len(data) > room {
		data = data[:room]
		defer g.full()
	}
	if stream == 1 {
		g.out.Write(data)
	} else {
		g.complaint.Write(data)
	}
}

func (g *gathered) said() said {
	g.mu.Lock()
	defer g.mu.Unlock()
	return said{out: g.out.String(), complaint: g.complaint.String()}
}

// askTime bounds a command that describes a scene.
const askTime = 30 * time.Second

// ask runs a command of a recipe that prints JSON about a scene. Where this machine does not
// have the program it says nothing: an empty object.
func (c *commands) ask(ctx context.Context, words []string, scene string) ([]byte, error) {
	with := map[string]string{
		"scene": scene, "scene_folder": filepath.Dir(scene),
		"scene_name": strings.TrimSuffix(filepath.Base(scene), filepath.Ext(scene)),
	}
	got, err := c.run(ctx, command{words: filled(words, with), within: askTime})
	switch {
	case errors.Is(err, errNoProgram):
		return []byte("{}"), nil
	case err != nil:
		return nil, err
	case got.how == "":
		return []byte(got.out), nil
	}
	if line, _, _ := strings.Cut(strings.TrimSpace(got.complaint), "\n"); line != "" {
		return nil, fmt.Errorf("%s: %.300s", got.how, line)
	}
	return nil, errors.New(got.how)
}

// filled fills in the placeholders of a command's words; its program has none but {vexillum}.
func filled(words []string, with map[string]string) []string {
	out := []string{words[0]}
	for _, text := range words[1:] {
		out = append(out, recipe.Fill(text, with))
	}
	return out
}
