package node

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
	limit "golang.org/x/time/rate"

	"vexillum/internal/bundle"
	"vexillum/internal/core/triage"
	"vexillum/internal/permit"
	"vexillum/internal/wire"
)

// contents are the contents of bundles that this node has, and how it gets and gives
// them.
type contents struct {
	store *bundle.Store
	most  int64 // bytes, besides what leases need
	log   *slog.Logger
	key   atomic.Pointer[string] // of the service, by which permits are known
	name  func() string          // of this node
	port  int                    // where pieces are given; 0: nowhere
	slots chan struct{}          // pieces that are given at once
	rate  *limit.Limiter
	call  *http.Client

	mu       sync.Mutex
	pinned   map[string]int // leases that need a bundle
	fetching map[string]*sync.Mutex
	known    map[string]*bundle.Manifest
}

// Bounds of giving pieces to other nodes.
const (
	givenAtOnce = 8
	giveRate    = 200 << 20 // bytes a second, where nobody says
	// mostPeerSays bounds what another node says of why it gives nothing, in bytes.
	mostPeerSays = 1 << 10
)

func openContents(dir string, most int64, log *slog.Logger, name func() string) (*contents, error) {
	store, err := bundle.Open(filepath.Join(dir, "contents"))
	if err != nil {
		return nil, err
	}
	c := &contents{
		store: store, most: most, log: log, name: name, slots: make(chan struct{}, givenAtOnce),
		rate: limit.NewLimiter(giveRate, bundle.MostPiece), call: peerClient(), pinned: map[string]int{},
		fetching: map[string]*sync.Mutex{}, known: map[string]*bundle.Manifest{},
	}
	c.key.Store(new(string))
	return c, nil
}

// peerClient calls other nodes: it follows none of them elsewhere, as the permit would go along,
// and takes no more and waits no longer than a piece needs.
func peerClient() *http.Client {
	return &http.Client{
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{
			Proxy: nil, DialContext: (&net.Dialer{Timeout: 5 * time.Second}).DialContext, MaxIdleConnsPerHost: 2,
			IdleConnTimeout: 30 * time.Second, ResponseHeaderTimeout: 10 * time.Second, MaxResponseHeaderBytes: 8 << 10,
			DisableCompression: true,
		},
	}
}

// give lets other nodes have pieces until the context ends. It returns once it
// listens.
func (c *contents) give(ctx context.Context, address string) error {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("listening for other nodes at %s: %w; choose another with --peers, or none", address, err)
	}
	_, port, err := net.SplitHostPort(listener.Addr().String())
	if err == nil {
		c.port, err = strconv.Atoi(port)
	}
	if err != nil {
		return fmt.Errorf("reading the address at which other nodes call: %w", err)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /pieces/{bundle}/{content}/{piece}", c.serve)
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second, WriteTimeout: 5 * time.Minute}
	go func() {
		<-ctx.Done()
		_ = server.Close()
	}()
	go func() { _ = server.Serve(listener) }()
	return nil
}

// serve gives a piece to a node that shows a permit for it.
func (c *contents) serve(w http.ResponseWriter, r *http.Request) {
	id := r.PathValue("bundle")
	shown := strings.TrimPrefix(r.Header.Get("Authorization"), "Permit ")
	if _, err := permit.Check(*c.key.Load(), shown, c.name(), id, time.Now()); err != nil {
		http.Error(w, err.Error(), http.StatusForbidden)
		return
	}
	select {
	case c.slots <- struct{}{}:
		defer func() { <-c.slots }()
	default:
		http.Error(w, "as many pieces are given as at once may be; ask another node", http.StatusServiceUnavailable)
		return
	}
	m, err := c.manifest(id)
	if err != nil {
		http.Error(w, "the bundle is not here", http.StatusNotFound)
		return
	}
	i := slices.IndexFunc(m.Files, func(f bundle.File) bool { return f.Hash == r.PathValue("content") })
	piece, err := strconv.Atoi(r.PathValue("piece"))
	if i < 0 || err != nil {
		http.Error(w, "the bundle has no such piece", http.StatusNotFound)
		return
	}
	data, err := c.store.ReadPiece(m.Files[i].Content, piece)
	if err != nil {
		http.Error(w, "the piece is not here", http.StatusNotFound)
		return
	}
	if err := c.rate.WaitN(r.Context(), len(data)); err != nil {
		return
	}
	w.Header().Set("Content-Length", strconv.Itoa(len(data)))
	_, _ = w.Write(data) // the other node sees that it was cut off
}

