package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"vexillum/internal/client"
	"vexillum/internal/core/farm"
	"vexillum/internal/wire"
)

// list makes a command that reads one list and prints it.
func list[T any](a *app, use, short, path string, header []string, row func(T) []string) *cobra.Command {
	return a.jsonFlag(&cobra.Command{
		Use: use, Short: short, Args: exactly(0, "no arguments"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, _ []string) error {
			items, err := get[[]T](ctx, cl, path)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(items)
			}
			if len(items) == 0 {
				fmt.Fprintln(a.out, "The list is empty.")
				return nil
			}
			t := newTable(a.out, append([]string{}, header...)...)
			for _, item := range items {
				t.add(row(item)...)
			}
			t.print()
			return nil
		}),
	})
}

// showing makes a command that reads one thing and tells it.
func showing[T any](a *app, use, short, path string, tell func(T)) *cobra.Command {
	return a.jsonFlag(&cobra.Command{
		Use: use, Short: short, Args: exactly(0, "no arguments"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, _ []string) error {
			v, err := get[T](ctx, cl, path)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(v)
			}
			tell(v)
			return nil
		}),
	})
}

// put makes one named thing, or replaces it.
func (a *app) put(ctx context.Context, path string, in, out any) error {
	cl, err := a.client()
	if err != nil {
		return err
	}
	return cl.Do(ctx, http.MethodPut, path, in, out)
}

// patch makes or changes one named thing.
func (a *app) patch(ctx context.Context, path string, in, out any) error {
	cl, err := a.client()
	if err != nil {
		return err
	}
	return cl.Do(ctx, http.MethodPatch, path, in, out)
}

// drop does away with one thing of a list, and says so where it is not there.
func drop[T any](a *app, what, path, short, after string, name func(T) string) *cobra.Command {
	return &cobra.Command{
		Use: "drop NAME", Short: short, Args: exactly(1, "the name of a "+what),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			all, err := get[[]T](ctx, cl, path)
			if err != nil {
				return err
			}
			if !slices.ContainsFunc(all, func(v T) bool { return name(v) == args[0] }) {
				fmt.Fprintf(a.out, "There is no %s %q; nothing to do.\n", what, args[0])
				return nil
			}
			if err := cl.Do(ctx, http.MethodDelete, path+"/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "The %s %s is dropped%s.\n", what, args[0], after)
			return nil
		}),
	}
}

func (a *app) keyCommand() *cobra.Command {
	parent := &cobra.Command{Use: "key", Short: "Make, list and revoke enrolment keys"}
	var life time.Duration
	uses := 1
	var in wire.NewKey
	newKey := a.jsonFlag(&cobra.Command{
		Use: "new", Short: "Make a key that lets machines become nodes", Args: exactly(0, "no arguments"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, _ []string) error {
			if life < time.Second {
				return usageError{fmt.Errorf("--for %v: a key is good for a second at least", life)}
			}
			if uses < 1 {
				return usageError{fmt.Errorf("--uses %d: a key has one use at least", uses)}
			}
			in.Seconds, in.Uses = new(int(life.Seconds())), &uses
			var key wire.Key
			if err := cl.Do(ctx, http.MethodPost, "/api/v1/keys", in, &key); err != nil {
				return err
			}
			if a.json {
				return a.printJSON(key)
			}
			fmt.Fprintf(
				a.out,
				"Paste this on the machine (%d uses, good until %s; the key is shown only now):\n\n"+
					"  vexillum join %s --key %s\n",
				key.UsesLeft, moment(key.ExpiresAt, time.Now()), strings.ReplaceAll(cl.Addresses(), ",", " "), key.Key,
			)
			return nil
		}),
	})
	newKey.Flags().DurationVar(&life, "for", 30*time.Minute, "how long it is good")
	newKey.Flags().IntVar(&uses, "uses", 1, "how many machines may use it")
	newKey.Flags().StringVar(&in.Label, "label", "", "what it is for, as the list shows it")
	newKey.Flags().StringSliceVar(&in.Pools, "pool", nil, "pool that the machines join")
	newKey.Flags().StringSliceVar(&in.Returns, "return", nil, "node that was shut out and may come back under its name")
	revoke := &cobra.Command{
		Use: "revoke KEY", Short: "Shut out a key; nodes that it let in stay",
		Args: exactly(1, "the id of a key, as vexillum key list shows it"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			return cl.Do(ctx, http.MethodDelete, "/api/v1/keys/"+url.PathEscape(args[0]), nil, nil)
		}),
	}
	parent.AddCommand(
		newKey, revoke,
		list(
			a, "list", "List the keys", "/api/v1/keys",
			[]string{"KEY", "LABEL", "MADE BY", zoned("EXPIRES"), ">USES LEFT", "POOLS"},
			func(k wire.Key) []string {
				left := fmt.Sprint(k.UsesLeft)
				if k.Revoked {
					left = "revoked"
				} else if !k.ExpiresAt.After(time.Now()) {
					left = "expired"
				}
				return []string{
					k.ID, k.Label, k.CreatedBy, clock(k.ExpiresAt, time.Now()), left, strings.Join(k.Pools, " "),
				}
			},
		),
	)
	return parent
}

