package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// membersCommand says and changes who belongs to a project.
func (a *app) membersCommand() *cobra.Command {
	var artists, leads, remove []string
	var open, closed bool
	c := a.jsonFlag(&cobra.Command{
		Use: "members PROJECT", Short: "Say who belongs to a project, or change it",
		Long: "Only members see a closed project, its runs and its pictures, and submit to it; wranglers see all projects.\n" +
			"An artist steers their own runs. A lead also steers those of others in the project, and keeps its presets.\n" +
			"A project is open to everybody until its first member is named.",
		Example: "  vexillum project members salt-clock --artist nadia --lead ines\n" +
			"  vexillum project members salt-clock --remove tobin\n" +
			"  vexillum project members gannet --open",
		Args: exactly(1, "the project's short name"),
	})
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
		if err := refuseEmpty(c); err != nil {
			return err
		}
		p, err := oneProject(ctx, cl, args[0])
		if err != nil {
			return err
		}
		in := wire.ProjectChange{}
		if len(artists)+len(leads)+len(remove) > 0 {
			if in.Members, err = membersChanged(p, artists, leads, remove); err != nil {
				return err
			}
			if !slices.ContainsFunc(
				slices.Concat(artists, leads),
				func(name string) bool { return p.Members[name] == "" },
			) {
				in.Closed = &p.Closed // only who is new closes a project that is open
			}
		}
		shut := closed
		switch said := c.Flags().Changed; {
		case said("open") && said("closed"):
			return usageError{errors.New("a project is either open or closed; leave out one of --open and --closed")}
		case said("open"):
			shut = !open
			in.Closed = &shut
		case said("closed"):
			in.Closed = &shut
		}
		if in.Members != nil || in.Closed != nil {
			// somebody else may have changed them since they were read
			path := "/api/v1/projects/" + url.PathEscape(p.Name)
			var after wire.Project // not into what was read: members who have gone would stay
			if err := cl.Do(client.IfSeen(ctx, p.Etag), http.MethodPatch, path, in, &after); err != nil {
				return err
			}
			p = after
		}
		return a.tellMembers(p)
	})
	c.Flags().StringSliceVar(&artists, "artist", nil, "who sees it and submits to it")
	c.Flags().StringSliceVar(&leads, "lead", nil, "who steers all of its runs besides, and keeps its presets")
	c.Flags().StringSliceVar(&remove, "remove", nil, "who belongs to it no more")
	c.Flags().BoolVar(&open, "open", false, "let everybody see it and submit to it")
	c.Flags().BoolVar(&closed, "closed", false, "let only its members and wranglers see it and submit to it")
	return c
}

// oneProject returns a project by its name.
func oneProject(ctx context.Context, cl *client.Client, name string) (wire.Project, error) {
	all, err := get[[]wire.Project](ctx, cl, "/api/v1/projects")
	if err != nil {
		return wire.Project{}, err
	}
	at := slices.IndexFunc(all, func(p wire.Project) bool { return p.Name == name })
	if at < 0 {
		return wire.Project{}, fmt.Errorf("there is no project %q; vexillum project list shows them", name)
	}
	return all[at], nil
}

// membersChanged returns the members of a project as they shall be.
func membersChanged(p wire.Project, artists, leads, remove []string) (map[string]string, error) {
	out, said := maps.Clone(p.Members), map[string]bool{}
	for _, of := range []struct {
		names []string
		role  string
	}{{artists, "artist"}, {leads, "lead"}, {remove, ""}} {
		for _, name := range of.names {
			switch _, member := out[name]; {
			case said[name]:
				return nil, usageError{fmt.Errorf("%s is named twice; say once what becomes of them", name)}
			case of.role == "" && !member:
				return nil, fmt.Errorf("%q does not belong to %s; nothing was changed", name, p.Name)
			case of.role == "":
				delete(out, name)
			default:
				out[name] = of.role
			}
			said[name] = true
		}
	}
	return out, nil
}

// tellMembers says who belongs to a project.
func (a *app) tellMembers(p wire.Project) error {
	if a.json {
		return a.printJSON(p)
	}
	switch {
	case !p.Closed:
		fmt.Fprintf(a.out, "%s is open: everybody sees it, and every artist submits to it.\n", p.Name)
	case len(p.Members) == 0:
		fmt.Fprintf(a.out, "%s is closed and has no members: only wranglers see it.\n", p.Name)
	default:
		fmt.Fprintf(a.out, "%s is closed: only its members and wranglers see it.\n", p.Name)
	}
	if len(p.Members) == 0 {
		return nil
	}
	t := newTable(a.out, "MEMBER", "ROLE")
	for _, name := range slices.Sorted(maps.Keys(p.Members)) {
		t.add(name, p.Members[name])
	}
	t.print()
	return nil
}

// admitted says in a word or two who sees a project.
func admitted(p wire.Project) string {
	switch {
	case !p.Closed:
		return "everybody"
	case len(p.Members) == 0:
		return "wranglers"
	}
	return english.Plural(len(p.Members), "member", "")
}
