package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

func (a *app) nodesCommand() *cobra.Command {
	var where, pool string
	c := a.jsonFlag(&cobra.Command{
		Use:   "nodes",
		Short: "Show the nodes and what each does now; steer them",
		Long: "Shows the nodes, or those that an expression over traits picks. The commands below steer nodes: named ones,\n" +
			"those that --where picks, or the members of a pool. With --dry-run each says what it would do.",
		Example: "  vexillum nodes --where 'gpu && memory>=64GiB'\n  vexillum nodes drain --pool graphics --dry-run",
		Args:    exactly(0, "no arguments"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, _ []string) error {
			nodes, err := a.pickedNodes(ctx, cl, where, pool)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(nodes)
			}
			a.printNodes(nodes, where != "" || pool != "")
			return nil
		}),
	})
	c.Flags().StringVarP(&where, "where", "w", "", "only nodes that this expression over traits picks")
	c.Flags().StringVar(&pool, "pool", "", "only members of this pool")
	for _, act := range nodeActs {
		c.AddCommand(a.nodeActCommand(act.name, act.short))
	}
	c.AddCommand(
		a.nodeSetCommand(), a.nodeRenameCommand(), a.nodeImportCommand(), a.nodeExportCommand(), a.nodeHoursCommand(),
		a.nodeUsageCommand(), a.nodeTestCommand(), a.nodeProbeCommand(),
	)
	return c
}

var nodeActs = []struct{ name, short string }{
	{"hold", "Give nodes no new work; frames in flight finish"},
	{"drain", "Hold nodes, and say when the last frame has left"},
	{"release", "Give nodes work again that were held, drained, sidelined or given back"},
	{"sideline", "Set nodes aside until somebody releases them"},
	{"give-back", "Give machines to their owners until their next duty hours"},
	{"restart", "Restart node processes; renderers go on meanwhile"},
	{"retire", "Take nodes off the farm for good"},
	{"revoke", "Shut out the tokens of nodes; the machines have to enrol again"},
}

// pickedNodes returns the nodes that an expression and a pool pick.
func (a *app) pickedNodes(ctx context.Context, cl *client.Client, where, pool string) ([]wire.Node, error) {
	nodes, err := get[[]wire.Node](ctx, cl, "/api/v1/nodes")
	if err != nil {
		return nil, err
	}
	if where != "" {
		picked, err := get[wire.Picked](ctx, cl, "/api/v1/picked-nodes?where="+url.QueryEscape(where))
		if err != nil {
			return nil, err
		}
		if len(picked.Unknown) > 0 {
			fmt.Fprintf(a.err, "vexillum: no node has the trait %s\n", strings.Join(picked.Unknown, ", "))
		}
		nodes = slices.DeleteFunc(nodes, func(n wire.Node) bool { return !slices.Contains(picked.Nodes, n.ID) })
	}
	if pool != "" {
		nodes = slices.DeleteFunc(nodes, func(n wire.Node) bool { return !slices.Contains(n.Settings.Pools, pool) })
	}
	return nodes, nil
}

func (a *app) printNodes(nodes []wire.Node, picked bool) {
	if len(nodes) == 0 && picked {
		fmt.Fprintln(a.out, "No node is picked.")
		return
	}
	if len(nodes) == 0 {
		fmt.Fprintln(a.out, "No node has joined yet. Make a key with: vexillum key new")
		return
	}
	t := newTable(a.out, "NODE", "KIND", "STATE", ">SPEED", ">CORES", ">MEMORY", "POOLS", "NOW")
	for _, n := range nodes {
		now := n.Why
		if len(n.Works) > 0 {
			w := n.Works[0]
			now = fmt.Sprintf("%s: %s", w.RunName, strings.TrimSpace(w.Phase+" "+w.Detail))
			if w.Frame != nil {
				now = fmt.Sprintf("%s: frame %d, %.0f %%%s", w.RunName, *w.Frame, 100*w.Fraction, after(", ", w.Detail))
			}
			now += after("; ", w.Checking)
			if more := len(n.Works) - 1; more > 0 {
				now += fmt.Sprintf(", and %d beside it", more)
			}
		}
		standing := state(n.State)
		for i, x := range n.Findings {
			standing += map[bool]string{true: " ! ", false: ", "}[i == 0] + x.Kind
		}
		t.add(
			n.Name, n.Kind, standing, fmt.Sprintf("%.2f", n.Speed), fmt.Sprint(n.Cores), size(n.Memory),
			a.fit(strings.Join(n.Settings.Pools, " "), 18), now,
		)
	}
	t.print()
}