// manifest returns a bundle that is known here.
func (c *contents) manifest(id string) (*bundle.Manifest, error) {
	c.mu.Lock()
	m := c.known[id]
	c.mu.Unlock()
	if m != nil {
		return m, nil
	}
	m, err := c.store.Manifest(id)
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.known[id] = m
	return m, nil
}

// pin keeps the contents of a bundle here until the returned function is called.
func (c *contents) pin(id string) (unpin func()) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.pinned[id]++
	return func() {
		c.mu.Lock()
		if c.pinned[id]--; c.pinned[id] <= 0 {
			delete(c.pinned, id)
		}
		c.mu.Unlock()
		c.sweep()
	}
}

// sweep keeps the contents within their limit.
func (c *contents) sweep() { c.sweepTo(c.most) }

// makeRoom takes away all contents that no lease needs: the disk is wanted for frames.
func (c *contents) makeRoom() { c.sweepTo(0) }

func (c *contents) sweepTo(most int64) {
	c.mu.Lock()
	needed := map[string]bool{}
	for id := range c.pinned {
		if m := c.known[id]; m != nil {
			for _, f := range m.Files {
				needed[f.Hash] = true
			}
		}
	}
	c.mu.Unlock()
	if _, err := c.store.Sweep(most, func(hash string) bool { return needed[hash] }); err != nil {
		c.log.Warn("sweeping the contents of bundles", "error", err)
	}
}

// one lets a bundle be fetched once at a time.
func (c *contents) one(id string) (unlock func()) {
	c.mu.Lock()
	if c.fetching[id] == nil {
		c.fetching[id] = &sync.Mutex{}
	}
	lock := c.fetching[id]
	c.mu.Unlock()
	lock.Lock()
	return lock.Unlock
}

// exchange is what fetching a bundle needs of the service.
type exchange interface {
	bundle(ctx context.Context, id string) ([]byte, error)
	piece(ctx context.Context, id, hash string, i int) ([]byte, error)
	holding(ctx context.Context, h wire.Holding) (wire.Sharing, error)
}

// fetch gets all of a bundle that is not here. Where the disk is full, contents that no
// lease needs make room first.
func (c *contents) fetch(
	ctx context.Context, svc exchange, id string, told func(bundle.Progress),
) (*bundle.Manifest, error) {
	defer c.one(id)()
	m, err := c.fetchOnce(ctx, svc, id, told)
	if errors.Is(err, syscall.ENOSPC) {
		c.makeRoom()
		m, err = c.fetchOnce(ctx, svc, id, told)
	}
	return m, err
}

func (c *contents) fetchOnce(
	ctx context.Context, svc exchange, id string, told func(bundle.Progress),
) (*bundle.Manifest, error) {
	m, err := c.manifest(id)
	if errors.Is(err, bundle.ErrNotHere) {
		var data []byte
		if data, err = svc.bundle(ctx, id); err == nil {
			if m, err = bundle.Read(data); err == nil && m.ID() != id {
				err = errors.New("the service gave another bundle than the lease names")
			}
		}
		if err == nil {
			err = c.store.Put(m)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("getting the bundle %.12s: %w", id, err)
	}
	return m, bundle.Fetch(ctx, bundle.Fetching{
		Store: c.store, Manifest: m, Service: fromService{svc, id}, Told: told,
		Bad: func(source string, reason error) {
			c.log.Warn("a node gave no good pieces and is left alone for a while", "of", source, "error", reason)
		},
		Plan: func(ctx context.Context, at bundle.Standing) (bundle.Plan, error) {
			told, err := svc.holding(ctx, wire.Holding{
				Bundle: id, Have: bundle.Packed(at.Have), Pieces: len(at.Have), Want: at.Want, Shun: at.Shun,
				Port: c.port,
			})
			if err != nil {
				return bundle.Plan{}, err
			}
			plan := bundle.Plan{Seeds: told.Seeds}
			for _, p := range told.Peers {
				if have, err := bundle.Unpacked(p.Have, len(at.Have)); err == nil {
					plan.Peers = append(plan.Peers, bundle.Peer{Source: fromPeer{c.call, p, id}, Have: have})
				}
			}
			return plan, nil
		},
	})
}

// fromService gets pieces from the service.
type fromService struct {
	svc exchange
	id  string
}

func (fromService) Name() string { return "the service" }

func (s fromService) Piece(ctx context.Context, c bundle.Content, i int) ([]byte, error) {
	data, err := s.svc.piece(ctx, s.id, c.Hash, i)
	var p *wire.Problem
	if errors.As(err, &p) && p.Status == http.StatusNotFound {
		return nil, fmt.Errorf("%w: %s", bundle.ErrNotHere, p.Detail)
	}
	return data, err
}

// fromPeer gets pieces from another node.
type fromPeer struct {
	call *http.Client
	peer wire.SharingPeer
	id   string
}

func (p fromPeer) Name() string { return p.peer.Name }

func (p fromPeer) Piece(ctx context.Context, c bundle.Content, i int) ([]byte, error) {
	url := fmt.Sprintf("http://%s/pieces/%s/%s/%d", p.peer.Address, p.id, c.Hash, i)
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return nil, fmt.Errorf("asking %s: %w", p.peer.Name, err)
	}
	r.Header.Set("Authorization", "Permit "+p.peer.Permit)
	answer, err := p.call.Do(r)
	if err != nil {
		return nil, fmt.Errorf("asking %s: %w", p.peer.Name, err)
	}
	defer answer.Body.Close()
	_, length := c.Range(i)
	most := length + 1
	if answer.StatusCode != http.StatusOK {
		most = mostPeerSays
	}
	data, err := io.ReadAll(io.LimitReader(answer.Body, most))
	switch {
	case err != nil:
		return nil, fmt.Errorf("reading what %s sends: %w", p.peer.Name, err)
	case answer.StatusCode == http.StatusNotFound:
		return nil, bundle.ErrNotHere
	case answer.StatusCode != http.StatusOK:
		return nil, fmt.Errorf("%s answers %d: %.200s", p.peer.Name, answer.StatusCode, bytes.TrimSpace(data))
	}
	return data, nil
}

