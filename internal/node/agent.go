// Package node is what runs on a render machine: it enrols, says what the
// machine is, asks for work, launches renderers, watches and verifies their
// frames, delivers them and reports. It goes on while the service is away.
//
// It knows the service by internal/wire alone and never what other nodes do.
package node

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"vexillum/internal/account"
	"vexillum/internal/client"
	"vexillum/internal/filelock"
	"vexillum/internal/launcher"
	"vexillum/internal/scenefile"
	"vexillum/internal/wire"
)

// Options says how a node process runs.
type Options struct {
	Client    *client.Client // without a token
	Key       string         // enrolment key; not needed by a machine that is enrolled
	Name      string
	Renamed   bool          // a person gave the name; otherwise it is the machine's
	Kind      string        // rack or desk
	Dir       string        // identity and staging
	Speed     float64       // told instead of measured, if above 0
	Renderers []string      // recipes to offer; all that are found when empty
	Threads   int           // threads a renderer may use; all cores when 0
	Stall     time.Duration // for which a renderer may give no sign of life; 0: as leases say
	Version   string
	Log       *slog.Logger
	Told      func(line string) // lines for the person who started it
	Launcher  []string          // command line of the launcher, without the node's folder
	Staging   int64             // bytes that frames may take up while they are not delivered; 0 for no limit
	Devices   []wire.Device     // graphics devices told besides those that are found
	Send      bool              // send frames to the service even where their place is seen
	Peers     string            // address at which other nodes get pieces of bundles; none: nowhere
	Contents  int64             // bytes that contents of bundles may take up, besides what leases need
	// RenderAccount is the account of renderers on a machine where the node process is root; empty: [account.Usual].
	RenderAccount string
	Permits       []string        // further accounts and groups that this machine allows, as account=NAME and group=NAME
	LetGo         <-chan struct{} // closed to end the node process while its renderers go on; may be nil
}

// identity is what a machine keeps of its enrolment.
type identity struct {
	Service string `json:"service"`
	Node    int64  `json:"node"`
	Name    string `json:"name"`
	Token   string `json:"token"`
	// What was measured when it joined, in bytes a second.
	Pin         string `json:"pin,omitempty"` // of the service that it enrolled with, see [client.PinOf]
	DiskRate    int64  `json:"disk_rate,omitempty"`
	NetworkRate int64  `json:"network_rate,omitempty"`
}

// Agent is a node process.
type Agent struct {
	o        Options
	client   *client.Client
	me       identity
	facts    wire.Facts
	session  int64
	asked    atomic.Int64
	wake     chan struct{} // a lease has ended, or the caps have changed
	more     atomic.Bool   // a further lease may fit beside those that are worked on
	ended    []*work       // whose end the next ask reports; guarded by mu
	owned    *owned
	looking  chan struct{}
	scribes  []*logShipper // guarded by mu
	watched  atomic.Bool   // somebody follows what is said here
	life     string        // of the farm
	mishap   *wire.Mishap  // of the process before this one; nil: none, or it is told
	recipes  atomic.Pointer[knownRecipes]
	nudge    chan struct{} // progress has changed
	shifted  chan struct{} // the leases that are worked on have changed
	starter  *launcher.Client
	search   *search
	speed    speed
	accounts *account.Policy
	fresh    bool // enrolled just now, and not reported yet
	room     *room
	contents *contents
	pinned   *scenefile.Looker
	// mark of the places that were looked at, and a word that there are others
	placesMark  atomic.Pointer[string]
	otherPlaces chan struct{}
	caps        atomic.Pointer[wire.NodeCaps] // in force

	mu    sync.Mutex
	works map[int64]*work // by lease
}

// LockFile is the file in its folder that a node process has locked; see filelock.
const LockFile = "node.lock"

// Errors that end a node process.
var (
	// ErrSuperseded says that a newer process of the same node has started.
	ErrSuperseded = errors.New("a newer node process has taken this one's place")
	// ErrRestart says that the node process is to restart; its renderers go
	// on meanwhile.
	ErrRestart = errors.New("the node process was told to restart")
	// ErrFolderTaken says that another process works with the same files.
	ErrFolderTaken = errors.New(
		"another node process works in this folder; stop it first, or choose another folder with --data",
	)
	// ErrNotEnrolled says that the machine has neither an identity nor a key.
	ErrNotEnrolled = errors.New("this machine is not enrolled yet; give a key with --key (made by: vexillum key new)")
)

