// Package demo is the demo farm: the made-up studio Pellmarsh on one machine.
// It starts the service and a handful of unlike nodes as programs of their
// own, fills the queue, and ends everything again. It speaks to the service
// as anybody would.
package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"vexillum/examples"
	"vexillum/internal/client"
	"vexillum/internal/filelock"
	"vexillum/internal/launcher"
	"vexillum/internal/localpg"
	"vexillum/internal/node"
	"vexillum/internal/standin"
	"vexillum/internal/wire"
)

// Options says how the demo runs.
type Options struct {
	Dir    string // everything of the demo; cleared at the start
	Listen string // address of the service
	Out    io.Writer
	Log    *slog.Logger
}

// Name and Password are the demo sign-in. The service listens on loopback
// alone.
const (
	Name     = "nadia"
	Password = "salt-and-tide"
)

// Person is somebody who signs in to the demo, with [Password].
type Person struct {
	Name, Role string
	Does       string // what that lets them do, for who tries it
}

// People are those of the demo, a wrangler first.
var People = []Person{
	{Name, "wrangler", "runs the farm"},
	{"tobin", "artist", "leads The Salt Clock"},
	{"orla", "artist", "submits to The Salt Clock and Tidal Room"},
	{"ines", "viewer", "looks on"},
}

// member is one node of the demo farm.
type member struct {
	name, kind string
	speed      float64
	renderers  string
}

// members are the nodes: one renders real frames, the others practise, which
// costs this machine next to nothing.
var members = []member{
	{"kiln-01", "rack", 0, "povray"},
	{"kiln-02", "rack", 1.0, grading},
	{"kiln-03", "rack", 0.9, grading},
	{"kiln-04", "rack", 0.5, practising},
	{"kiln-05", "rack", 0.8, "none"}, // somebody forgot to install a renderer
	{"loom-01", "rack", 2.4, practising},
	{"loom-02", "rack", 1.9, practising},
	{"desk-nadia", "desk", 0.7, practising},
	{"desk-tobin", "desk", 0.35, practising},
	{"desk-oskar", "desk", 0.6, practising},
}

const practising = "practice,practice-single,practice-feed"

// Farm is a running demo.
type Farm struct {
	o     Options
	kids  children
	post  *standin.Receiver // takes what the farm tells people
	admin *client.Client
	// background is what goes on beside; it ends when ends is closed.
	background sync.WaitGroup
	ends       chan struct{}
	release    func()         // the folder; nil: it was never taken
	Nadia      *client.Client // signed in as the demo's wrangler
}

// Start starts the service and sets the studio up. The caller calls Stop.
func Start(ctx context.Context, o Options) (*Farm, error) {
	f := &Farm{o: o, ends: make(chan struct{})}
	if err := f.start(ctx); err != nil {
		f.Stop()
		return nil, err
	}
	return f, nil
}

func (f *Farm) start(ctx context.Context) error {
	o := f.o
	var err error
	if f.release, err = take(ctx, o.Dir); err != nil {
		return err
	}
	if err := f.lay(); err != nil {
		return err
	}
	passwordFile := filepath.Join(o.Dir, "admin-password")
	if err := os.WriteFile(passwordFile, []byte(Password+"\n"), 0o600); err != nil {
		return fmt.Errorf("preparing the demo: %w", err)
	}
	if f.post, err = standin.Start(nil); err != nil {
		return err
	}
	if err := f.kids.start(
		filepath.Join(o.Dir, "service.log"), "serve", "--notices-inward", "127.0.0.1", "--mail",
		"smtp+plain://"+f.post.Mail(), "--mail-from", "farm@pellmarsh.example", "--url", "http://"+o.Listen, "--listen",
		o.Listen, "--data", filepath.Join(o.Dir, "service"),
		"--admin-password-file", passwordFile, "--inbox", filepath.Join(o.Dir, "inbox"), "--trial-after",
		trialAfter.String(),
	); err != nil {
		return err
	}
	c, err := client.New("http://"+o.Listen, "")
	if err != nil {
		return err
	}
	if err := f.waitReady(ctx, c); err != nil {
		return err
	}
	if f.admin, _, err = c.SignIn(ctx, "admin", Password, "demo"); err != nil {
		return fmt.Errorf("signing in to the demo: %w", err)
	}
	if err := f.studio(ctx); err != nil {
		return err
	}
	if err := f.recipes(ctx); err != nil {
		return err
	}
	if f.Nadia, _, err = c.SignIn(ctx, Name, Password, "demo"); err != nil {
		return fmt.Errorf("signing in to the demo: %w", err)
	}
	return f.notices(ctx)
}

