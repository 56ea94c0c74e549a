package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"vexillum/internal/bundle"
	"vexillum/internal/client"
	"vexillum/internal/recipe"
	"vexillum/internal/scenefile"
	"vexillum/internal/wire"
)

// bundling is what is said on the command line about a bundle.
type bundling struct {
	folder, recipe string
	with           []string
}

func (b *bundling) bind(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&b.folder, "folder", "", "folder from which on files go along (default: that of the scene)")
	f.StringArrayVar(
		&b.with, "with", nil,
		"files that the scene needs besides, such as 'luts/*.cube'; relative to the scene, the folder or the place",
	)
}

// bundleCommand shows what goes along with a scene. It sends nothing.
func (a *app) bundleCommand() *cobra.Command {
	var b bundling
	c := a.jsonFlag(&cobra.Command{
		Use: "bundle SCENE", Short: "Show what goes along with a scene that is submitted with --bundle",
		Long: "Looks into a scene on this machine, by its recipe, and shows all files that it needs: what goes\n" +
			"along, what is missing, and what lies outside the folder. Sends nothing. The exit code is 1 if\n" +
			"something is missing or outside.",
		Example: "  vexillum bundle shots/vase.glass --folder . --with 'luts/*.cube'",
		Args:    exactly(1, "a scene on this machine"),
		RunE: func(c *cobra.Command, args []string) error {
			g, _, err := a.gather(c.Context(), b, args[0])
			if err != nil {
				return err
			}
			if a.json {
				_, err := a.out.Write(append(g.Manifest.Encode(), '\n'))
				return err
			}
			a.showBundle(g)
			if len(g.Missing)+len(g.Outside) > 0 {
				return outcome{exitFailed}
			}
			return nil
		},
	})
	b.bind(c)
	c.Flags().StringVar(
		&b.recipe, "recipe", "", "recipe file, or the name of a recipe (default: by the scene's ending)",
	)
	return c
}

// gather finds all that a scene on this machine needs.
func (a *app) gather(ctx context.Context, b bundling, scene string) (g *bundle.Gathered, folder string, err error) {
	if err := isLocalScene(scene); err != nil {
		return nil, "", err
	}
	whole, err := filepath.Abs(scene)
	if err != nil {
		return nil, "", fmt.Errorf("finding the scene: %w", err)
	}
	if folder, err = filepath.Abs(b.folder); err != nil {
		return nil, "", fmt.Errorf("finding the folder: %w", err)
	}
	if b.folder == "" {
		folder = filepath.Dir(whole)
	}
	inside, err := filepath.Rel(folder, whole)
	if err != nil || !filepath.IsLocal(inside) {
		return nil, "", fmt.Errorf(
			"the scene %s does not lie in %s; give a folder that it is in with --folder", scene, folder,
		)
	}
	r, err := a.recipeFor(ctx, b.recipe, scene)
	if err != nil {
		return nil, "", err
	}
	with, err := b.withNames()
	if err != nil {
		return nil, "", err
	}
	own := scenefile.Run(nil)
	if isRecipeFile(b.recipe) {
		own = scenefile.RunAsSelf
	}
	if with, err = alsoTold(ctx, r, folder, filepath.ToSlash(inside), with, own); err != nil {
		return nil, "", err
	}
	g, err = bundle.Gather(ctx, bundle.Gathering{
		Folder: folder, Scene: filepath.ToSlash(inside), More: scenefile.Told(with), Find: scenefile.References(r),
	})
	return g, folder, err
}

// withNames returns the files and patterns that --with names.
func (b *bundling) withNames() ([]string, error) {
	if slices.Contains(b.with, "") {
		return nil, usageError{errors.New("--with is empty; name files with it, or leave it out")}
	}
	return b.with, nil
}

// alsoTold adds the files that a scene itself says that it needs, where a command of
// the recipe asks it.
// The commands of a recipe that the farm keeps are others' and not run on this machine.
func alsoTold(
	ctx context.Context, r *recipe.Recipe, folder, scene string, with []string, run scenefile.Run,
) ([]string, error) {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, fmt.Errorf("opening the folder of the scene: %w", err)
	}
	defer root.Close()
	told, err := r.ReadScene(scene, scenefile.Reader(ctx, root, scene, run))
	return append(slices.Clone(with), told.Inputs...), err
}

// isRecipeFile reports whether a recipe is named by its file on this machine.
func isRecipeFile(name string) bool { return strings.ContainsAny(name, "./") }

