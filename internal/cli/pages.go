package cli

import (
	"fmt"
	"net/url"

	"github.com/spf13/cobra"
)

// paging says which part of a long list is wanted, the newest first.
type paging struct {
	before int64
	limit  int
}

func (p *paging) bind(c *cobra.Command) {
	c.Flags().Int64Var(&p.before, "before", 0, "only those before this number")
	c.Flags().IntVar(&p.limit, "limit", 50, "at most so many, 1 to 500")
}

func (p *paging) query() url.Values {
	return url.Values{"before": {fmt.Sprint(p.before)}, "limit": {fmt.Sprint(p.limit)}}
}

// older says how to see what comes before a page; nothing where it is the last.
func (a *app) older(c *cobra.Command, next int64) {
	if next > 0 {
		fmt.Fprintf(a.out, "\nOlder ones: %s --before %d\n", c.CommandPath(), next)
	}
}