// Post is where people see what the farm has told outside.
func (f *Farm) Post() string { return f.post.Page() }

// Stop ends all that was started and waits for it.
func (f *Farm) Stop() {
	close(f.ends)
	f.background.Wait()
	if f.release == nil { // the folder is another's
		return
	}
	defer f.release()
	f.kids.stop()
	if f.post != nil {
		f.post.Stop()
	}
	for _, m := range members { // of a node process that was killed by hand
		launcher.Shut(filepath.Join(f.o.Dir, "nodes", m.name))
	}
}

// Lost returns a channel that is closed when the service has ended by itself.
func (f *Farm) Lost() <-chan struct{} { return f.kids.firstGone() }

// marker is a file that says that a folder belongs to the demo and may be
// cleared.
const marker = "this-folder-is-the-demo's"

// lockName is the file that a running demo has locked.
const lockName = "demo.lock"

// take takes the demo's folder for this process and empties it: only ever the demo's own, and
// never one in which a farm runs.
func take(ctx context.Context, dir string) (release func(), err error) {
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("looking at the demo's folder: %w", err)
	}
	if _, err := os.Stat(filepath.Join(dir, marker)); len(entries) > 0 && err != nil {
		return nil, fmt.Errorf("%s is not empty and not the demo's; choose another folder with --dir", dir)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("making the demo's folder: %w", err)
	}
	if err := os.WriteFile(filepath.Join(dir, marker), nil, 0o644); err != nil {
		return nil, fmt.Errorf("marking the demo's folder: %w", err)
	}
	release, err = filelock.Take(filepath.Join(dir, lockName))
	if errors.Is(err, filelock.ErrTaken) {
		return nil, runs(dir, "a demo runs")
	}
	if err != nil {
		return nil, fmt.Errorf("taking the demo's folder: %w", err)
	}
	if err := empty(ctx, dir); err != nil {
		release()
		return nil, err
	}
	return release, nil
}

func runs(dir, what string) error {
	return fmt.Errorf(
		"%s in %s already, and nothing was changed; end it first, or start another demo with --dir FOLDER and "+
			"--listen ADDRESS:PORT", what, dir,
	)
}

// remains names what still runs of a demo that was killed; empty: nothing.
func remains(ctx context.Context, dir string) string {
	if _, running := localpg.Running(ctx, filepath.Join(dir, "service", "database")); running {
		return "the service"
	}
	locks, _ := filepath.Glob(filepath.Join(dir, "nodes", "*", node.LockFile)) // the pattern is right
	for _, lock := range locks {
		release, err := filelock.Take(lock)
		if err != nil {
			return "the node " + filepath.Base(filepath.Dir(lock))
		}
		release()
	}
	return ""
}

// remainsEnd is how long the programs of a demo that was killed may take to end.
const remainsEnd = 30 * time.Second

// empty removes all but the lock from the demo's folder, unless something of a demo that was
// killed still runs there.
func empty(ctx context.Context, dir string) error {
	for began := time.Now(); ; time.Sleep(200 * time.Millisecond) {
		what := remains(ctx, dir)
		if what == "" {
			break
		}
		if time.Since(began) > remainsEnd || ctx.Err() != nil {
			return runs(dir, what+" of a demo that was killed runs")
		}
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return fmt.Errorf("looking at the demo's folder: %w", err)
	}
	for _, e := range entries {
		if e.Name() == lockName || e.Name() == marker {
			continue
		}
		if err := os.RemoveAll(filepath.Join(dir, e.Name())); err != nil {
			return fmt.Errorf("clearing the demo's folder: %w", err)
		}
	}
	return nil
}