// recipeFor returns the recipe that a scene is looked into by: of a file, as the farm
// has it, or as it comes with the program where no farm can be asked.
func (a *app) recipeFor(ctx context.Context, name, scene string) (*recipe.Recipe, error) {
	if isRecipeFile(name) {
		return recipeOf(name)
	}
	book, err := recipe.Builtin()
	if err != nil {
		return nil, err
	}
	if cl, err := a.client(); err == nil {
		if all, err := get[[]wire.Recipe](ctx, cl, "/api/v1/recipes"); err == nil {
			for _, r := range all {
				if detail, err := get[wire.RecipeDetail](ctx, cl, recipePath(r.Name, nil)); err == nil {
					if read, err := recipe.ParseKept([]byte(detail.Text)); err == nil {
						book[r.Name] = read
					}
				}
			}
		}
	}
	if name != "" {
		if r := book[name]; r != nil {
			return r, nil
		}
		return nil, fmt.Errorf("there is no recipe %q; the recipes are: %s", name, strings.Join(book.Names(), ", "))
	}
	fitting := book.ForScene(path.Ext(scene))
	if len(fitting) == 0 {
		return nil, fmt.Errorf(
			"no recipe reads scenes that end in %q; the recipes are: %s", path.Ext(scene),
			strings.Join(book.Names(), ", "),
		)
	}
	return fitting[0], nil
}

// showBundle prints what goes along, and what does not.
func (a *app) showBundle(g *bundle.Gathered) {
	m := g.Manifest
	fmt.Fprintf(
		a.out, "%s  %s, %s; bundle %.12s\n\n", m.Scene, english.Plural(len(m.Files), "file", ""), size(m.Bytes()),
		m.ID(),
	)
	t := newTable(a.out, "FILE", ">SIZE", "")
	for _, f := range m.Files {
		kind := ""
		switch {
		case f.Path == m.Scene:
			kind = "scene"
		case f.Cache:
			kind = "simulation cache"
		}
		t.add(f.Path, size(f.Size), kind)
	}
	t.print()
	tell := func(what string, all []bundle.Named) {
		for _, n := range all {
			by := "which you name"
			if n.By != "" {
				by = "which " + n.By + " names"
			}
			fmt.Fprintf(a.out, "\n%s  %s, %s", what, n.Name, by)
		}
		if len(all) > 0 {
			fmt.Fprintln(a.out)
		}
	}
	for _, gap := range g.Gaps() {
		fmt.Fprintf(a.out, "\nin part  %s\n", gap)
	}
	tell("missing", g.Missing)
	tell("outside", g.Outside)
	if len(g.Outside) > 0 {
		fmt.Fprintln(a.out, "What lies outside does not go along; --folder says from where on files do.")
	}
	tell("not beside the scene", g.Elsewhere)
	if len(g.Elsewhere) > 0 {
		fmt.Fprintln(a.out, "The renderer may bring these itself.")
	}
}

// bundleUp gathers a scene, sends what the farm lacks of it, and notes the bundle in
// what is submitted.
func (a *app) bundleUp(ctx context.Context, b bundling, in *wire.Submit, incomplete bool) error {
	b.recipe = in.Recipe
	g, folder, err := a.gather(ctx, b, in.Scene)
	if err != nil {
		return err
	}
	if lacking := append(append([]bundle.Named{}, g.Missing...), g.Outside...); len(lacking) > 0 && !incomplete {
		a.showBundle(g)
		return fmt.Errorf(
			"%s cannot go along; mend the scene, give another --folder, or submit with --incomplete",
			english.Plural(len(lacking), "file", ""),
		)
	}
	cl, err := a.client()
	if err != nil {
		return err
	}
	in.Bundle, in.Scene = g.Manifest.ID(), g.Manifest.Scene
	in.Origin = filepath.Join(folder, filepath.FromSlash(g.Manifest.Scene))
	if err := foresee(ctx, cl, *in); err != nil {
		return err
	}
	return a.sendBundle(ctx, cl, in.Project, g.Manifest, folder, in.DryRun)
}

// foresee returns what the service refuses whatever is sent, such as an unknown
// project: nobody shall send for an hour to learn that.
func foresee(ctx context.Context, cl *client.Client, in wire.Submit) error {
	in.DryRun = true
	var p *wire.Problem
	if _, err := submit(ctx, cl, in); errors.As(err, &p) && p.Status < http.StatusInternalServerError &&
		p.Field != "bundle" {
		return err
	}
	return nil
}

// Of sending bundles: how many pieces at once, how often what is missing is asked
// again, and how long a service is waited for that is away.
const (
	sendingAtOnce = 4
	sendRounds    = 5
	sendPatience  = 10 * time.Minute
)