// selection are the flags and arguments that name nodes.
type selection struct {
	where, pool string
	dryRun      bool
}

func (s *selection) flags(c *cobra.Command) {
	c.Flags().StringVarP(&s.where, "where", "w", "", "the nodes that this expression over traits picks")
	c.Flags().StringVar(&s.pool, "pool", "", "the members of this pool")
	c.Flags().BoolVar(&s.dryRun, "dry-run", false, "only say what would happen")
}

func (s *selection) read(ctx context.Context, cl *client.Client, names []string) (wire.Selection, error) {
	sel := wire.Selection{Where: s.where, Pool: s.pool}
	if len(names) == 0 && s.where == "" && s.pool == "" {
		return sel, usageError{fmt.Errorf("name nodes, or pick them with --where or --pool")}
	}
	for _, name := range names { // all or none
		n, err := findNode(ctx, cl, name)
		if err != nil {
			return sel, fmt.Errorf("%w; nothing was changed", err)
		}
		sel.Nodes = append(sel.Nodes, n.ID)
	}
	return sel, nil
}

func findNode(ctx context.Context, cl *client.Client, name string) (wire.Node, error) {
	if strings.TrimSpace(name) == "" {
		return wire.Node{}, usageError{errors.New("the name of the node is empty; vexillum nodes shows them")}
	}
	nodes, err := get[[]wire.Node](ctx, cl, "/api/v1/nodes")
	if err != nil {
		return wire.Node{}, err
	}
	for _, n := range nodes {
		if n.Name == name {
			return n, nil
		}
	}
	return wire.Node{}, fmt.Errorf("there is no node %q", name)
}

func (a *app) nodeActCommand(do, short string) *cobra.Command {
	var sel selection
	var yes bool
	in := wire.NodeAct{Do: do}
	c := a.jsonFlag(&cobra.Command{
		Use: do + " [NAME…]", Short: short,
		RunE: a.asking(func(ctx context.Context, cl *client.Client, names []string) error {
			var err error
			if in.Selection, err = sel.read(ctx, cl, names); err != nil {
				return err
			}
			in.DryRun = sel.dryRun
			if !yes && !sel.dryRun && loses(in) {
				if err := a.agreeToLoss(ctx, cl, in, len(names) == 0); err != nil {
					return err
				}
			}
			var out wire.NodesActed
			if err := cl.Do(ctx, http.MethodPost, "/api/v1/node-acts", in, &out); err != nil {
				return err
			}
			return a.acted(out)
		}),
	})
	sel.flags(c)
	c.Flags().StringVar(&in.Reason, "reason", "", "why, for those who look later")
	if slices.Contains([]string{"hold", "drain", "give-back"}, do) {
		c.Flags().BoolVar(&in.Now, "now", false, "stop frames in flight, too; their work is lost")
	}
	if loses(wire.NodeAct{Do: do, Now: c.Flags().Lookup("now") != nil}) {
		c.Flags().BoolVarP(&yes, "yes", "y", false, "do not ask")
	}
	return c
}

// loses reports whether an act may lose frames in flight, or machines.
func loses(in wire.NodeAct) bool { return in.Now || in.Do == "retire" || in.Do == "revoke" }

// agreeToLoss asks for a yes where an act on nodes would lose something.
func (a *app) agreeToLoss(ctx context.Context, cl *client.Client, in wire.NodeAct, picked bool) error {
	in.DryRun = true
	var would wire.NodesActed
	if err := cl.Do(ctx, http.MethodPost, "/api/v1/node-acts", in, &would); err != nil {
		return err
	}
	changed := 0
	var lines []string
	for _, e := range would.Effects {
		if e.Changes {
			changed++
			lines = append(lines, e.Name+" "+e.Sentence)
		}
	}
	if changed == 0 || would.Lost == 0 && in.Now {
		return nil // the act says so
	}
	return a.agree(lines, would.Sentence, picked)
}

// acted says what became of nodes, or would.
func (a *app) acted(out wire.NodesActed) error {
	if a.json {
		return a.printJSON(out)
	}
	for _, e := range out.Effects {
		fmt.Fprintf(a.out, "%-18s %s\n", e.Name, e.Sentence)
	}
	fmt.Fprintln(a.out, out.Sentence+".")
	return nil
}

func (a *app) nodeRenameCommand() *cobra.Command {
	return &cobra.Command{
		Use: "rename NAME NEW", Short: "Give a node another name", Args: exactly(2, "the node and its new name"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			n, err := findNode(ctx, cl, args[0])
			if err != nil {
				return err
			}
			if err := cl.Do(
				ctx, http.MethodPut, fmt.Sprintf("/api/v1/nodes/%d/name", n.ID), wire.NewName{Name: args[1]}, &n,
			); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s is now called %s\n", args[0], n.Name)
			return nil
		}),
	}
}

