package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"vexillum/internal/bundle"
	"vexillum/internal/client"
	"vexillum/internal/localpg"
	"vexillum/internal/standin"
	"vexillum/internal/testkit/badline"
	"vexillum/internal/wire"
)

const (
	nodes    = 10
	password = "kestrel-over-the-flats"
)

// program is a process of the farm that is started again when it has ended.
type program struct {
	name string
	args []string
	log  *os.File

	mu      sync.Mutex
	cmd     *exec.Cmd
	gone    chan struct{}
	stopped bool // by SIGSTOP
}

// farm is everything that can be broken.
type farm struct {
	dir, binary string
	database    *localpg.Server
	dbOptions   localpg.Options
	dbDown      bool
	services    []*program
	listens     []string        // of the services
	dbLines     []*badline.Line // of each service to the database
	nodes       []*program
	nodeLines   []*badline.Line // of nodes to services: line i*len(services)+s
	ballast     []string        // small disks of nodes, where they have one
	admin       *client.Client
	placeGone   bool
	url         string // of the database, without a line
	pending     sync.WaitGroup
	receiver    *standin.Receiver  // of what the farm tells people
	now         []submitted        // runs of this round
	aside       map[string]bool    // nodes that somebody has sidelined
	sent        []*bundle.Manifest // of bundles that were sent
	hostile     []*client.Client
	breaches    []string // what the hostile could do
}

// build starts everything. What was started is ended by close, also after an
// error.
func (f *farm) build(ctx context.Context) error {
	dir := f.dir
	for _, name := range []string{"scenes", "frames", "logs"} {
		if err := os.MkdirAll(filepath.Join(dir, name), 0o755); err != nil {
			return err
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "password"), []byte(password), 0o600); err != nil {
		return err
	}
	var err error
	f.dbOptions = localpg.Options{
		Dir: filepath.Join(dir, "database"), Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
	}
	if f.database, err = localpg.Start(ctx, f.dbOptions); err != nil {
		return err
	}
	if f.receiver, err = standin.Start(nil); err != nil {
		return err
	}
	f.dbOptions.Port = f.database.Port()
	f.url = f.database.URL()
	for i, name := range []string{"kestrel", "merlin"} {
		if err := f.startService(ctx, name, []string{"0s", "47m"}[i]); err != nil {
			return err
		}
	}
	c, err := client.New(strings.Join(f.listens, ","), "")
	if err != nil {
		return err
	}
	if f.admin, _, err = c.SignIn(ctx, "admin", password, "chaos"); err != nil {
		return err
	}
	for _, name := range []string{"scenes", "frames"} {
		if err := f.admin.Do(
			ctx, http.MethodPatch, "/api/v1/places/"+name,
			wire.PlaceChange{Paths: map[string]string{"linux": filepath.Join(dir, name)}}, nil,
		); err != nil {
			return err
		}
	}
	if err := f.admin.Do(
		ctx, http.MethodPatch, "/api/v1/projects/salt-clock", wire.ProjectChange{Scenes: "scenes", Frames: "frames"},
		nil,
	); err != nil {
		return err
	}
	if err := f.tell(ctx); err != nil {
		return err
	}
	if err := f.recruit(ctx); err != nil {
		return err
	}
	var key wire.Key
	if err := f.admin.Do(ctx, http.MethodPost, "/api/v1/keys", wire.NewKey{Uses: new(nodes)}, &key); err != nil {
		return err
	}
	for i := range nodes {
		if err := f.addNode(ctx, i, key.Key); err != nil {
			return err
		}
	}
	return nil
}

// startService starts a service on a bad line to the database, whose clock is off.
func (f *farm) startService(ctx context.Context, name, offset string) error {
	address, err := url.Parse(f.url)
	if err != nil {
		return err
	}
	line, err := badline.New(address.Host)
	if err != nil {
		return err
	}
	f.dbLines = append(f.dbLines, line)
	address.Host = line.Address()
	listen, err := freeAddress()
	if err != nil {
		return err
	}
	f.listens = append(f.listens, listen)
	p, err := f.program(name, "serve", "--listen", listen, "--database", address.String(), "--name", name,
		"--admin-password-file", filepath.Join(f.dir, "password"), "--clock-offset", offset,
		"--contents", filepath.Join(f.dir, "contents"), "--notices-inward", "127.0.0.1", "--hurry-notices", "200",
		"--trial-after", "15s")
	if err != nil {
		return err
	}
	f.services = append(f.services, p)
	if err := p.start(f.binary); err != nil {
		return err
	}
	if err := f.until(ctx, name+" answers", func() bool {
		h := f.health(listen)
		return h.Part == "active" || h.Part == "stand-by"
	}); err != nil {
		return err
	}
	return nil
}

