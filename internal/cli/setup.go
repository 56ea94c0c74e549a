package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

func (a *app) signInCommand() *cobra.Command {
	var name, passwordFile string
	c := &cobra.Command{
		Use:   "sign-in URL [URL...]",
		Short: "Sign in and keep a token for this command line",
		Args:  atLeast(1, "the address of the service, or of each service of the farm"),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := client.New(strings.Join(args, ","), "")
			if err != nil {
				return usageError{err}
			}
			password, err := readPassword(passwordFile)
			if err != nil {
				return err
			}
			path, err := a.accessFile()
			if err != nil {
				return err
			}
			me, err := signIn(c.Context(), cl, name, password, path)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Signed in to %s as %s (%s). The token is kept in %s.\n", cl.Address(), me.Name, me.Role, path)
			return nil
		},
	}
	c.Flags().StringVar(&name, "name", os.Getenv("USER"), "who you are")
	c.Flags().StringVar(&passwordFile, "password-file", "", "file with the password (default: asked for)")
	return c
}

// signIn gets a token and keeps it in a file that only its owner may read.
func signIn(ctx context.Context, c *client.Client, name, password, path string) (wire.Me, error) {
	host, _ := os.Hostname()
	_, me, err := c.SignIn(ctx, name, password, "command line on "+host)
	if err != nil {
		return me, err
	}
	data, err := json.MarshalIndent(access{Service: c.Addresses(), Name: me.Name, Token: me.Token}, "", "  ")
	if err != nil {
		return me, err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return me, fmt.Errorf("keeping the token: %w", err)
	}
	if err := os.WriteFile(path, append(data, '\n'), 0o600); err != nil {
		return me, fmt.Errorf("keeping the token: %w", err)
	}
	return me, nil
}

func readPassword(file string) (string, error) {
	if file != "" {
		data, err := os.ReadFile(file)
		if err != nil {
			return "", fmt.Errorf("reading the password: %w", err)
		}
		return strings.TrimSpace(string(data)), nil
	}
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return "", usageError{errors.New("there is no terminal to ask for the password; give --password-file")}
	}
	fmt.Fprint(os.Stderr, "Password: ")
	data, err := term.ReadPassword(int(os.Stdin.Fd()))
	fmt.Fprintln(os.Stderr)
	return string(data), err
}

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
			t := newTable(a.out, append([]string{}, header...)...)
			for _, item := range items {
				t.add(row(item)...)
			}
			t.print()
			return nil
		}),
	})
}

// put makes or changes one named thing.
func (a *app) put(ctx context.Context, path string, in, out any) error {
	cl, err := a.client()
	if err != nil {
		return err
	}
	return cl.Do(ctx, http.MethodPut, path, in, out)
}

func (a *app) keyCommand() *cobra.Command {
	parent := &cobra.Command{Use: "key", Short: "Make, list and revoke enrolment keys"}
	var life time.Duration
	var in wire.NewKey
	newKey := a.jsonFlag(&cobra.Command{
		Use: "new", Short: "Make a key that lets machines become nodes", Args: exactly(0, "no arguments"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, _ []string) error {
			in.Seconds = int(life.Seconds())
			var key wire.Key
			if err := cl.Do(ctx, http.MethodPost, "/api/v1/keys", in, &key); err != nil {
				return err
			}
			if a.json {
				return a.printJSON(key)
			}
			fmt.Fprintf(a.out, "Paste this on the machine (%d uses, good until %s; the key is shown only now):\n\n  vexillum join %s --key %s\n", key.UsesLeft, clock(key.ExpiresAt, time.Now()), strings.ReplaceAll(cl.Addresses(), ",", " "), key.Key)
			return nil
		}),
	})
	newKey.Flags().DurationVar(&life, "for", 30*time.Minute, "how long it is good")
	newKey.Flags().IntVar(&in.Uses, "uses", 1, "how many machines may use it")
	newKey.Flags().StringVar(&in.Label, "label", "", "a word to know it by")
	newKey.Flags().StringSliceVar(&in.Pools, "pool", nil, "pool that the machines join")
	revoke := &cobra.Command{
		Use: "revoke KEY", Short: "Shut a key out; nodes that it let in stay", Args: exactly(1, "the id of a key, as vexillum key list shows it"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			return cl.Do(ctx, http.MethodDelete, "/api/v1/keys/"+url.PathEscape(args[0]), nil, nil)
		}),
	}
	parent.AddCommand(newKey, revoke, list(a, "list", "List the keys", "/api/v1/keys", []string{"KEY", "LABEL", "MADE BY", "EXPIRES", ">USES LEFT", "POOLS"}, func(k wire.Key) []string {
		left := fmt.Sprint(k.UsesLeft)
		if k.Revoked {
			left = "revoked"
		} else if !k.ExpiresAt.After(time.Now()) {
			left = "expired"
		}
		return []string{k.ID, k.Label, k.CreatedBy, clock(k.ExpiresAt, time.Now()), left, strings.Join(k.Pools, " ")}
	}))
	return parent
}

