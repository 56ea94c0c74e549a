// Package service is Vexillum's service without its interfaces: it claims the
// database, loads the farm, keeps its floor going and its beat, and begins
// again when a commit has failed. The rooms below it do one duty each.
package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/pace"
	"vexillum/internal/notify"
	"vexillum/internal/publish"
	"vexillum/internal/recipe"
	"vexillum/internal/scenefile"
	"vexillum/internal/service/errands"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/gauge"
	"vexillum/internal/service/lead"
	"vexillum/internal/service/ledger"
	"vexillum/internal/service/logbook"
	"vexillum/internal/service/notices"
	"vexillum/internal/service/views"
	"vexillum/internal/service/writer"
	"vexillum/internal/store"
	"vexillum/internal/wire"
)

// Options is what a Service works with.
type Options struct {
	Store   *store.Store
	Recipes recipe.Book // that ship with the program
	// OwnRecipes are those of a folder that the service was started with.
	OwnRecipes recipe.Book
	Log        *slog.Logger
	Name       string // of this service, unlike any other on the database
	Address    string // where other services, nodes and people reach it
	Version    string
	Socket     string           // machine and port that it listens on; empty when not known
	Now        func() time.Time // time.Now when nil
	Alone      bool             // nobody else can use the database
	Folder     string           // for what the service keeps besides its records
	MostLogs   int64            // bytes that logs of nodes and renderers may take up in the database; some when 0
	// MostContents is how many bytes of bundles are kept besides what open runs need;
	// some when 0.
	MostContents int64
	Contents     string // folder for the contents of bundles; in Folder when empty
	// Inbox is a folder into which job files are dropped; empty: none. Those that lie in it
	// directly are InboxPerson's.
	Inbox, InboxPerson string
	// TrialAfter is how long a node that the farm has sidelined waits for its first trial;
	// ten minutes when 0.
	TrialAfter time.Duration
	// Mailer sends e-mail; nil: there is no mail server.
	Mailer *notify.Mailer
	// Guard says where webhooks may go.
	Guard notify.Guard
	// Console is where people reach the console, for links in notices; empty: there are none.
	Console string
	// HurryNotices is by how much less is waited until what was not taken is sent again; 1 when 0.
	HurryNotices float64
	// Took hears how long each decision of the loop took; may be nil.
	Took func(what fmt.Stringer, took time.Duration)
	// FirstAdmin is called once, when nobody may sign in yet. It returns the
	// name and the hash of the password of the first administrator.
	FirstAdmin func() (name, passwordHash string, err error)
}

// mostLogs is how many bytes logs may take up when nobody says.
const mostLogs = 8 << 30

// Service keeps the farm going while it is the active one, and stands by
// while another is.
type Service struct {
	o            Options
	keeper       *lead.Keeper
	floor        atomic.Pointer[floor.Floor]
	life         atomic.Pointer[string]
	members      atomic.Pointer[[]wire.Member]
	secret       atomic.Pointer[string]
	uploads      turnstile
	uses         uses
	estimates    *turns // plays of estimates, and of changes before they are made
	preflighting *turns
	gauge        *gauge.Gauge
	logbook      *logbook.Book
	bundles      *bundles
	sharing      *sharing
	errands      *errands.Desk
	looker       *scenefile.Looker
	trials       trials
}

// mostContents is how many bytes of bundles are kept when nobody says.
const mostContents = 200 << 30

func contentsFolder(o Options) string {
	if o.Contents == "" && o.Folder != "" {
		return filepath.Join(o.Folder, "contents")
	}
	return o.Contents
}

// New returns a Service that is not running yet.
func New(o Options) *Service {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.MostLogs == 0 {
		o.MostLogs = mostLogs
	}
	s := &Service{
		o: o, estimates: newTurns(1), preflighting: newTurns(0), gauge: gauge.New(o.Store, o.Log, o.Now, o.MostLogs),
		logbook: logbook.New(o.Store),
		keeper: lead.New(
			lead.Options{
				Store: o.Store, Name: o.Name, Address: o.Address, Socket: o.Socket, Alone: o.Alone,
				Log: o.Log,
			},
		),
	}
	if o.MostContents == 0 {
		o.MostContents = mostContents
	}
	s.sharing, s.errands, s.looker = newSharing(), errands.New(), scenefile.NewLooker(nil)
	var err error
	if s.bundles, err = openBundles(contentsFolder(o), o.MostContents); err != nil {
		o.Log.Error("bundles cannot be kept", "error", err)
		s.bundles = &bundles{}
	}
	s.life.Store(new(string))
	s.members.Store(&[]wire.Member{})
	return s
}

// Floor returns the live farm, or writer.ErrLoading while it is not here.
func (s *Service) Floor() (*floor.Floor, error) {
	if f := s.floor.Load(); f != nil {
		return f, nil
	}
	return nil, writer.ErrLoading
}