func (a *app) showNode(ctx context.Context, cl *client.Client, id int64) error {
	n, err := get[wire.Node](ctx, cl, fmt.Sprintf("/api/v1/nodes/%d", id))
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(n)
	}
	log, err := get[[]wire.HistoryLine](ctx, cl, fmt.Sprintf("/api/v1/nodes/%d/history?limit=6", id))
	if err != nil {
		return err
	}
	now := time.Now()
	fmt.Fprintf(a.out, "%s  %s\n", n.Name, state(n.State))
	var renderers, traits, devices []string
	for _, r := range n.Renderers {
		text := r.Recipe + " " + r.Version
		text = strings.TrimSpace(text)
		if r.Unfit != "" {
			text += " (cannot be used: " + r.Unfit + ")"
		}
		renderers = append(renderers, text)
	}
	for _, x := range n.Traits {
		text := x.Name
		if x.Value != "" {
			text += "=" + x.Value
		}
		if x.Source == "given" {
			text += " (given)"
		}
		traits = append(traits, text)
	}
	for _, d := range n.Devices {
		devices = append(devices, strings.TrimSpace(d.Model+" "+size(d.Memory)))
	}
	s := n.Settings
	a.facts(
		"why", n.Why, "kind", n.Kind, "reach", n.Reach+" since "+moment(n.Since, now), "duty", n.Duty, "health",
		n.Health, "system", n.System, "cores", share(fmt.Sprint(n.Cores), s.Caps.Cores > 0, fmt.Sprint(s.Caps.Cores)),
		"memory", share(size(n.Memory), s.Caps.MemoryBytes > 0, size(s.Caps.MemoryBytes)), "graphics",
		strings.Join(devices, ", "), "disk free",
		share(size(n.Disk), s.Caps.StagingBytes > 0, size(s.Caps.StagingBytes)), "beside", beside(s.Caps), "speed",
		fmt.Sprintf("%.2f", n.Speed), "rates", rates(n), "places", placesText(n.Places), "account",
		accountText(n.Means), "renderers",
		strings.Join(renderers, ", "), "version", n.Version, "pools", strings.Join(s.Pools, ", "), "allowed",
		strings.Join(s.Permits, ", "), "hours", hoursText(n, now), "traits", strings.Join(traits, "  "),
	)
	a.printWorks(n.Works)
	for _, x := range n.Findings {
		fmt.Fprintf(a.out, "\n  ! %s %s\n", x.Sentence, x.Remedy)
	}
	if len(log) > 0 {
		fmt.Fprintln(a.out)
	}
	if len(log) > 0 {
		fmt.Fprintf(a.out, "  %s\n", zoned("newest first"))
	}
	for _, l := range log {
		fmt.Fprintf(a.out, "  %s  %s\n", clock(l.At, now), l.Reason)
	}
	return nil
}

// share says how much of something the farm may use.
func share(all string, capped bool, most string) string {
	if !capped {
		return all
	}
	return most + " of " + all
}

func hoursText(n wire.Node, now time.Time) string {
	h := n.Settings.Hours
	if h == nil {
		return ""
	}
	text := h.Week
	if h.Zone != "" {
		text += " (" + h.Zone + ")"
	}
	for _, e := range h.Exceptions {
		windows := e.Windows
		if windows == "" {
			windows = "never"
		}
		text += "; " + e.Date + " " + windows
	}
	if n.HoursChange != nil {
		text += map[bool]string{true: "; on duty until ", false: "; off duty until "}[n.OnHours] + moment(
			*n.HoursChange, now,
		)
	}
	return text
}

