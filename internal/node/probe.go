package node

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"vexillum/internal/account"
	"vexillum/internal/launcher"
	"vexillum/internal/recipe"
	"vexillum/internal/wire"
)

// Bounds of probes.
const (
	probeTimeout = 10 * time.Second // of a renderer that only reports its version
	mostProbed   = 600              // bytes of what a failed probe printed that are kept
)

// Pauses before failed probes are repeated, and before programs that were not there are looked
// for again: the first, doubled each time, up to the longest.
const (
	firstProbePause = 15 * time.Second
	mostProbePause  = 10 * time.Minute
)

// probePause returns the pause before another try after a number of tries.
func probePause(tries int) time.Duration {
	return min(firstProbePause<<min(tries, 10), mostProbePause)
}

// search keeps which renderers this machine has. One search runs at a time.
type search struct {
	mu    sync.Mutex // held while searching
	found []wire.Renderer
	again chan struct{} // the recipes changed, or a person asked: failed probes start over
}

// newSearch returns an empty search.
func newSearch() *search { return &search{again: make(chan struct{}, 1)} }

// known returns what was found last.
func (s *search) known() []wire.Renderer {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.found)
}

// soon makes failed probes start over with the shortest pause.
func (s *search) soon() {
	select {
	case s.again <- struct{}{}:
	default:
	}
}

// findRenderers runs the program of each recipe and returns what came of it. Recipes
// whose program is not on this machine are left out. only, if not empty, names the
// recipes to look for.
func (c *commands) findRenderers(ctx context.Context, recipes []recipe.Recipe, only []string) []wire.Renderer {
	found := []wire.Renderer{}
	for _, r := range recipes {
		if len(only) > 0 && !slices.Contains(only, r.Name) {
			continue
		}
		if got, there := c.probe(ctx, r); there {
			found = append(found, got)
		}
	}
	return found
}

// probe runs the program of a recipe for its version; there is false if the machine does not
// have the program.
func (c *commands) probe(ctx context.Context, r recipe.Recipe) (got wire.Renderer, there bool) {
	path, err := programPath(r.Program)
	if err != nil {
		return got, false
	}
	got = wire.Renderer{Recipe: r.Name, Path: path}
	if !r.Probe.Runs() {
		return got, true
	}
	told, err := c.run(ctx, command{words: append([]string{path}, r.Probe.Arguments...), within: probeTimeout})
	if err != nil {
		got.Unfit, got.Failed = fmt.Sprintf("its probe could not be run as %s: %v", c.accounts.Usual(), err), true
		switch {
		case errors.Is(err, errTooLong):
			got.Unfit = fmt.Sprintf("its probe did not end within %v", probeTimeout)
		case errors.Is(err, errTooMuch):
			got.Unfit = "its probe printed too much"
		}
		if c.tell != nil {
			c.tell(fmt.Sprintf("%s at %s: %s", r.Name, path, got.Unfit))
		}
		return got, true
	}
	printed := strings.TrimSpace(told.out + "\n" + told.complaint)
	seen := r.Probe.Read(printed, told.how)
	got.Version, got.Unfit, got.Failed = seen.Version, seen.Unfit, seen.Failed
	if got.Unfit != "" {
		got.Printed = strings.ToValidUTF8(printed[:min(len(printed), mostProbed)], "")
	}
	return got, true
}

// programPath returns where the first of the candidates for this system is.
func programPath(program recipe.Program) (string, error) {
	names := program.Candidates(runtime.GOOS)
	err := fmt.Errorf("the recipe names no program for %s", runtime.GOOS)
	for _, name := range names {
		if name == "{vexillum}" {
			return os.Executable()
		}
		var path string
		if path, err = exec.LookPath(name); err == nil {
			return path, nil
		}
	}
	return "", err
}

// ProbeHere runs the probe of a recipe under the account of this process, for a person who tries
// a recipe file on their own machine. there is false if the machine does not have the program.
func ProbeHere(ctx context.Context, r recipe.Recipe) (got wire.Renderer, there bool, err error) {
	folder, err := os.MkdirTemp("", "vexillum-probe-")
	if err != nil {
		return got, false, fmt.Errorf("making a folder to probe in: %w", err)
	}
	defer os.RemoveAll(folder)
	c, end, err := commandsAsSelf(folder, slog.New(slog.DiscardHandler))
	if err != nil {
		return got, false, err
	}
	defer end()
	got, there = c.probe(ctx, r)
	return got, there, nil
}