const (
	askSeconds  = 25
	beatEvery   = 5 * time.Second
	beatAtLeast = 200 * time.Millisecond // between beats that tell progress
	retryMost   = 2 * time.Second
	callTimeout = 8 * time.Second

	// looksAtOnce bounds the pictures that a node looks at at the same time: each
	// may take some 200 MiB.
	looksAtOnce = 2

	// defaultStall is how long a renderer may give no sign of life where the lease
	// does not say.
	defaultStall = 2 * time.Hour
)

// Run works until the context ends, and then leaves the farm.
func Run(ctx context.Context, o Options) error {
	if o.Threads == 0 {
		o.Threads = runtime.NumCPU()
	}
	if o.Told == nil {
		o.Told = func(string) {}
	}
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return fmt.Errorf("finding the node's folder: %w", err)
	}
	o.Dir = dir
	a := &Agent{
		o: o, nudge: make(chan struct{}, 1), shifted: make(chan struct{}, 1), works: map[int64]*work{},
		wake: make(chan struct{}, 1), owned: newOwned(), search: newSearch(),
		otherPlaces: make(chan struct{}, 1), looking: make(chan struct{}, looksAtOnce),
	}
	if a.accounts, err = account.Open(account.Options{
		Account: o.RenderAccount, Permits: o.Permits, Create: account.CreateSystem,
	}); err != nil {
		return err
	}
	a.pinned = scenefile.NewLooker(func(ctx context.Context, words []string, scene string) ([]byte, error) {
		return a.commands().ask(ctx, words, scene)
	})
	// The folder is the node's alone; what lies above it may hold those of others, such as of a
	// service whose database has an account of its own.
	if err := os.MkdirAll(filepath.Dir(o.Dir), 0o755); err != nil {
		return fmt.Errorf("making the folder above the node's: %w", err)
	}
	if err := os.MkdirAll(a.staging(), 0o700); err != nil {
		return fmt.Errorf("making the node's folder: %w", err)
	}
	release, err := filelock.Take(filepath.Join(o.Dir, LockFile))
	if errors.Is(err, filelock.ErrTaken) {
		return ErrFolderTaken
	}
	if err != nil {
		return fmt.Errorf("taking the node's folder: %w", err)
	}
	defer release()
	own := &logShipper{}
	a.scribes = []*logShipper{own}
	a.o.Log = logTo(o.Log, own)
	a.room = &room{folder: a.staging(), limit: o.Staging}
	a.caps.Store(&wire.NodeCaps{Version: -1})
	if a.contents, err = openContents(o.Dir, o.Contents, a.o.Log, func() string { return a.me.Name }); err != nil {
		return err
	}
	if o.Peers != "none" {
		if err := a.contents.give(ctx, o.Peers); err != nil {
			return err
		}
	}
	if a.mishap = a.lastLife(); a.mishap != nil {
		a.o.Told(mishapText(a.mishap))
	}
	defer os.Remove(a.lifeFile())
	a.facts = machineFacts(ctx, o.Dir, o.Version, a.accounts)
	a.facts.Devices = append(graphicsDevices(pciDevices), o.Devices...)
	a.measureAtStart(ctx)
	if err := a.identify(ctx); err != nil {
		return err
	}
	for {
		err := a.oneSession(ctx)
		if ctx.Err() != nil || errors.Is(err, errLetGo) {
			return nil
		}
		if !errors.Is(err, launcher.ErrLost) {
			return err
		}
		o.Log.Error("the launcher has ended, and all renderers with it; restarting")
	}
}

// identify reads who this machine is, or enrols it.
func (a *Agent) identify(ctx context.Context) error {
	path := filepath.Join(a.o.Dir, "node.json")
	data, err := os.ReadFile(path)
	if err == nil {
		if err := json.Unmarshal(data, &a.me); err != nil {
			return fmt.Errorf("reading this machine's identity in %s: %w; remove the file to enrol anew", path, err)
		}
		known, err := a.o.Client.Pinned(a.me.Pin, false)
		if err != nil {
			return err
		}
		a.client = known.WithToken(a.me.Token)
		return nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("reading this machine's identity: %w", err)
	}
	if a.o.Key == "" {
		return ErrNotEnrolled
	}
	return a.enrol(ctx, a.o.Name)
}

