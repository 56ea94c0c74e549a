package cli

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// nodeSettings are the flags of nodes set.
type nodeSettings struct {
	sel                                      selection
	in                                       wire.NodeChange
	cores, nice, leases                      int
	memory, staging, spare, week, zone, from string
	kept, except                             []string
}

func (a *app) nodeSetCommand() *cobra.Command {
	var s nodeSettings
	c := a.jsonFlag(&cobra.Command{
		Use:   "set [NAME…]",
		Short: "Change the settings of nodes: traits, pools, caps, duty hours",
		Long: "Changes what is named and leaves the rest. Changes are in force within seconds and are kept as versions; frames in\n" +
			"flight are not disturbed. --from takes whole parts over from another node.",
		Example: "  vexillum nodes set desk-tobin --hours 'mon-fri 18:30-08:00; sat,sun 00:00-24:00' --zone Europe/Dublin\n" +
			"  vexillum nodes set --where 'gpu' --add-pool graphics --dry-run\n" +
			"  vexillum nodes set desk-iris --from desk-tobin --parts hours,caps",
		RunE: a.asking(func(ctx context.Context, cl *client.Client, names []string) error {
			in, err := s.read(ctx, cl, names)
			if err != nil {
				return err
			}
			var out wire.NodesActed
			if err := cl.Do(ctx, http.MethodPost, "/api/v1/node-changes", in, &out); err != nil {
				return err
			}
			return a.acted(out)
		}),
	})
	s.bind(c)
	return c
}

// bind binds the flags.
func (s *nodeSettings) bind(c *cobra.Command) {
	s.sel.flags(c)
	f := c.Flags()
	f.StringSliceVar(&s.in.AddTraits, "add-trait", nil, "give a trait: name, or name=value")
	f.StringSliceVar(&s.in.DropTraits, "drop-trait", nil, "take a given trait away")
	f.StringSliceVar(&s.in.AddPools, "add-pool", nil, "put into a pool")
	f.StringSliceVar(&s.in.DropPools, "drop-pool", nil, "take out of a pool")
	f.IntVar(&s.cores, "cores", 0, "cores that the farm may use; 0 for all")
	f.StringVar(&s.memory, "memory", "", "memory that the farm may use, such as 48GiB; 0 for all")
	f.IntVar(&s.leases, "leases", 0, "leases side by side; 0 for as many as fit")
	f.StringVar(
		&s.spare, "spare", "", "memory that stays free when leases run side by side, such as 2GiB; 0 for as usual",
	)
	f.StringSliceVar(
		&s.kept, "keep-device", nil, "graphics devices that the farm may not use, by id; none for all to be used",
	)
	f.IntVar(&s.nice, "nice", 0, "how much others come first, 1 to 19; 0 as usual (10)")
	f.StringVar(
		&s.staging, "staging", "",
		"disk that frames may take up until they are delivered, such as 20GiB; 0 for no limit",
	)
	f.StringVar(&s.week, "hours", "", "duty hours, such as 'mon-fri 18:00-08:00; sat,sun 00:00-24:00', or always")
	f.StringVar(&s.zone, "zone", "", "time zone of the hours, such as Europe/Dublin")
	f.StringArrayVar(&s.except, "except", nil, "hours of one date, such as 2031-12-24=12:00-24:00, or 2031-12-24=never")
	f.StringSliceVar(
		&s.in.Permit, "permit", nil,
		"as an administrator: allow renderers another account or group, as account=NAME or group=NAME",
	)
	f.StringSliceVar(&s.in.Forbid, "forbid", nil, "take such a permission away")
	f.StringVar(&s.from, "from", "", "take settings over from this node")
	f.StringSliceVar(&s.in.Parts, "parts", nil, "which: traits, pools, caps, hours (default: all)")
	c.PreRunE = func(*cobra.Command, []string) error {
		if err := s.readCaps(f); err != nil {
			return err
		}
		return s.readHours()
	}
}

// read returns what shall be changed, and of which nodes.
func (s *nodeSettings) read(ctx context.Context, cl *client.Client, names []string) (in wire.NodeChange, err error) {
	in = s.in
	if in.Selection, err = s.sel.read(ctx, cl, names); err != nil {
		return in, err
	}
	in.DryRun = s.sel.dryRun
	if s.from != "" {
		n, err := findNode(ctx, cl, s.from)
		if err != nil {
			return in, err
		}
		in.From = n.ID
		if len(in.Parts) == 0 {
			in.Parts = []string{"traits", "pools", "caps", "hours"}
		}
	}
	return in, nil
}

// readCaps reads the caps that are given.
func (s *nodeSettings) readCaps(f *pflag.FlagSet) error {
	caps := wire.CapChange{}
	if f.Changed("cores") {
		caps.Cores = &s.cores
	}
	if f.Changed("nice") {
		caps.Nice = &s.nice
	}
	if f.Changed("leases") {
		caps.Leases = &s.leases
	}
	if f.Changed("keep-device") {
		if slices.Equal(s.kept, []string{"none"}) {
			s.kept = []string{}
		}
		caps.KeptDevices = &s.kept
	}
	for name, p := range map[string]struct {
		text string
		to   **int64
	}{"memory": {s.memory, &caps.MemoryBytes}, "staging": {s.staging, &caps.StagingBytes}, "spare": {s.spare, &caps.SpareBytes}} {
		if !f.Changed(name) {
			continue
		}
		n, err := bytesOf(p.text)
		if err != nil {
			return usageError{fmt.Errorf("--%s %q: write it like 48GiB", name, p.text)}
		}
		*p.to = &n
	}
	if caps != (wire.CapChange{}) {
		s.in.Caps = &caps
	}
	return nil
}

// readHours reads the duty hours, if any are given.
func (s *nodeSettings) readHours() error {
	switch {
	case s.week == "always" && len(s.except) == 0:
		s.in.Always = true
	case s.week != "":
		s.in.Hours = &wire.Hours{Zone: s.zone, Week: s.week, Exceptions: []wire.HourException{}}
		for _, e := range s.except {
			date, windows, ok := strings.Cut(e, "=")
			if !ok {
				return usageError{
					fmt.Errorf("--except %q: write it like 2031-12-24=12:00-24:00 or 2031-12-24=never", e),
				}
			}
			s.in.Hours.Exceptions = append(
				s.in.Hours.Exceptions, wire.HourException{Date: date, Windows: strings.TrimPrefix(windows, "never")},
			)
		}
	case s.zone != "" || len(s.except) > 0:
		return usageError{fmt.Errorf("--zone and --except belong to --hours")}
	}
	return nil
}

// bytesOf reads an amount of memory or disk.
func bytesOf(text string) (int64, error) {
	n, err := humanize.ParseBytes(text)
	if err == nil && n > 1<<60 {
		err = strconv.ErrRange
	}
	return int64(n), err
}