// fetchText says how far the fetching of a bundle is.
func fetchText(p bundle.Progress, rate float64) string {
	text := fmt.Sprintf("%d %% of %s", 100*p.Bytes/max(1, p.Of), humanize.IBytes(uint64(p.Of)))
	if len(p.From) > 0 {
		text += ", from " + p.From[0]
	}
	if others := len(p.From) - 1; others > 0 {
		text += " and " + english.Plural(others, "other", "")
	}
	if rate > 0 {
		text += ", " + humanize.IBytes(uint64(rate)) + "/s"
	}
	return text
}

// getScene makes the scene of a lease readable: one that came with it is written down,
// and of a bundle what this node lacks is got.
func (w *work) getScene(ctx context.Context) error {
	if w.lease.Bundle == "" {
		return w.unpackScene()
	}
	if w.host.contents == nil {
		return errors.New("this node process keeps no contents of bundles")
	}
	began, first, whole := time.Now(), int64(-1), int64(0)
	m, err := w.host.contents.fetch(ctx, w.exchange, w.lease.Bundle, func(p bundle.Progress) {
		if first < 0 {
			first = p.Bytes
		}
		if whole = p.Bytes; p.Bytes == p.Of {
			return
		}
		rate := float64(p.Bytes-first) / max(0.1, time.Since(began).Seconds())
		w.status.set(func(n *moment) {
			n.phase, n.fraction, n.detail = "fetching", float64(p.Bytes)/float64(max(1, p.Of)), fetchText(p, rate)
		})
	})
	if err != nil {
		return err
	}
	w.fetched.Bytes += whole - max(0, first)
	w.fetched.Seconds += time.Since(began).Seconds()
	folder := filepath.Join(w.staging, sceneFolder)
	who, err := w.whoRenders()
	if err != nil {
		return fmt.Errorf("choosing the account of the renderer: %w", err)
	}
	err = w.host.contents.store.Lay(m, folder, who.Switched())
	if errors.Is(err, bundle.ErrNotHere) { // somebody has changed what was here: it is got again
		if m, err = w.host.contents.fetch(ctx, w.exchange, w.lease.Bundle, nil); err == nil {
			err = w.host.contents.store.Lay(m, folder, who.Switched())
		}
	}
	if err != nil {
		return err
	}
	w.lease.SceneRoot = folder
	w.status.set(func(n *moment) { n.phase, n.fraction, n.detail = "starting", 0, "" })
	return nil
}

// noScene says that the files of a scene could not be got.
type noScene struct{ err error }

// Error says why.
func (n *noScene) Error() string { return "the scene could not be got: " + n.err.Error() }

// Unwrap returns why.
func (n *noScene) Unwrap() error { return n.err }

// sceneCause names the cause for which a scene could not be got.
func sceneCause(err error) string {
	switch {
	case errors.Is(err, syscall.ENOSPC):
		return triage.CauseDiskFull
	case errors.Is(err, bundle.ErrNotHere):
		return triage.CauseMissingFile
	}
	return triage.CauseNoStart
}