func (a *app) poolCommand() *cobra.Command {
	c := &cobra.Command{Use: "pool", Short: "Make pools and see who is in them"}
	var projects []string
	alone := false
	list := a.jsonFlag(&cobra.Command{
		Use: "list", Short: "Show the pools", Args: exactly(0, "no arguments"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, _ []string) error {
			pools, err := get[[]wire.Pool](ctx, cl, "/api/v1/pools")
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(pools)
			}
			if len(pools) == 0 {
				fmt.Fprintln(
					a.out, "There is no pool yet; every node is open to all. Make one with: vexillum pool set NAME",
				)
				return nil
			}
			t := newTable(a.out, "POOL", "OPEN TO", ">NODES", "MEMBERS")
			for _, p := range pools {
				t.add(p.Name, openTo(p), fmt.Sprint(len(p.Nodes)), strings.Join(p.Nodes, " "))
			}
			t.print()
			return nil
		}),
	})
	set := &cobra.Command{
		Use: "set NAME", Short: "Make a pool, or change who may use it", Args: exactly(1, "the name of a pool"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			var p wire.Pool
			if projects == nil {
				projects = []string{}
			}
			if err := cl.Do(
				ctx, http.MethodPut, "/api/v1/pools/"+url.PathEscape(args[0]),
				wire.NewPool{Projects: projects, Alone: alone}, &p,
			); err != nil {
				return err
			}
			fmt.Fprintf(
				a.out, "the pool %s is open to %s; it has %s%s\n", p.Name, openTo(p),
				english.Plural(len(p.Nodes), "node", ""),
				map[bool]string{true: ", which exchange no files of bundles with others"}[p.Alone],
			)
			return nil
		}),
	}
	set.Flags().BoolVar(
		&alone, "alone", false, "its nodes get files of bundles from the service alone, and give none to others",
	)
	set.Flags().StringSliceVar(&projects, "projects", nil, "only these projects may use it (default: all)")
	c.AddCommand(list, set, drop(
		a, "pool", "/api/v1/pools", "Do away with a pool that has no members", "",
		func(p wire.Pool) string { return p.Name },
	))
	c.AddCommand(a.stayCommands("pool")...)
	return c
}

func openTo(p wire.Pool) string {
	if len(p.Projects) == 0 {
		return "all"
	}
	return strings.Join(p.Projects, ", ")
}

// beside says how leases may run side by side, where that is not as usual.
func beside(c wire.Caps) string {
	var parts []string
	if c.Leases > 0 {
		parts = append(parts, fmt.Sprintf("at most %d leases", c.Leases))
	}
	if c.SpareBytes > 0 {
		parts = append(parts, size(c.SpareBytes)+" stay free")
	}
	if len(c.KeptDevices) > 0 {
		parts = append(parts, "without "+strings.Join(c.KeptDevices, ", "))
	}
	return strings.Join(parts, ", ")
}

// printWorks lists what a node works on, when that is more than one lease or
// less than the whole node.
func (a *app) printWorks(works []wire.Work) {
	if len(works) == 0 || len(works) == 1 && works[0].Share.Cores == "" {
		return
	}
	fmt.Fprintln(a.out)
	t := newTable(a.out, ">LEASE", "RUN", "FRAME", "PHASE", "CORES", ">MEMORY", "DEVICES")
	for _, w := range works {
		frame := ""
		if w.Frame != nil {
			frame = fmt.Sprintf("%d, %.0f %%", *w.Frame, 100*w.Fraction)
		}
		memory := size(w.MemoryBytes)
		if w.Share.MemoryBytes > 0 {
			memory += " of " + size(w.Share.MemoryBytes)
		}
		t.add(
			fmt.Sprint(w.Lease), w.RunName, frame, state(w.Phase), w.Share.Cores, memory,
			strings.Join(w.Share.Devices, " "),
		)
	}
	t.print()
}

// rates says what was measured when the machine joined.
func rates(n wire.Node) string {
	if n.DiskRate == 0 {
		return ""
	}
	return fmt.Sprintf("disk writes %s/s, sends %s/s to the service", size(n.DiskRate), size(n.NetworkRate))
}

// placesText says what a node sees of places.
func placesText(places []wire.PlaceSeen) string {
	var out []string
	for _, p := range places {
		var can []string
		if p.Reads {
			can = append(can, "reads "+p.Name+about(p.ReadRate))
		}
		if p.Writes {
			can = append(can, "writes "+p.Name+about(p.WriteRate))
		}
		if p.Why != "" {
			can = append(can, p.Name+": "+p.Why)
		}
		out = append(out, can...)
	}
	return strings.Join(out, "; ")
}

// about writes a rate that was measured once.
func about(rate int64) string {
	if rate == 0 {
		return ""
	}
	return fmt.Sprintf(" (about %s/s)", size(rate))
}

// accountText returns which accounts a node process and its renderers run as, and how renderers
// are held to what they are given.
func accountText(m wire.Means) string {
	if m.Account == "" {
		return ""
	}
	text := "the node process runs as " + m.Account
	switch {
	case m.Switches && m.RendersAs != "":
		text += ", renderers as " + strings.Join(append([]string{m.RendersAs}, m.Permits...), ", ")
	case m.RendersAs != "":
		text += ", and so do renderers"
	}
	if m.Pins {
		text += "; they are held to their cores"
	}
	if m.Memory != "" && m.Memory != "told" {
		text += "; their memory is limited by " + m.Memory
	}
	return text
}