// enrol makes the machine a node of that name.
func (a *Agent) enrol(ctx context.Context, name string) error {
	key, pin, _ := strings.Cut(a.o.Key, wire.PinMark)
	service, err := a.o.Client.Pinned(pin, true)
	if err != nil {
		return err
	}
	greeting, err := a.greet(ctx, service)
	if err != nil {
		return err
	}
	var enrolled wire.Enrolled
	call, cancel := context.WithTimeout(ctx, callTimeout)
	defer cancel()
	err = service.Do(
		call, http.MethodPost, "/node/v1/enrol", wire.Enrol{Key: key, Name: name, Kind: a.o.Kind, Facts: a.facts},
		&enrolled,
	)
	if err != nil {
		return err
	}
	a.me = identity{Service: a.o.Client.Addresses(), Node: enrolled.Node, Name: enrolled.Name, Token: enrolled.Token,
		Pin: pin}
	if err := a.keepIdentity(); err != nil {
		return err
	}
	if service, err = a.o.Client.Pinned(pin, false); err != nil {
		return err
	}
	a.client = service.WithToken(a.me.Token)
	for _, line := range greeting {
		a.o.Told(line)
	}
	a.line("enrolled", "as node %s", a.me.Name)
	a.fresh = true
	return nil
}

// comeBack enrols a machine again whose token is not known any more, if it was
// given a key. What it holds in its staging area stays.
func (a *Agent) comeBack(ctx context.Context, refused error) error {
	var p *wire.Problem
	if !errors.As(refused, &p) || p.Status != http.StatusUnauthorized {
		return refused
	}
	if a.o.Key == "" {
		return fmt.Errorf(
			"the farm does not know the token of %s any more: it was shut out, or the farm was restored. A wrangler "+
				"lets it come back with: vexillum key new --return %s; start it then with --key-file",
			a.me.Name, a.me.Name,
		)
	}
	name := a.me.Name
	if a.o.Renamed {
		name = a.o.Name
	}
	if err := a.enrol(ctx, name); err != nil {
		return err
	}
	a.o.Key = "" // one try: a token that was just given and is not known means other trouble
	return nil
}

// keepIdentity writes down who this machine is.
func (a *Agent) keepIdentity() error {
	path := filepath.Join(a.o.Dir, "node.json")
	data, err := json.MarshalIndent(a.me, "", "  ")
	if err == nil {
		err = os.WriteFile(path+".new", data, 0o600)
	}
	if err == nil {
		err = os.Rename(path+".new", path)
	}
	if err != nil {
		return fmt.Errorf("keeping this machine's identity: %w", err)
	}
	return nil
}

// oneSession opens one session and works in it until it is over.
func (a *Agent) oneSession(ctx context.Context) error {
	if err := os.MkdirAll(a.staging(), 0o755); err != nil {
		return fmt.Errorf("making the staging area: %w", err)
	}
	var err error
	if a.starter, err = launcher.Connect(ctx, a.o.Dir, a.o.Launcher); err != nil {
		return err
	}
	defer a.starter.Close()
	held, err := a.recall()
	if err != nil {
		return err
	}
	if err := a.readRecipes(ctx); err != nil {
		if err := a.comeBack(ctx, err); err != nil {
			return err
		}
		if err := a.readRecipes(ctx); err != nil {
			return err
		}
	}
	if err := a.checkRenderers(); err != nil {
		return err
	}
	a.facts.Renderers = a.findAll(ctx)
	if a.fresh {
		a.fresh = false
		a.measure(ctx)
	}
	a.facts.DiskRate, a.facts.NetworkRate, a.facts.Speed = a.me.DiskRate, a.me.NetworkRate, a.speed.index()
	start := wire.Start{Facts: a.facts, Mishap: a.mishap}
	for _, w := range held {
		start.Holding = append(start.Holding, wire.Held{Lease: w.lease.ID, Life: w.life})
	}
	var started wire.Started
	if err := a.persist(ctx, http.MethodPost, "/node/v1/start", start, &started); err != nil {
		return err
	}
	a.mishap = nil // told once
	a.session, a.me.Name, a.life = started.Session, started.Name, started.Life
	a.take(started.Caps)
	a.asked.Store(0)
	a.o.Log.Info(
		"session open", "node", a.me.Name, "session", a.session, "speed", a.facts.Speed, "leases_held", len(held),
	)
	a.o.Told(
		fmt.Sprintf(
			"%s is on the farm: %d cores, speed %.2f, %s", a.me.Name, a.facts.Cores, a.facts.Speed,
			renderersText(a.facts.Renderers),
		),
	)
	resumed := a.sort(held, started)

	session, stop := context.WithCancelCause(ctx)
	var wg sync.WaitGroup
	wg.Go(func() { a.beats(session, stop) })
	wg.Go(func() { a.orders(session, stop) })
	wg.Go(func() { a.say(session) })
	wg.Go(func() { a.watchPlaces(session) })
	wg.Go(func() { a.keepSearching(session) })
	wg.Go(func() { a.measureWhenCalm(session) })
	wg.Go(func() { a.workAll(session, stop, resumed) })
	select {
	case <-session.Done():
	case <-a.starter.Lost():
		stop(a.starter.Err())
	case <-a.o.LetGo:
		stop(errLetGo)
	}
	wg.Wait()
	return a.over(ctx, context.Cause(session))
}