// Elsewhere returns where another service has the live farm, or false.
func (s *Service) Elsewhere() (address string, known bool) {
	if s.floor.Load() != nil {
		return "", false
	}
	_, address, known = s.keeper.Other()
	return address, known
}

// Part is what this service does now, and who is active.
func (s *Service) Part() (part, active string) {
	other, _, _ := s.keeper.Other()
	switch {
	case s.floor.Load() != nil:
		return "active", s.o.Name
	case !s.keeper.Reached():
		return "away", "" // from its database
	case other != "":
		return "stand-by", other
	}
	return "starting", ""
}

// Life returns which life of which farm this is.
func (s *Service) Life() string { return *s.life.Load() }

// Members returns the services that share the database.
func (s *Service) Members() []wire.Member { return *s.members.Load() }

// Store returns the records that are read without the live farm.
func (s *Service) Store() *store.Store { return s.o.Store }

// Gauge takes what machines measure of themselves.
func (s *Service) Gauge() *gauge.Gauge { return s.gauge }

// Logbook takes what node processes and renderers say.
func (s *Service) Logbook() *logbook.Book { return s.logbook }

// Run works until the context ends: it stands by, is active, and stands by
// again when it was deposed. It returns an error only if this program cannot
// work on the database.
func (s *Service) Run(ctx context.Context) error {
	var appearing sync.WaitGroup
	appearing.Go(func() { s.appear(ctx) })
	defer appearing.Wait()
	for {
		claim, err := s.keeper.Stand(ctx)
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		err = s.lead(ctx, claim)
		s.floor.Store(nil)
		if ctx.Err() != nil {
			s.keeper.Release()
			return nil
		}
		if errors.Is(err, store.ErrDeposed) {
			s.o.Log.Error("deposed: another service has taken over; this one stands by")
		} else {
			s.o.Log.Error("the farm is read anew", "after", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}

// pause lies between a failure and the next attempt.
const pause = 300 * time.Millisecond

// Times of telling the others that this service is there.
const (
	appearEvery  = 3 * time.Second
	memberWithin = 15 * time.Second
)

// appear reports that this service is there, and learns who else is.
func (s *Service) appear(ctx context.Context) {
	once := func() {
		calling, cancel := context.WithTimeout(ctx, appearEvery)
		defer cancel()
		if err := s.o.Store.Appear(calling, s.o.Name, s.o.Address, s.o.Version); err != nil {
			return // the keeper says that the database is away
		}
		found, err := s.o.Store.Members(calling, memberWithin)
		if err != nil {
			return
		}
		_, active := s.Part()
		members := make([]wire.Member, 0, len(found))
		for _, m := range found {
			members = append(
				members,
				wire.Member{
					Name: m.Name, Address: m.Address, Version: m.Version, Active: m.Name == active, SeenAt: m.Seen,
				},
			)
		}
		s.members.Store(&members)
	}
	for {
		once()
		select {
		case <-ctx.Done():
			return
		case <-time.After(appearEvery):
		}
	}
}

// lead loads the farm and runs its floor until that fails or the context
// ends.
func (s *Service) lead(ctx context.Context, claim lead.Claim) error {
	began := time.Now()
	book := ledger.New(s.o.Store, claim.Lead)
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	var helpers sync.WaitGroup
	helpers.Go(func() {
		s.keeper.Beat(ctx, book.Beat, func(err error) {
			s.floor.Store(nil) // nobody is answered any more
			stop(err)
		})
	})
	defer helpers.Wait()
	defer stop(nil)
	loaded, err := s.o.Store.Load(ctx, claim.Seq)
	if err != nil {
		return causeOf(ctx, err)
	}
	life, err := s.o.Store.Life(ctx)
	if err != nil {
		return causeOf(ctx, err)
	}
	s.life.Store(&life)
	loaded.State.TrialAfter = s.o.TrialAfter
	model := learned(loaded)
	newest := map[farm.RunID]views.Newest{}
	for id, n := range loaded.Newest {
		newest[id] = views.Newest{Frame: n.Frame, At: n.At}
	}
	closed := make(chan farm.Spec, 256)
	f := floor.New(floor.Options{
		Closed: func(spec farm.Spec) {
			select {
			case closed <- spec:
			default: // what is left behind is litter, no harm
			}
		},
		State: loaded.State, Pace: model, Received: loaded.Received, Newest: newest,
		Finished: loaded.Finished, FinishedSince: loaded.FinishedSince, Committer: book,
		Errands: s.errands, Recipes: s.o.Recipes, Log: s.o.Log, Now: s.o.Now, Version: s.o.Version,
		Notices: s.noticeOptions(), Took: s.o.Took,
		Active: wire.Active{Name: s.o.Name, Epoch: claim.Epoch, Since: s.o.Now(), Why: claim.Reason},
	})
	s.o.Log.Info(
		"active", "epoch", claim.Epoch, "why", claim.Reason, "runs", len(loaded.State.Runs), "nodes",
		len(loaded.State.Nodes), "loaded_in", time.Since(began).Round(time.Millisecond),
	)
	ended := make(chan error, 1)
	go func() { ended <- f.Run(ctx) }()
	helpers.Go(func() { s.sweep(ctx, f, closed) })
	helpers.Go(func() { s.gauge.Run(ctx) })
	helpers.Go(func() { s.foretell(ctx, f) })
	helpers.Go(func() { s.received(ctx, f) })
	helpers.Go(func() { s.stitch(ctx, f) })
	helpers.Go(func() { f.Hands.Keep(ctx, s.o.Log) })
	helpers.Go(func() { f.Notices.Run(ctx) })
	helpers.Go(func() { s.preflightByItself(ctx, f) })
	helpers.Go(func() { s.inboxWhenReady(ctx, f) })
	helpers.Go(func() { s.watchPlaces(ctx, f) })
	helpers.Go(func() { s.keepUses(ctx) })
	helpers.Go(func() { s.sweepContents(ctx, f) })
	helpers.Go(func() { s.trials.run(ctx) })
	if err := s.begin(ctx, f, claim); err != nil {
		stop(err)
	} else {
		s.floor.Store(f)
		if ctx.Err() != nil {
			s.floor.Store(nil)
		}
	}
	err = <-ended
	stop(err)
	return causeOf(ctx, err)
}

// noticeOptions is what notices are made and sent with.
func (s *Service) noticeOptions() notices.Options {
	o := notices.Options{
		Store: s.o.Store, Guard: s.o.Guard, Webhooks: notify.NewWebhooks(s.o.Guard, s.o.Version), Address: s.o.Console,
		Hurry: s.o.HurryNotices, Steady: s.gauge.ClockIsSteady,
	}
	if s.o.Mailer != nil {
		o.Mailer = s.o.Mailer
	}
	return o
}

// sweep removes what cut-off deliveries left in the output folders of runs
// that have closed.
func (s *Service) sweep(ctx context.Context, f *floor.Floor, closed <-chan farm.Spec) {
	for {
		select {
		case <-ctx.Done():
			return
		case spec := <-closed:
			roots, err := f.Setup.Roots(ctx, spec.Project, runtime.GOOS)
			if err == nil && roots.Frames != "" {
				err = publish.Sweep(roots.Frames, spec.Output, spec.Folders()...)
			}
			if err != nil && ctx.Err() == nil {
				s.o.Log.Warn("sweeping an output folder", "run", spec.Name(), "error", err)
			}
		}
	}
}

// causeOf returns why a context ended, if an error came of that.
func causeOf(ctx context.Context, err error) error {
	if cause := context.Cause(ctx); cause != nil && (err == nil || errors.Is(err, context.Canceled)) &&
		!errors.Is(cause, context.Canceled) {
		return cause
	}
	return err
}

// begin commits what a new active service has to say first.
func (s *Service) begin(ctx context.Context, f *floor.Floor, claim lead.Claim) error {
	if err := s.firstAdmin(ctx, f); err != nil {
		return err
	}
	if err := f.Setup.Ship(ctx, s.o.Recipes, farm.RecipeShipped, "vexillum"); err != nil {
		return err
	}
	if err := f.Setup.Ship(ctx, s.o.OwnRecipes, farm.RecipeFolder, s.o.Name); err != nil {
		return err
	}
	if claim.Since != "" {
		if err := s.o.Store.NoteOutage(ctx, claim.Epoch, claim.Since, claim.Outage); err != nil {
			s.o.Log.Warn("the outage before this start is not kept", "error", err)
		}
	}
	return f.TookOver(ctx, claim.Before, claim.Reason)
}

func (s *Service) firstAdmin(ctx context.Context, f *floor.Floor) error {
	if len(f.People.People()) > 0 || s.o.FirstAdmin == nil {
		return nil
	}
	name, hash, err := s.o.FirstAdmin()
	if err != nil {
		return fmt.Errorf("making the first administrator: %w", err)
	}
	_, err = f.People.SetPerson(ctx, name, farm.Admin, hash, "", "first start")
	return err
}

// learned returns what the frames that were finished before tell. Runs that
// have ended come first: they tell the next of their jobs.
func learned(loaded store.Loaded) *pace.Model {
	model := pace.New()
	for i, o := range loaded.Observations {
		run := loaded.State.Runs[o.Run]
		if n := loaded.State.Nodes[o.Node]; n != nil {
			model.Recall(run, n, n.Part(o.Share), o.FrameAccepted)
		}
		if last := i+1 == len(loaded.Observations) ||
			loaded.Observations[i+1].Run != o.Run; last &&
			run.State.Closed() {
			model.Close(run)
		}
	}
	return model
}