func freeAddress() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer l.Close()
	return l.Addr().String(), nil
}

func nodeName(i int) string { return fmt.Sprintf("kiln-%02d", i+1) }

// addNode starts a node. Its lines to the services are its own. Every third
// sends its frames; every second has a small disk of its own, where this
// machine allows to make one, and the others a quota.
func (f *farm) addNode(ctx context.Context, i int, key string) error {
	var addresses []string
	for _, listen := range f.listens {
		line, err := badline.New(listen)
		if err != nil {
			return err
		}
		f.nodeLines = append(f.nodeLines, line)
		addresses = append(addresses, "http://"+line.Address())
	}
	if i%2 == 1 { // not all begin at the same service
		addresses[0], addresses[1] = addresses[1], addresses[0]
	}
	data := filepath.Join(f.dir, nodeName(i))
	ballast := ""
	if i%2 == 0 {
		if err := os.MkdirAll(data, 0o700); err != nil {
			return err
		}
		if err := syscall.Mount("tmpfs", data, "tmpfs", 0, "size=12m,mode=700"); err == nil {
			ballast = filepath.Join(data, "ballast")
		}
	}
	f.ballast = append(f.ballast, ballast)
	args := append([]string{"join"}, addresses...)
	args = append(args, "--key", key, "--name", nodeName(i), "--data", data, "--verbose", "--stall", "4s",
		"--renderers", "practice,practice-single,practice-feed", "--speed", fmt.Sprint([]float64{1, 0.5, 2}[i%3]))
	if i%3 == 2 {
		args = append(args, "--upload")
	}
	if ballast == "" { // a quota of its own instead of a small disk
		args = append(args, "--staging-limit", "64KiB")
	}
	p, err := f.program(nodeName(i), args...)
	if err != nil {
		return err
	}
	f.nodes = append(f.nodes, p)
	if err := p.start(f.binary); err != nil {
		return err
	}
	return f.until(ctx, p.name+" is online", func() bool {
		var all []wire.Node
		_ = f.admin.Do(ctx, http.MethodGet, "/api/v1/nodes", nil, &all)
		for _, n := range all {
			if n.Name == p.name && n.Reach == "online" {
				return true
			}
		}
		return false
	})
}

func (f *farm) program(name string, args ...string) (*program, error) {
	log, err := os.OpenFile(filepath.Join(f.dir, "logs", name+".log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return nil, err
	}
	return &program{name: name, args: args, log: log}, nil
}

func (p *program) start(binary string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.gone != nil {
		select {
		case <-p.gone:
		default:
			return nil // it runs
		}
	}
	cmd := exec.Command(binary, p.args...)
	cmd.Stdout, cmd.Stderr = p.log, p.log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("starting %s: %w", p.name, err)
	}
	gone := make(chan struct{})
	p.cmd, p.gone, p.stopped = cmd, gone, false
	go func() {
		_ = cmd.Wait() // its log tells
		close(gone)
	}()
	return nil
}

// signal sends a signal, and reports whether there was a process to get it.
func (p *program) signal(s syscall.Signal) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.cmd == nil {
		return false
	}
	select {
	case <-p.gone:
		return false
	default:
	}
	switch s {
	case syscall.SIGSTOP:
		p.stopped = true
	case syscall.SIGCONT:
		p.stopped = false
	}
	return p.cmd.Process.Signal(s) == nil
}

func (p *program) wait() {
	p.mu.Lock()
	gone := p.gone
	p.mu.Unlock()
	if gone != nil {
		<-gone
	}
}

