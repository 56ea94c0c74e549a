package cli

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/core/span"
	"vexillum/internal/wire"
)

// estimateCommand says when a run would be finished, and what it would take.
func (a *app) estimateCommand() *cobra.Command {
	var s submission
	file := ""
	c := a.jsonFlag(&cobra.Command{
		Use:   "estimate [SCENE]",
		Short: "Say when a run would be finished, what it would take, and whether more nodes help",
		Long: "Plays the farm as it is, with the runs in its queue, as it would be with the one that is described. Takes what\n" +
			"submit takes, or a job file. Nothing is submitted.",
		Example: "  vexillum estimate shots/salt_010.pov --project salt-clock\n  vexillum estimate --file salt.yaml",
		Args:    cobra.MaximumNArgs(1),
	})
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
		var in wire.Estimating
		switch {
		case file != "" && len(args) > 0:
			return usageError{errors.New("give either a scene, or a job file with --file")}
		case file != "":
			data, err := readInput(file, "a job file")
			if err != nil {
				return err
			}
			in.Text, in.Proof = string(data), s.in.Proof
		default:
			submit, err := s.described(c, args)
			if err != nil {
				return err
			}
			in.Submit = &submit
		}
		var out wire.Estimate
		call, cancel := context.WithTimeout(ctx, readTimeout)
		defer cancel()
		if err := cl.Do(call, http.MethodPost, "/api/v1/estimates", in, &out); err != nil {
			return err
		}
		if a.json {
			return a.printJSON(out)
		}
		a.tellEstimate(out)
		return nil
	})
	s.bind(c)
	c.Flags().StringVar(&file, "file", "", "a job file, whose runs are all estimated together")
	for _, name := range []string{"follow", "dry-run", "bundle", "incomplete", "folder"} {
		_ = c.Flags().MarkHidden(name)
	}
	delete(c.Flag("project").Annotations, cobra.BashCompOneRequiredFlag)
	a.completeFlags(c, map[string]lister{"project": projectList, "recipe": recipeList})
	return c
}

// tellEstimate shows an estimate, with the finish by number of nodes as bars.
func (a *app) tellEstimate(e wire.Estimate) {
	if !e.Known {
		fmt.Fprintln(a.out, e.Basis)
		return
	}
	now := time.Now()
	energy, money := "", ""
	if e.EnergyKWh > 0 {
		energy = fmt.Sprintf("%.2f kWh", e.EnergyKWh)
	}
	if e.Money > 0 {
		money = fmt.Sprintf("%.2f %s", e.Money, e.Currency)
	}
	a.facts(
		zoned("finish"), finish(wire.Forecast{Known: true, Median: e.Median, Late: e.Late}, now), "machine time",
		span.Text(span.Of(e.MachineHours*3600)), "energy", energy, "money", money, "nodes", fmt.Sprint(e.Nodes),
	)
	fmt.Fprintf(a.out, "  %s\n", e.Basis)
	if e.Sentence != "" {
		fmt.Fprintf(a.out, "  %s\n", e.Sentence)
	}
	if len(e.Curve) < 2 {
		return
	}
	most := 0.0
	for _, p := range e.Curve {
		most = max(most, p.Seconds)
	}
	fmt.Fprintln(a.out)
	t := newTable(a.out, ">NODES", ">TAKES", "")
	for _, p := range e.Curve {
		bar := strings.Repeat("▇", max(1, int(math.Round(40*p.Seconds/most))))
		t.add(fmt.Sprint(p.Nodes), span.Of(p.Seconds).Round(time.Second).String(), bar)
	}
	t.print()
}

// rateCommand says what machines cost.
func (a *app) rateCommand() *cobra.Command {
	parent := &cobra.Command{
		Use: "rate", Short: "Say what machines cost and how much power they take, for estimates and reports",
		Long: "Rates are said of the farm, a pool or a node; the more exact counts. Estimates reckon with them.",
	}
	var in wire.Rate
	pool, node := "", ""
	set := &cobra.Command{
		Use: "set", Short: "Set the rate of the farm, a pool or a node; without amounts it is taken back",
		Example: "  vexillum rate set --watts 450 --per-hour 0.80 --currency EUR\n  vexillum rate set --pool graphics --watts 900",
		Args:    exactly(0, "no arguments"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, _ []string) error {
			in.Kind = "farm"
			switch {
			case pool != "" && node != "":
				return usageError{errors.New("a rate is of a pool or of a node, not of both")}
			case pool != "":
				in.Kind, in.Name = "pool", pool
			case node != "":
				in.Kind, in.Name = "node", node
			}
			var out wire.Rate
			if err := cl.Do(ctx, http.MethodPut, "/api/v1/rates", in, &out); err != nil {
				return err
			}
			of := strings.TrimSpace(out.Kind + " " + out.Name)
			if out.Watts == 0 && out.PerHour == 0 && out.Currency == "" {
				fmt.Fprintf(a.out, "Nothing is said of the %s any more.\n", of)
				return nil
			}
			fmt.Fprintf(a.out, "The rate of the %s is set.\n", of)
			return nil
		}),
	}
	f := set.Flags()
	f.Float64Var(&in.Watts, "watts", 0, "power that a machine takes while it renders")
	f.Float64Var(&in.PerHour, "per-hour", 0, "money for an hour of a machine")
	f.StringVar(&in.Currency, "currency", "", "of the money, such as EUR; of the farm alone")
	f.StringVar(&pool, "pool", "", "of this pool")
	f.StringVar(&node, "node", "", "of this node")
	a.completeFlags(set, map[string]lister{"pool": poolList, "node": nodeList})
	parent.AddCommand(set, list(
		a, "list", "List the rates", "/api/v1/rates", []string{"OF", ">WATTS", ">PER HOUR", "CURRENCY"},
		func(r wire.Rate) []string {
			return []string{
				strings.TrimSpace(
					r.Kind + " " + r.Name,
				), fmt.Sprintf("%g", r.Watts), fmt.Sprintf("%.2f", r.PerHour), r.Currency,
			}
		},
	))
	return parent
}