// sendBundle sends what the farm lacks of a bundle, in pieces. What was sent before an
// interruption is not sent again. A dry run sends nothing, and cannot go on without it.
func (a *app) sendBundle(
	ctx context.Context, cl *client.Client, project string, m *bundle.Manifest, folder string, dry bool,
) error {
	for range sendRounds {
		var state wire.BundleState
		if err := patient(ctx, func() error {
			return cl.Send(ctx, http.MethodPost, bundlesPath(project), "application/json", m.Encode(), &state)
		}); err != nil {
			return err
		}
		if state.MissingBytes == 0 && len(state.Missing) == 0 {
			return nil
		}
		if dry {
			return fmt.Errorf(
				"the farm lacks %s of the bundle, and a dry run sends nothing; what can be checked before is in order",
				size(state.MissingBytes),
			)
		}
		show := a.sendingLine(state.MissingBytes, m.Bytes())
		err := sendPieces(ctx, cl, project, m, folder, state, show)
		show(-1)
		if err != nil {
			return err
		}
	}
	return errors.New(
		"the bundle is sent, and the service still lacks some of it; was a file changed meanwhile? Try again",
	)
}

// bundlesPath returns where the bundles of a project are.
func bundlesPath(project string) string {
	return "/api/v1/projects/" + url.PathEscape(project) + "/bundles"
}

func sendPieces(
	ctx context.Context, cl *client.Client, project string, m *bundle.Manifest, folder string, state wire.BundleState,
	sent func(n int64),
) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(sendingAtOnce)
	for _, missing := range state.Missing {
		for _, f := range m.Files {
			if f.Hash != missing.Hash {
				continue
			}
			for _, i := range missing.Pieces {
				group.Go(func() error {
					data, err := pieceOf(filepath.Join(folder, filepath.FromSlash(f.Path)), f.Content, i)
					if err != nil {
						return err
					}
					to := fmt.Sprintf("%s/%s/contents/%s/%d", bundlesPath(project), state.ID, f.Hash, i)
					if err := patient(ctx, func() error {
						return cl.Send(ctx, http.MethodPut, to, "application/octet-stream", data, nil)
					}); err != nil {
						return fmt.Errorf("sending %s: %w", f.Path, err)
					}
					sent(int64(len(data)))
					return nil
				})
			}
			break
		}
	}
	return group.Wait()
}

// pieceOf reads a piece of a file, as it was when the bundle was made.
func pieceOf(name string, c bundle.Content, i int) ([]byte, error) {
	file, err := os.Open(name)
	if err != nil {
		return nil, fmt.Errorf("reading a file of the bundle: %w", err)
	}
	defer file.Close()
	offset, length := c.Range(i)
	data := make([]byte, length)
	if _, err := file.ReadAt(data, offset); err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	if !c.PieceIs(i, data) {
		return nil, fmt.Errorf("%s changed while it was sent; submit again", name)
	}
	return data, nil
}

// patient tries until the service answers.
func patient(ctx context.Context, call func() error) error {
	wait := 200 * time.Millisecond
	for until := time.Now().Add(sendPatience); ; {
		err := call()
		var away *client.UnreachableError
		var p *wire.Problem
		gone := errors.As(err, &away) || errors.As(err, &p) && p.Status >= http.StatusInternalServerError &&
			p.Status != http.StatusInsufficientStorage
		if !gone || time.Now().After(until) || ctx.Err() != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait):
		}
		wait = min(2*wait, 5*time.Second)
	}
}

// sendingLine shows how far the sending is. A negative number ends it.
func (a *app) sendingLine(of, all int64) func(n int64) {
	var sent atomic.Int64
	var mu sync.Mutex
	began, shown := time.Now(), time.Time{}
	live := colours(os.Stderr)
	if of < all {
		fmt.Fprintf(os.Stderr, "The farm lacks %s of %s.\n", size(of), size(all))
	}
	return func(n int64) {
		mu.Lock()
		defer mu.Unlock()
		if n < 0 {
			if took := time.Since(began).Seconds(); sent.Load() > 0 {
				clearLine(live)
				fmt.Fprintf(os.Stderr, "Sent %s in %.1f s.\n", size(sent.Load()), took)
			}
			return
		}
		now := sent.Add(n)
		if !live || time.Since(shown) < 200*time.Millisecond {
			return
		}
		shown = time.Now()
		clearLine(live)
		fmt.Fprintf(os.Stderr, "sending %d %% of %s", 100*now/max(1, of), size(of))
	}
}

func clearLine(live bool) {
	if live {
		fmt.Fprint(os.Stderr, "\r\x1b[K")
	}
}

// isLocalScene reports whether a scene is a file on this machine.
func isLocalScene(name string) error {
	info, err := os.Stat(name)
	switch {
	case name == "":
		return usageError{errors.New("the scene is empty; name a file on this machine")}
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("there is no scene %s on this machine", name)
	case err != nil:
		return fmt.Errorf("looking at the scene: %w", err)
	case !info.Mode().IsRegular():
		return fmt.Errorf("%s is not a file; name the scene itself", name)
	}
	return nil
}