// lay copies the scenes into the demo's scene place.
func (f *Farm) lay() error {
	for _, dir := range []string{"frames", gannetFrames, "nodes", "inbox"} {
		if err := os.MkdirAll(filepath.Join(f.o.Dir, dir), 0o755); err != nil {
			return fmt.Errorf("preparing the demo: %w", err)
		}
	}
	scenes, err := fs.Sub(examples.Pellmarsh, "pellmarsh/scenes")
	if err != nil {
		return fmt.Errorf("preparing the demo: %w", err)
	}
	if err := os.CopyFS(filepath.Join(f.o.Dir, "scenes"), scenes); err != nil {
		return fmt.Errorf("copying the demo's scenes: %w", err)
	}
	return nil
}

func (f *Farm) waitReady(ctx context.Context, c *client.Client) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	for {
		var h wire.Health
		err := c.Do(ctx, http.MethodGet, "/readyz", nil, &h)
		if err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the demo's service did not become ready: %w", err)
		case <-f.Lost():
			return fmt.Errorf("the demo's service has ended: %s", lastLine(filepath.Join(f.o.Dir, "service.log")))
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// gannetFrames is the place into which one project delivers, and nobody else.
const gannetFrames = "gannet-frames"

// studio makes Pellmarsh's places, projects and people.
func (f *Farm) studio(ctx context.Context) error {
	set := func(path string, in any) error { return f.admin.Do(ctx, http.MethodPatch, path, in, nil) }
	for _, name := range []string{"scenes", "frames", gannetFrames} {
		place := wire.PlaceChange{Paths: map[string]string{}}
		for _, os := range []string{"linux", "darwin"} {
			place.Paths[os] = filepath.Join(f.o.Dir, name)
		}
		if err := set("/api/v1/places/"+name, place); err != nil {
			return fmt.Errorf("making the demo's places: %w", err)
		}
	}
	for name, title := range map[string]string{"salt-clock": "The Salt Clock", "tidal-room": "Tidal Room", "gannet": "Gannet"} {
		frames := "frames"
		if name == "gannet" {
			frames = gannetFrames
		}
		if err := set(
			"/api/v1/projects/"+name, wire.ProjectChange{Title: &title, Scenes: "scenes", Frames: frames},
		); err != nil {
			return fmt.Errorf("making the demo's projects: %w", err)
		}
	}
	for _, p := range People {
		if err := set("/api/v1/people/"+p.Name, wire.PersonChange{Role: p.Role, Password: Password}); err != nil {
			return fmt.Errorf("making the demo's people: %w", err)
		}
	}
	// Tidal Room is open to everybody, and nobody but wranglers sees Gannet yet.
	closed := true
	for name, in := range map[string]wire.ProjectChange{
		"salt-clock": {
			Members:     map[string]string{"tobin": "lead", "orla": "artist", "ines": "artist"},
			BudgetHours: new(400.0),
		},
		"gannet": {Closed: &closed, BudgetHours: new(40.0)},
	} {
		if err := set("/api/v1/projects/"+name, in); err != nil {
			return fmt.Errorf("saying who belongs to the demo's projects: %w", err)
		}
	}
	return nil
}

// join starts nodes and waits until they are on the farm.
func (f *Farm) join(ctx context.Context, members []member) error {
	var key wire.Key
	if err := f.admin.Do(
		ctx, http.MethodPost, "/api/v1/keys", wire.NewKey{Label: "demo", Uses: new(len(members)), Seconds: new(600)}, &key,
	); err != nil {
		return fmt.Errorf("making the demo's key: %w", err)
	}
	for _, m := range members {
		dir := filepath.Join(f.o.Dir, "nodes", m.name)
		args := []string{
			"join", f.admin.Address(), "--key", key.Key, "--name", m.name, "--kind", m.kind, "--renderers", m.renderers,
			"--data", dir, "--verbose",
		}
		if m.kind == "rack" && strings.HasPrefix(m.name, "loom") { // they have no such thing; the farm may believe it
			args = append(args, "--device", "Weft 40=24GiB", "--device", "Weft 40=24GiB")
		}
		if m.speed > 0 {
			args = append(args, "--speed", fmt.Sprint(m.speed))
		}
		if err := f.kids.start(filepath.Join(f.o.Dir, "nodes", m.name+".log"), args...); err != nil {
			return err
		}
	}
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	for {
		var nodes []wire.Node
		if err := f.admin.Do(ctx, http.MethodGet, "/api/v1/nodes", nil, &nodes); err != nil {
			return fmt.Errorf("waiting for the demo's nodes: %w", err)
		}
		online := 0
		for _, n := range nodes {
			if n.Reach == "online" {
				online++
			}
		}
		if online >= len(members) {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf(
				"only %d of the demo's %d nodes have joined; the logs are in %s", online, len(members),
				filepath.Join(f.o.Dir, "nodes"),
			)
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// describe puts nodes into pools and gives desks their hours: one of them is
// at home now.
func (f *Farm) describe(ctx context.Context, now time.Time) error {
	for _, pool := range []string{"graphics", "desks"} {
		if err := f.admin.Do(
			ctx, http.MethodPut, "/api/v1/pools/"+pool, wire.NewPool{Projects: []string{}}, nil,
		); err != nil {
			return fmt.Errorf("making the demo's pools: %w", err)
		}
	}
	at := func(hours int) string { return fmt.Sprintf("%02d:00", (now.UTC().Hour()+hours+24)%24) }
	for where, change := range map[string]wire.NodeChange{
		"gpu":              {AddPools: []string{"graphics"}},
		"desk":             {AddPools: []string{"desks"}},
		"name==kiln-04":    {AddTraits: []string{"noisy"}},
		"name==desk-nadia": {Hours: &wire.Hours{Week: "mon-sun " + at(-2) + "-" + at(6), Exceptions: []wire.HourException{}}},
		"name==desk-tobin": {Hours: &wire.Hours{Week: "mon-sun " + at(3) + "-" + at(9), Exceptions: []wire.HourException{}}},
	} {
		change.Where = where
		if err := f.Nadia.Do(ctx, http.MethodPost, "/api/v1/node-changes", change, nil); err != nil {
			return fmt.Errorf("describing the demo's nodes: %w", err)
		}
	}
	mask, table := "002", "{scene_root}/salt-clock/salt.csv"
	tables := wire.LaunchSettingsChange{
		Project: "salt-clock", Mask: &mask, Variables: map[string]*string{"COLOUR_TABLE": &table},
	}
	if err := f.Nadia.Do(ctx, http.MethodPatch, "/api/v1/launch-settings", tables, nil); err != nil {
		return fmt.Errorf("setting the variables of the demo's renderers: %w", err)
	}
	return nil
}

func (f *Farm) submit(ctx context.Context, in wire.Submit) (wire.Receipt, error) {
	var r wire.Receipt
	if err := f.Nadia.Do(ctx, http.MethodPost, "/api/v1/runs", in, &r); err != nil {
		return r, fmt.Errorf("submitting %s: %w", in.Job, err)
	}
	return r, nil
}

// Fill lets the nodes join and fills the queue with runs in different states.
func (f *Farm) Fill(ctx context.Context) error {
	if err := f.join(ctx, members); err != nil {
		return err
	}
	if err := f.describe(ctx, time.Now()); err != nil {
		return err
	}
	if err := f.shrink(ctx); err != nil {
		return err
	}
	if err := f.sicken(time.Now()); err != nil {
		return err
	}
	const width, height = 480, 270
	due := func(in time.Duration) string { return time.Now().Add(in).UTC().Format(time.RFC3339) }
	if err := f.proof(ctx, wire.Submit{
		Job: "salt_010", Project: "salt-clock", Scene: "salt-clock/salt_010.pov", Frames: "1-120", Width: width,
		Height: height,
	}); err != nil {
		return err
	}
	for _, in := range []wire.Submit{
		{Job: "gannet_end", Project: "gannet", Scene: "gannet/gannet_end.practice", Recipe: "practice-single", Frames: "1-16", Width: width, Height: height, Stall: 12},
		{Job: "gannet_title", Project: "gannet", Scene: "gannet/gannet_title.practice", Frames: "1-400", Width: width, Height: height},
		{Job: "gannet_open", Project: "gannet", Scene: "gannet/gannet_open.practice", Recipe: "practice-feed", Frames: "1-96", Width: width, Height: height,
			Needs: "gpu", Takes: &wire.Amounts{Cores: 1, MemoryBytes: 256 << 20, Devices: 1}},
		{Job: "tidal_ceiling", Project: "tidal-room", Scene: "tidal-room/tidal_ceiling.practice", Frames: "1-240", Width: width, Height: height, Passes: []string{"depth", "matte"}, Sequence: "scouts", Due: due(2 * time.Hour)},
		{Job: "tidal_floor", Project: "tidal-room", Scene: "tidal-room/tidal_floor.pov", Frames: "1-90", Width: width, Height: height},
		{Job: "salt_020", Project: "salt-clock", Scene: "salt-clock/salt_020.practice", Frames: "1-180", Width: width, Height: height, Held: true},
		{Job: "salt_040", Project: "salt-clock", Scene: "salt-clock/salt_020.practice", Frames: "1-480", Width: width, Height: height, Priority: "low", Due: due(4 * time.Minute)},
		{Job: "tidal_poster", Project: "tidal-room", Scene: "tidal-room/tidal_pair.practice", Frames: "24", Width: 1280, Height: 720, Tiles: "4x3", Overlap: 8, Passes: []string{"normal"}, Priority: "high"},
	} {
		if _, err := f.submit(ctx, in); err != nil {
			return err
		}
	}
	// One that was a mistake: somebody cancelled it.
	r, err := f.submit(
		ctx,
		wire.Submit{
			Job: "salt_030", Project: "salt-clock", Scene: "salt-clock/salt_020.practice", Frames: "1-24",
			Width: width, Height: height, Held: true,
		},
	)
	if err != nil {
		return err
	}
	if err := f.Nadia.Do(ctx, http.MethodPost, fmt.Sprintf("/api/v1/runs/%d/cancel", r.Run), nil, nil); err != nil {
		return fmt.Errorf("cancelling %s: %w", r.Name, err)
	}
	if err := f.jobs(ctx); err != nil {
		return err
	}
	return f.unsettle(ctx)
}

// unsettle makes the farm look lived in: one node held, one gone.
func (f *Farm) unsettle(ctx context.Context) error {
	hold := wire.NodeAct{Selection: wire.Selection{Where: "name==loom-02"}, Do: "hold", Reason: "new graphics driver"}
	if err := f.Nadia.Do(ctx, http.MethodPost, "/api/v1/node-acts", hold, nil); err != nil {
		return fmt.Errorf("holding loom-02: %w", err)
	}
	f.kids.stopLast() // desk-oskar has switched the machine off
	f.wanders()
	return nil
}

// Once takes one short real animation from submit to contact sheet and
// returns its run.
func (f *Farm) Once(ctx context.Context) (wire.Run, error) {
	if err := f.join(ctx, []member{members[0], members[1], members[4]}); err != nil {
		return wire.Run{}, err
	}
	receipt, err := f.submit(
		ctx,
		wire.Submit{
			Job: "salt_010", Project: "salt-clock", Scene: "salt-clock/salt_010.pov", Frames: "1-120/10",
			Width: 320, Height: 180,
		},
	)
	if err != nil {
		return wire.Run{}, err
	}
	var run wire.Run
	errEnded := errors.New("ended")
	err = f.Nadia.Events(ctx, 0, func(farm *client.Farm, _ client.Event) error {
		r := farm.Runs[receipt.Run]
		if r.DoneCount != run.DoneCount {
			fmt.Fprintf(f.o.Out, "  %d of %d frames\n", r.DoneCount, r.FrameCount)
		}
		if run = r; r.EndedAt != nil {
			return errEnded
		}
		return nil
	}, nil)
	if !errors.Is(err, errEnded) {
		return run, fmt.Errorf("watching %s: %w", receipt.Name, err)
	}
	if run.State != "done" {
		return run, fmt.Errorf("%s is %s: %s", run.Name, run.State, run.Why)
	}
	return run, nil
}