// over ends what a session leaves behind, and returns its cause unless the node was told to stop.
func (a *Agent) over(ctx context.Context, cause error) error {
	switch {
	case errors.Is(cause, launcher.ErrLost), errors.Is(cause, errLetGo), errors.Is(cause, ErrRestart):
	case ctx.Err() != nil:
		a.starter.End()
		a.leave()
		return nil
	default:
		a.starter.End() // the newer process renders by itself
	}
	return cause
}

func renderersText(found []wire.Renderer) string {
	if len(found) == 0 {
		return "no renderer found"
	}
	text := ""
	for i, r := range found {
		if i > 0 {
			text += ", "
		}
		text += strings.TrimSpace(r.Recipe + " " + r.Version)
		if r.Unfit != "" {
			text += " (cannot be used)"
		}
	}
	return text
}

// commands returns what runs the short commands of recipes in this session.
func (a *Agent) commands() *commands { return &commands{a.starter, a.accounts, a.staging(), a.o.Told} }

func (a *Agent) staging() string { return filepath.Join(a.o.Dir, "staging") }

func (a *Agent) newWork(l *leased) *work {
	return &work{
		lease: l, svc: a, exchange: a, log: a.o.Log, staging: filepath.Join(a.staging(), leaseFolder(l.ID)),
		status: newStatus(a.progressed), diary: newDiary(), ready: make(chan struct{}),
		host: machine{
			launcher: a.starter, speed: a.speed.index(), node: a.me.Name, share: a.share(l.Share), stall: a.o.Stall,
			send: a.o.Send, room: a.room, contents: a.contents, pinned: a.pinned, owned: a.owned, looking: a.looking,
			accounts: a.accounts, commands: a.commands(),
		},
	}
}

func (a *Agent) workOn(ctx context.Context, w *work) (wire.Ended, error) {
	var err error
	w.host.node = a.me.Name
	if w.diary.journal, err = openJournal(w.staging, a.o.Log); err != nil {
		return wire.Ended{}, err
	}
	defer w.diary.journal.close()
	said := a.logShipperOf(w)
	defer said.close()
	w.host.say = said.line
	a.changeWorks(func() { a.works[w.lease.ID] = w })
	defer a.changeWorks(func() { delete(a.works, w.lease.ID) })
	return w.run(ctx)
}

// take puts caps in force: on the disk at once, on cores and niceness with the
// next launch.
func (a *Agent) take(caps wire.NodeCaps) {
	a.caps.Store(&caps)
	limit := caps.StagingBytes
	if limit == 0 {
		limit = a.o.Staging
	}
	a.room.setLimit(limit)
	a.more.Store(true)
	a.rouse()
	a.o.Log.Info(
		"caps in force", "version", caps.Version, "cores", caps.Cores, "memory_bytes", caps.MemoryBytes, "nice",
		caps.Nice, "staging_bytes", limit,
	)
}

// changeWorks changes what the node works on, and lets the service know soon.
func (a *Agent) changeWorks(change func()) {
	a.mu.Lock()
	change()
	a.mu.Unlock()
	select {
	case a.shifted <- struct{}{}:
	default:
	}
	a.progressed()
}