func (a *app) projectCommand() *cobra.Command {
	parent := &cobra.Command{Use: "project", Short: "Set up and list projects"}
	var in wire.Project
	set := &cobra.Command{
		Use: "set NAME", Short: "Make or change a project", Args: exactly(1, "the project's short name"),
		RunE: func(c *cobra.Command, args []string) error {
			in.Name = args[0]
			if err := a.put(c.Context(), "/api/v1/projects/"+url.PathEscape(in.Name), in, &in); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "project %s: scenes from place %s, frames to place %s\n", in.Name, in.Scenes, in.Frames)
			return nil
		},
	}
	set.Flags().StringVar(&in.Title, "title", "", "title for people")
	set.Flags().StringVar(&in.Scenes, "scenes", "", "place where scenes are read (needed)")
	set.Flags().StringVar(&in.Frames, "frames", "", "place where frames go (needed)")
	set.Flags().Float64Var(&in.Weight, "weight", 1, "its part of the farm against other projects")
	_ = set.MarkFlagRequired("scenes")
	_ = set.MarkFlagRequired("frames")
	parent.AddCommand(set, list(a, "list", "List the projects", "/api/v1/projects", []string{"PROJECT", "TITLE", ">WEIGHT", "SCENES", "FRAMES"}, func(p wire.Project) []string {
		return []string{p.Name, p.Title, fmt.Sprint(p.Weight), p.Scenes, p.Frames}
	}))
	return parent
}

func (a *app) placeCommand() *cobra.Command {
	parent := &cobra.Command{Use: "place", Short: "Set up and list places (storage roots)"}
	var loads int
	paths := map[string]*string{"linux": new(string), "darwin": new(string), "windows": new(string)}
	set := &cobra.Command{
		Use: "set NAME", Short: "Make or change a place", Args: exactly(1, "the place's name"),
		Example: "  vexillum place set frames --linux /mnt/frames --darwin /Volumes/frames --windows 'F:\\'",
	}
	set.RunE = a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
		in := wire.Place{Name: args[0], Paths: map[string]string{}}
		places, err := get[[]wire.Place](ctx, cl, "/api/v1/places")
		if err != nil {
			return err
		}
		for _, p := range places { // what is not said stays
			if p.Name == in.Name {
				in = p
			}
		}
		for os, path := range paths {
			if *path != "" {
				in.Paths[os] = *path
			}
		}
		if set.Flags().Changed("loads") {
			in.Loads = loads
		}
		if err := a.put(ctx, "/api/v1/places/"+url.PathEscape(in.Name), in, &in); err != nil {
			return err
		}
		fmt.Fprintf(a.out, "place %s is set\n", in.Name)
		return nil
	})
	set.Flags().IntVar(&loads, "loads", 0, "launches that may load from it at the same moment (0: any number)")
	for os, path := range paths {
		set.Flags().StringVar(path, os, "", "its path on "+os)
	}
	parent.AddCommand(set, list(a, "list", "List the places", "/api/v1/places", []string{"PLACE", "LINUX", "DARWIN", "WINDOWS", "LOADS"}, func(p wire.Place) []string {
		loads := "any number"
		if p.Loads > 0 {
			loads = fmt.Sprintf("%d at once", p.Loads)
		}
		return []string{p.Name, p.Paths["linux"], p.Paths["darwin"], p.Paths["windows"], loads}
	}))
	parent.AddCommand(a.stayCommands("place")...)
	return parent
}

func (a *app) personCommand() *cobra.Command {
	parent := &cobra.Command{Use: "person", Short: "Set up and list people"}
	var role, passwordFile string
	set := &cobra.Command{
		Use: "set NAME", Short: "Make or change a person", Args: exactly(1, "the name to sign in with"),
		RunE: func(c *cobra.Command, args []string) error {
			in := wire.NewPerson{Name: args[0], Role: role}
			if passwordFile != "" {
				var err error
				if in.Password, err = readPassword(passwordFile); err != nil {
					return err
				}
			}
			var made wire.PersonMade
			if err := a.put(c.Context(), "/api/v1/people/"+url.PathEscape(in.Name), in, &made); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s is %s\n", made.Name, made.Role)
			if made.Password != "" {
				fmt.Fprintf(a.out, "The password is %s (shown only now).\n", made.Password)
			}
			return nil
		},
	}
	set.Flags().StringVar(&role, "role", "artist", "viewer, artist, wrangler or admin")
	set.Flags().StringVar(&passwordFile, "password-file", "", "file with the password (default: made up for a new person)")
	parent.AddCommand(set, list(a, "list", "List the people", "/api/v1/people", []string{"NAME", "ROLE", "SINCE"}, func(p wire.Person) []string {
		return []string{p.Name, p.Role, p.CreatedAt.Local().Format(time.DateOnly)}
	}))
	return parent
}

func (a *app) recipesCommand() *cobra.Command {
	c := list(a, "recipes", "List the recipes: what can be rendered, and on how many nodes", "/api/v1/recipes",
		[]string{"RECIPE", "TITLE", "MODE", "SCENES", ">NODES"}, func(r wire.Recipe) []string {
			return []string{r.Name, r.Title, r.Mode, strings.Join(r.Scenes, " "), fmt.Sprint(r.Nodes)}
		})
	c.AddCommand(a.stayCommands("recipe")...)
	return c
}

func (a *app) auditCommand() *cobra.Command {
	return list(a, "audit", "Show who changed what, the newest first", "/api/v1/audit",
		[]string{"WHEN", "WHO", "WHAT", "SUBJECT", "FROM", "TO"}, func(l wire.AuditLine) []string {
			return []string{clock(l.At, time.Now()), l.Actor, l.Action, l.Subject, clip(l.Before, 40), clip(l.After, 40)}
		})
}