func (a *app) projectCommand() *cobra.Command {
	parent := &cobra.Command{Use: "project", Short: "Set up and list projects"}
	var in wire.ProjectChange
	var title, names string
	var weight, budget float64
	var bundles, yes bool
	set := &cobra.Command{
		Use: "set NAME", Short: "Make or change a project; what is not named stays",
		Args: exactly(1, "the project's short name"),
	}
	set.RunE = func(c *cobra.Command, args []string) error {
		if c.Flags().Changed("title") {
			in.Title = &title
		}
		if c.Flags().Changed("names") {
			in.Names = &names
		}
		if c.Flags().Changed("bundles") {
			in.Bundles = &bundles
		}
		if c.Flags().Changed("weight") {
			in.Weight = &weight
		}
		if c.Flags().Changed("budget") {
			in.BudgetHours = &budget
		}
		var out wire.Project
		if err := a.unlessStranding(yes, in.DryRun, &in.Strand, func() error {
			return a.patch(c.Context(), "/api/v1/projects/"+url.PathEscape(args[0]), in, &out)
		}); err != nil {
			return err
		}
		if in.DryRun {
			fmt.Fprintln(a.out, "It could be made; nothing is changed yet.")
			return nil
		}
		scenes := "scenes from place " + out.Scenes
		if out.Bundles {
			scenes = "scenes are sent with all that they need"
		}
		fmt.Fprintf(
			a.out, "project %s (%s): %s, frames to place %s, weight %g%s\n", out.Name, out.Title, scenes, out.Frames,
			out.Weight, after(", ", budgetText(out)),
		)
		return nil
	}
	strandFlags(set, &yes, &in.DryRun)
	set.Flags().StringVar(&title, "title", "", "title for people")
	set.Flags().StringVar(&in.Scenes, "scenes", "", "place where scenes are read (needed for a new project)")
	set.Flags().StringVar(&in.Frames, "frames", "", "place where frames go (needed for a new project)")
	set.Flags().StringVar(
		&names, "names", "", "how delivered files are named, such as {job}[_{pass}]_####{ending}; empty for as ever",
	)
	set.Flags().BoolVar(
		&bundles, "bundles", false, "submit sends scenes of the project with all that they need, as with --bundle",
	)
	set.Flags().Float64Var(&weight, "weight", 1, "its weight against other projects: its share of the farm")
	set.Flags().Float64Var(
		&budget, "budget", 0, "machine hours: people are told once 80 % and all of them are used (0: no budget)",
	)
	parent.AddCommand(set, a.membersCommand(), drop(
		a, "project", "/api/v1/projects", "Do away with a project that has no runs on record",
		", and with it the launch settings for it",
		func(p wire.Project) string { return p.Name },
	), list(
		a, "list", "List the projects", "/api/v1/projects",
		[]string{"PROJECT", "TITLE", ">WEIGHT", "SCENES", "FRAMES", ">USED", ">BUDGET", "FOR"},
		func(p wire.Project) []string {
			budget := "–"
			if p.BudgetHours > 0 {
				budget = fmt.Sprintf("%g h", p.BudgetHours)
			}
			return []string{
				p.Name, p.Title, fmt.Sprint(p.Weight), p.Scenes, p.Frames, fmt.Sprintf("%.1f h", p.SpentHours), budget,
				admitted(p),
			}
		},
	))
	return parent
}

// budgetText says what a project has used of its budget; empty where it has none.
func budgetText(p wire.Project) string {
	if p.BudgetHours == 0 {
		return ""
	}
	return fmt.Sprintf("%.1f of %g machine hours used", p.SpentHours, p.BudgetHours)
}

