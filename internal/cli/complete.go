package cli

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// completeTime bounds how long a shell waits for what could follow.
const completeTime = 3 * time.Second

// lister says what may stand in one place of a command.
type lister func(ctx context.Context, cl *client.Client) []string

// words lists what is always the same.
func words(all ...string) lister {
	return func(context.Context, *client.Client) []string { return all }
}

// listed makes a lister of names that the service knows.
func listed[T any](path string, name func(T) []string) lister {
	return func(ctx context.Context, cl *client.Client) []string {
		if cl == nil {
			return nil
		}
		all, err := get[[]T](ctx, cl, path)
		if err != nil {
			return nil // a shell wants no words about it
		}
		var out []string
		for _, v := range all {
			out = append(out, name(v)...)
		}
		return out
	}
}

var (
	projectList = listed("/api/v1/projects", func(p wire.Project) []string { return []string{p.Name} })
	nodeList    = listed("/api/v1/nodes", func(n wire.Node) []string { return []string{n.Name} })
	poolList    = listed("/api/v1/pools", func(p wire.Pool) []string { return []string{p.Name} })
	placeList   = listed("/api/v1/places", func(p wire.Place) []string { return []string{p.Name} })
	personList  = listed("/api/v1/people", func(p wire.Person) []string { return []string{p.Name} })
	licenceList = listed("/api/v1/licences", func(l wire.Licence) []string { return []string{l.Name} })
	recipeList  = listed("/api/v1/recipes", func(r wire.Recipe) []string { return []string{r.Name} })
	runList     = listed("/api/v1/runs", func(r wire.Run) []string { return []string{r.Name} })
	ownerList   = listed("/api/v1/runs", func(r wire.Run) []string { return []string{r.Owner} })
)

// both lists what either does.
func both(a, b lister) lister {
	return func(ctx context.Context, cl *client.Client) []string { return append(a(ctx, cl), b(ctx, cl)...) }
}

// argument is which names may stand as the first, second … argument of a command.
type argument struct {
	list lister
	many bool // any number of them
}

// arguments are what may stand where, by command.
func arguments() map[string][]argument {
	run, run1, node := []argument{{runList, true}}, []argument{{list: runList}}, []argument{{nodeList, true}}
	named := []argument{{list: both(runList, nodeList)}}
	pool, place := []argument{{list: poolList}}, []argument{{list: placeList}}
	return map[string][]argument{
		"show": named, "log": named, "why": {{list: runList}, {list: nodeList}}, "trouble": {{list: runList}},
		"follow": run1, "try": run1, "park": run1, "skip": run1, "accept": run1, "sheet": run1, "fetch": run1,
		"redo":   run1,
		"mended": run,
		"change": run1, "hold": run, "release": run, "cancel": run,
		"retry": run, "nodes hold": node, "nodes drain": node, "nodes release": node,
		"nodes sideline": node, "nodes give-back": node, "nodes restart": node, "nodes retire": node,
		"nodes revoke": node, "nodes set": node, "nodes test": node,
		"nodes rename": {{list: nodeList}}, "nodes hours": {{list: nodeList}},
		"nodes usage": {{list: nodeList}}, "pool set": pool, "pool drop": pool,
		"pool hold": pool, "pool release": pool, "place set": place, "place drop": place,
		"project drop": {{list: projectList}}, "person set": {{list: personList}},
		"person drop": {
			{list: personList},
		},
		"licence set": {{list: licenceList}}, "licence drop": {{list: licenceList}}, "place mark": place,
		"place hold": place, "place release": place, "project set": {{list: projectList}},
		"recipe show": {{list: recipeList}},
		"recipe hold": {{list: recipeList}}, "recipe release": {{list: recipeList}},
	}
}

// completeAll lets every command tell a shell what may follow.
func (a *app) completeAll(c *cobra.Command, all map[string][]argument) {
	for _, below := range c.Commands() {
		a.completeAll(below, all)
	}
	if of, known := all[strings.TrimPrefix(c.CommandPath(), "vexillum ")]; known {
		c.ValidArgsFunction = a.completes(of)
	}
}

// completes tells a shell what arguments may follow.
func (a *app) completes(of []argument) cobra.CompletionFunc {
	return func(c *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		at := len(args)
		if len(of) > 0 && of[len(of)-1].many {
			at = min(at, len(of)-1)
		}
		if at >= len(of) {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return a.suggest(c.Context(), of[at].list, typed, args), cobra.ShellCompDirectiveNoFileComp
	}
}

// completeFlags tells a shell what values of flags there are.
func (a *app) completeFlags(c *cobra.Command, of map[string]lister) {
	for name, list := range of {
		_ = c.RegisterFlagCompletionFunc(name, func(
			c *cobra.Command, _ []string, typed string,
		) ([]string, cobra.ShellCompDirective) {
			before := ""
			if i := strings.LastIndex(typed, ","); i >= 0 { // of several with commas between
				before, typed = typed[:i+1], typed[i+1:]
			}
			out := a.suggest(c.Context(), list, typed, nil)
			for i := range out {
				out[i] = before + out[i]
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		})
	}
}

// suggest returns the names that begin as typed, each once, without those that
// are there already.
func (a *app) suggest(ctx context.Context, list lister, typed string, there []string) []string {
	if ctx == nil {
		ctx = context.Background()
	}
	ctx, cancel := context.WithTimeout(ctx, completeTime)
	defer cancel()
	cl, _ := a.client() // nobody who has not signed in is told names
	out := []string{}
	for _, name := range list(ctx, cl) {
		if strings.HasPrefix(name, typed) && !slices.Contains(there, name) {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