// until waits until something holds.
func (f *farm) until(ctx context.Context, what string, holds func() bool) error {
	for deadline := time.Now().Add(5 * time.Minute); !holds(); {
		if time.Now().After(deadline) {
			return fmt.Errorf("waited too long until %s", what)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
	return nil
}

func (f *farm) health(listen string) (h wire.Health) {
	c, err := client.New(listen, "")
	if err != nil {
		return h
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	_ = c.Do(ctx, http.MethodGet, "/healthz", nil, &h)
	return h
}

// submitted is a run whose submit was acknowledged.
type submitted struct {
	id     int64
	job    string
	scene  string
	mode   string
	frames string
	first  int
	step   int // between frames
	count  int
	width  int
	height int
	passes []string // beside the picture
	means  meant
	gap    int // a frame that fails on every node
}

// meant is what is to become of a run.
type meant int

const (
	allWell     meant = iota // every frame is rendered
	oneGap                   // every frame but one is rendered
	alwaysWrong              // it is held
)

// submitSome submits runs of every kind; a submit is repeated until it is
// acknowledged.
func (f *farm) submitSome(
	ctx context.Context, r *rand.Rand, seed uint64, met map[string]int,
) ([]submitted, error) {
	var out []submitted
	for i, mode := range []string{"practice", "practice-single", "practice-feed", "practice-single",
		"practice-single"} {
		s := submitted{
			means: []meant{allWell, allWell, allWell, oneGap, alwaysWrong}[i],
			job:   fmt.Sprintf("chaos_%d_%d", seed, i), mode: mode, first: 1 + r.IntN(200), step: 1,
			count: 20 + r.IntN(60), width: 64 + r.IntN(64), height: 36,
		}
		if i == 0 { // long leases, to be trimmed
			s.count *= 3
		}
		if s.means == alwaysWrong {
			s.count = 1000
		}
		if r.IntN(3) > 0 {
			s.passes = []string{"depth", "matte"}[:1+r.IntN(2)]
		}
		s.scene = s.job + ".practice"
		if r.IntN(3) == 0 {
			s.step = 2 + r.IntN(2)
		}
		s.gap = s.first + r.IntN(s.count)*s.step
		s.frames = fmt.Sprintf("%d-%d/%d", s.first, s.last(), s.step)
		if err := os.WriteFile(filepath.Join(f.dir, "scenes", s.scene), []byte(scene(r, s)), 0o644); err != nil {
			return nil, err
		}
		in := wire.Submit{
			Job: s.job, Project: "salt-clock", Scene: s.scene, Recipe: s.mode, Frames: s.frames,
			Width: s.width, Height: s.height, Tries: 20, Passes: s.passes,
		}
		if r.IntN(2) == 0 {
			id, err := f.sendBundle(ctx, r, s)
			if err != nil {
				return nil, err
			}
			in.Bundle = id
			met["runs with a bundle"]++
		}
		var receipt wire.Receipt
		if err := f.persist(ctx, s.job, http.MethodPost, "/api/v1/runs", in, &receipt); err != nil {
			return nil, err
		}
		s.id = receipt.Run
		out = append(out, s)
	}
	return out, nil
}

// rendered is how many frames of the run are there in the end.
func (s submitted) rendered() int {
	switch s.means {
	case alwaysWrong:
		return 0
	case oneGap:
		return s.count - 1
	}
	return s.count
}

func (s submitted) last() int { return s.first + (s.count-1)*s.step }

// submitVast submits a run of as many separate stretches as there may be, which
// no node can take. Nothing of the others may wait for it, neither while it
// stands in the queue nor afterwards.
func (f *farm) submitVast(ctx context.Context, seed uint64) (vast int64, err error) {
	job := fmt.Sprintf("vast_%d", seed)
	if err := os.WriteFile(
		filepath.Join(f.dir, "scenes", job+".practice"), []byte("practice: 1\npicture: salt\ncost: 1s\n"), 0o644,
	); err != nil {
		return 0, err
	}
	var receipt wire.Receipt
	in := wire.Submit{
		Job: job, Project: "salt-clock", Scene: job + ".practice", Recipe: "practice", Frames: "1-199999/2",
		Needs: "submarine", Priority: "high",
	}
	err = f.persist(ctx, job, http.MethodPost, "/api/v1/runs", in, &receipt)
	return receipt.Run, err
}

// persist calls the service until it answers.
func (f *farm) persist(ctx context.Context, key, method, path string, in, out any) error {
	calling := client.Repeatable(ctx, key)
	var last error
	err := f.until(ctx, key+" is taken", func() bool {
		once, cancel := context.WithTimeout(calling, 5*time.Second)
		defer cancel()
		last = f.admin.Do(once, method, path, in, out)
		return last == nil
	})
	return errors.Join(err, last)
}

var misbehaviours = []string{
	"error", "crash", "memory", "licence", "hang", "no file", "cut off", "wrong size", "slow", "no pass",
	"leaves child", "link", "pipe", "huge", "missing file", "no plug-in", "not allowed", "place gone", "disk full",
}

// scene writes a practice scene in which frames misbehave on some nodes.
func scene(r *rand.Rand, s submitted) string {
	var text strings.Builder
	least := 80 + r.IntN(400)
	cost := fmt.Sprintf("%dms", least)
	if r.IntN(2) == 0 { // what is dealt evenly is trimmed later
		cost = fmt.Sprintf("{points: [[%d, %dms], [%d, %dms]]}", s.first+s.count/2*s.step, least/2, s.last(), 6*least)
	}
	fmt.Fprintf(
		&text, "practice: 1\npicture: %s\nstartup: %dms\ncost: %s\nnoise: 0.3\nseed: %d\nstamp: %v\ntrouble:\n",
		[]string{"salt", "tidal", "gannet"}[r.IntN(3)], r.IntN(300), cost, r.IntN(1000),
		len(s.passes) > 0 || r.IntN(2) == 0,
	)
	var all []string // by hand it can be drawn
	for i := range nodes {
		all = append(all, nodeName(i))
	}
	switch s.means {
	case alwaysWrong:
		fmt.Fprintf(
			&text,
			"  - {frames: %d-%d, does: missing file, on: [%s]}\n",
			s.first,
			s.last(),
			strings.Join(all, ", "),
		)
	case oneGap:
		fmt.Fprintf(&text, "  - {frame: %d, does: error, on: [%s]}\n", s.gap, strings.Join(all, ", "))
	}
	for range 8 {
		var on []string
		for _, i := range r.Perm(nodes)[:3] {
			on = append(on, nodeName(i))
		}
		fmt.Fprintf(
			&text, "  - {frame: %d, does: %s, on: [%s]}\n", s.first+r.IntN(s.count)*s.step,
			misbehaviours[r.IntN(len(misbehaviours))], strings.Join(on, ", "),
		)
	}
	if r.IntN(2) == 0 { // a machine that is broken
		fmt.Fprintf(
			&text, "  - {frames: %d-%d, does: error, on: [%s]}\n", s.first, s.last(), nodeName(r.IntN(nodes)),
		)
	}
	return text.String()
}

// waitFor waits until runs have ended.
func (f *farm) waitFor(ctx context.Context, runs []submitted, met map[string]int) error {
	for _, s := range runs {
		if s.means == alwaysWrong {
			if err := f.stopWrong(ctx, s); err != nil {
				return err
			}
			continue
		}
		var run wire.Run
		if err := f.until(ctx, s.job+" has ended", func() bool {
			_ = f.admin.Do(ctx, http.MethodGet, fmt.Sprintf("/api/v1/runs/%d", s.id), nil, &run)
			if run.State == "held" { // so much failed around it that it was taken to be wrong
				met["runs held that were well"]++
				_ = f.goesOn(ctx, s)
			}
			return run.EndedAt != nil
		}); err != nil {
			return fmt.Errorf(
				"%w: it is %s (%s), %d of %d done; to do %s, dealt %s, delivering %s", err, run.State, run.Why,
				run.DoneCount, run.FrameCount, run.Sets.ToDo, run.Sets.Dealt, run.Sets.Delivering,
			)
		}
		switch {
		case s.means == oneGap && run.State == "done with gaps" && run.Sets.Parked == fmt.Sprint(s.gap):
		case s.means == oneGap || run.State != "done":
			return fmt.Errorf("%s is %s, parked %s: %s", s.job, run.State, run.Sets.Parked, run.Why)
		}
	}
	return nil
}

// close ends everything.
func (f *farm) close() {
	f.pending.Wait()
	if f.database == nil {
		return
	}
	_ = f.mend(context.Background())
	for _, p := range f.nodes {
		p.signal(syscall.SIGTERM)
	}
	for _, p := range f.nodes {
		p.wait()
	}
	for _, p := range f.services {
		p.signal(syscall.SIGTERM)
	}
	for _, p := range f.services {
		p.wait()
	}
	_ = f.database.Stop()
	f.receiver.Stop()
	for _, l := range append(f.dbLines, f.nodeLines...) {
		l.Close()
	}
	for _, b := range f.ballast {
		if b != "" {
			_ = syscall.Unmount(filepath.Dir(b), syscall.MNT_DETACH)
		}
	}
}
