package cli

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// nodeTestCommand lets nodes show that they work.
func (a *app) nodeTestCommand() *cobra.Command {
	var sel selection
	var patience time.Duration
	c := a.jsonFlag(&cobra.Command{
		Use: "test [NAME…]", Short: "Let nodes render small known frames, and compare the results",
		Long: "A practice frame and, where it is installed, a POV-Ray frame are rendered through the normal path: dealt, launched,\n" +
			"verified and delivered. They come before all other work, as soon as the node has a core free.",
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			in, err := sel.read(ctx, cl, args)
			if err != nil {
				return err
			}
			var tests []wire.NodeTest
			if err := cl.Do(ctx, http.MethodPost, "/api/v1/node-tests", in, &tests); err != nil {
				return err
			}
			tests, err = a.awaitTests(ctx, cl, tests, patience)
			if err != nil {
				return err
			}
			if a.json {
				err = a.printJSON(tests)
			} else {
				a.printTests(tests)
			}
			if err == nil && slices.ContainsFunc(tests, func(t wire.NodeTest) bool { return t.State != "passed" }) {
				err = outcome{exitFailed}
			}
			return err
		}),
	})
	c.Flags().StringVarP(&sel.where, "where", "w", "", "the nodes that this expression over traits picks")
	c.Flags().StringVar(&sel.pool, "pool", "", "the members of this pool")
	c.Flags().
		DurationVar(&patience, "wait", 10*time.Minute, "how long to wait for the results; the test goes on after that")
	return c
}

// awaitTests waits until all tests have ended, and says what each waits for.
func (a *app) awaitTests(
	ctx context.Context, cl *client.Client, tests []wire.NodeTest, patience time.Duration,
) ([]wire.NodeTest, error) {
	ended := func(t wire.NodeTest) bool { return t.State == "passed" || t.State == "failed" }
	told := map[int64]string{}
	for deadline := time.Now().Add(patience); slices.ContainsFunc(tests, func(t wire.NodeTest) bool { return !ended(t) }) && time.Now().Before(deadline); {
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
		fresh := map[int64][]wire.NodeTest{}
		for i, t := range tests {
			if ended(t) {
				continue
			}
			of, read := fresh[t.Node]
			if !read {
				var err error
				if of, err = get[[]wire.NodeTest](ctx, cl, fmt.Sprintf("/api/v1/nodes/%d/tests", t.Node)); err != nil {
					return nil, err
				}
				fresh[t.Node] = of
			}
			if j := slices.IndexFunc(of, func(o wire.NodeTest) bool { return o.Run == t.Run }); j >= 0 {
				tests[i] = of[j]
			}
			if now := tests[i]; now.State == "waiting" && told[t.Run] != now.Sentence && !a.json {
				told[t.Run] = now.Sentence
				fmt.Fprintf(a.err, "%s, %s: %s\n", t.Name, t.Recipe, now.Sentence)
			}
		}
	}
	return tests, nil
}

func (a *app) printTests(tests []wire.NodeTest) {
	seconds := func(v float64) string {
		if v == 0 {
			return "–"
		}
		return fmt.Sprintf("%.2f s", v)
	}
	t := newTable(
		a.out, "NODE", "RENDERER", "RESULT", ">STARTING", ">RENDERING", ">CHECKING", ">DELIVERING", ">SPEED", "",
	)
	for _, x := range tests {
		t.add(
			x.Name, x.Recipe, state(x.State), seconds(x.StartupSeconds), seconds(x.RenderSeconds),
			seconds(x.CheckSeconds), seconds(x.DeliverSeconds), speedText(x.Speed), x.Sentence,
		)
	}
	t.print()
}

func speedText(v float64) string {
	if v == 0 {
		return "–"
	}
	return fmt.Sprintf("%.2f", v)
}