func (a *app) placeCommand() *cobra.Command {
	parent := &cobra.Command{Use: "place", Short: "Set up and list places (storage roots)"}
	var loads int
	var yes, dryRun bool
	paths := map[string]*string{"linux": new(string), "darwin": new(string), "windows": new(string)}
	set := &cobra.Command{
		Use: "set NAME", Short: "Make or change a place", Args: exactly(1, "the place's name"),
		Example: "  vexillum place set frames --linux /mnt/frames --darwin /Volumes/frames --windows 'F:\\'",
	}
	set.RunE = func(c *cobra.Command, args []string) error {
		in := wire.PlaceChange{Paths: map[string]string{}} // what is not said stays
		for os, path := range paths {
			if c.Flags().Changed(os) {
				in.Paths[os] = *path
			}
		}
		if c.Flags().Changed("loads") {
			in.Loads = &loads
		}
		in.DryRun = dryRun
		var out wire.Place
		if err := a.unlessStranding(yes, in.DryRun, &in.Strand, func() error {
			return a.patch(c.Context(), "/api/v1/places/"+url.PathEscape(args[0]), in, &out)
		}); err != nil {
			return err
		}
		if dryRun {
			fmt.Fprintln(a.out, "It could be made; nothing is changed yet.")
			return nil
		}
		a.placed(out)
		return nil
	}
	mark := &cobra.Command{
		Use: "mark NAME", Short: "Say that the folder of a place is the right one",
		Args: exactly(1, "the place's name"),
		Long: "Puts the farm's mark into the folder of a place, on the machine of the service. Frames go only into a folder with the mark:\n" +
			"one without it may be the empty mount point of a storage that is away. Check first that it is mounted.",
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			var out wire.Place
			if err := cl.Do(
				ctx, http.MethodPost, "/api/v1/places/"+url.PathEscape(args[0])+"/mark", nil, &out,
			); err != nil {
				return err
			}
			a.placed(out)
			return nil
		}),
	}
	strandFlags(set, &yes, &dryRun)
	set.Flags().IntVar(&loads, "loads", 0, "launches that may load from it at the same moment (0: any number)")
	for os, path := range paths {
		set.Flags().StringVar(path, os, "", "its path on "+os+"; empty: it has none there")
	}
	parent.AddCommand(set, mark, drop(
		a, "place", "/api/v1/places", "Do away with a place that no project uses; its folder stays as it is",
		"; its folder stays as it is",
		func(p wire.Place) string { return p.Name },
	), list(a, "list", "List the places", "/api/v1/places", []string{
		"PLACE", "HERE", "LINUX", "DARWIN", "WINDOWS", "LOADS",
	}, func(p wire.Place) []string {
		loads := "any number"
		if p.Loads > 0 {
			loads = fmt.Sprintf("%d at once", p.Loads)
		}
		return []string{p.Name, p.Mark, p.Paths["linux"], p.Paths["darwin"], p.Paths["windows"], loads}
	}))
	parent.AddCommand(a.stayCommands("place")...)
	return parent
}

// placed says what came of a change of a place.
func (a *app) placed(p wire.Place) {
	fmt.Fprintf(a.out, "place %s: %s\n", p.Name, p.Mark)
	if p.Remark != "" {
		fmt.Fprintf(a.out, "  %s\n", p.Remark)
	}
}

func (a *app) personCommand() *cobra.Command {
	parent := &cobra.Command{Use: "person", Short: "Set up and list people"}
	var role, passwordFile string
	set := &cobra.Command{
		Use: "set NAME", Short: "Make or change a person; what is not named stays",
		Args: exactly(1, "the name to sign in with"),
		RunE: func(c *cobra.Command, args []string) error {
			in := wire.PersonChange{Role: role}
			if passwordFile != "" {
				var err error
				if in.Password, err = readPassword(passwordFile); err != nil {
					return err
				}
			}
			var made wire.PersonMade
			if err := a.patch(c.Context(), "/api/v1/people/"+url.PathEscape(args[0]), in, &made); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s is %s\n", made.Name, made.Role)
			if made.Password != "" {
				fmt.Fprintf(a.out, "The password is %s (shown only now).\n", made.Password)
			}
			return nil
		},
	}
	set.Flags().StringVar(&role, "role", "", "viewer, artist, wrangler or admin (default for a new person: artist)")
	set.Flags().
		StringVar(&passwordFile, "password-file", "", "file with the password (default: a new person gets one that "+
			"is made up)")
	parent.AddCommand(set, drop(
		a, "person", "/api/v1/people", "Take a person off the farm; sessions and tokens end at once, runs stay",
		": sessions and tokens have ended, runs stay", func(p wire.Person) string { return p.Name },
	), a.passwordCommand(), list(a, "list", "List the people", "/api/v1/people", []string{"NAME", "ROLE", "SINCE"}, func(p wire.Person) []string {
		return []string{p.Name, p.Role, p.CreatedAt.Local().Format(time.DateOnly)}
	}))
	return parent
}

func (a *app) auditCommand() *cobra.Command {
	return list(a, "audit", "Show who changed what, the newest first", "/api/v1/audit",
		[]string{zoned("WHEN"), "WHO", "WHAT", "SUBJECT", "FROM", "TO"}, func(l wire.AuditLine) []string {
			return []string{clock(l.At, time.Now()), l.Actor, l.Action, l.Subject, a.fit(l.Before, 40), l.After}
		})
}

// strandFlags are those of changes that may take away from open runs what they use.
func strandFlags(c *cobra.Command, yes, dryRun *bool) {
	c.Flags().BoolVarP(yes, "yes", "y", false, "make the change although open runs use what it takes away")
	c.Flags().BoolVar(dryRun, "dry-run", false, "only look whether it could be made, and which open runs it would strand")
}

// unlessStranding makes a change. Where that takes away from open runs what they use, it asks
// on a terminal, and elsewhere needs --yes.
func (a *app) unlessStranding(yes, dryRun bool, strand *bool, change func() error) error {
	*strand = yes
	err := change()
	var p *wire.Problem
	if !errors.As(err, &p) || p.Field != "strand" || dryRun || !term.IsTerminal(int(os.Stdin.Fd())) {
		return err
	}
	if err := a.agree([]string{farm.Sentence(p.Detail)}, "The change would be made all the same", false); err != nil {
		return err
	}
	*strand = true
	return change()
}