// commandsAsSelf returns what runs commands of recipes under the account of this process, without
// a node. end must be called when it is no longer used.
func commandsAsSelf(folder string, log *slog.Logger) (c *commands, end func(), err error) {
	output := filepath.Join(folder, "output")
	if err := os.MkdirAll(output, 0o700); err != nil {
		return nil, nil, fmt.Errorf("making the folder of a command: %w", err)
	}
	policy, err := account.Open(account.Options{AsSelf: true})
	if err != nil {
		return nil, nil, fmt.Errorf("choosing the account of a command: %w", err)
	}
	here, there := net.Pipe()
	go launcher.NewServer(output, log).Attach(there)
	client := launcher.NewClient(here)
	return &commands{launcher: client, accounts: policy, staging: folder}, client.End, nil
}

// findAll looks for the renderers of all recipes and remembers what came of it.
func (a *Agent) findAll(ctx context.Context) []wire.Renderer {
	a.search.mu.Lock()
	defer a.search.mu.Unlock()
	a.search.found = a.commands().findRenderers(ctx, a.recipes.Load().newest(), a.o.Renderers)
	return slices.Clone(a.search.found)
}

// probeAll looks for all renderers again and reports them to the service.
func (a *Agent) probeAll(ctx context.Context) ([]wire.Renderer, error) {
	found := a.findAll(ctx)
	a.search.soon()
	return found, a.reportFound(ctx, found)
}

func (a *Agent) reportFound(ctx context.Context, found []wire.Renderer) error {
	return a.persist(
		ctx, http.MethodPost, "/node/v1/found", wire.Found{Session: a.session, Renderers: found, Speed: a.speed.index()}, nil,
	)
}

// keepSearching repeats failed probes, and looks for programs that were not there, at growing
// intervals, until the session ends.
func (a *Agent) keepSearching(ctx context.Context) {
	for tries := 0; ; tries++ {
		select {
		case <-ctx.Done():
			return
		case <-a.search.again:
			tries = -1
			continue
		case <-time.After(probePause(tries)):
		}
		if found, changed := a.searchFailed(ctx); changed {
			a.o.Log.Info("other renderers were found", "renderers", renderersText(found))
			if err := a.reportFound(ctx, found); err != nil {
				return // the session's other calls learn the same
			}
		}
	}
}

// searchFailed repeats the probes that failed or found no program, and reports whether the
// outcome of any is different.
func (a *Agent) searchFailed(ctx context.Context) (found []wire.Renderer, changed bool) {
	a.search.mu.Lock()
	defer a.search.mu.Unlock()
	for _, r := range a.recipes.Load().newest() {
		if len(a.o.Renderers) > 0 && !slices.Contains(a.o.Renderers, r.Name) {
			continue
		}
		i := slices.IndexFunc(a.search.found, func(f wire.Renderer) bool { return f.Recipe == r.Name })
		if i >= 0 && !a.search.found[i].Failed {
			continue
		}
		switch got, there := a.commands().probe(ctx, r); {
		case ctx.Err() != nil:
			return nil, false
		case !there && i >= 0:
			a.search.found, changed = slices.Delete(a.search.found, i, i+1), true
		case there && i < 0:
			a.search.found, changed = append(a.search.found, got), true
		case there && got != a.search.found[i]:
			a.search.found[i], changed = got, true
		}
	}
	return slices.Clone(a.search.found), changed
}

// probe does the errand of looking for all renderers at once.
func (e *errands) probe(ctx context.Context) wire.ErrandTold {
	if err := e.a.readRecipes(ctx); err != nil {
		return wire.ErrandTold{Error: err.Error()}
	}
	found, err := e.a.probeAll(ctx)
	if err != nil {
		return wire.ErrandTold{Error: err.Error()}
	}
	return wire.ErrandTold{Probed: &wire.Probed{Renderers: found}}
}
