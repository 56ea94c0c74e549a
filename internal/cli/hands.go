package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// handsCommand lists what needs a hand, and says what somebody does about it.
func (a *app) handsCommand() *cobra.Command {
	var all bool
	c := a.jsonFlag(&cobra.Command{
		Use: "hands", Short: "Say what needs a hand, what costs most first",
		Long: "Lists what needs a person: what holds up most comes first, what is due within a day counting ten\n" +
			"times. Each has a number, with which it is taken, put off until a time, or resolved. What is over\n" +
			"leaves by itself.",
		Example: "  vexillum hands\n  vexillum hands take 12\n  vexillum hands snooze 12 --until 08:00\n" +
			"  vexillum hands resolve 12 --note \"the disk is changed\"\n  vexillum hands history",
		Args: cobra.NoArgs,
	})
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, _ []string) error {
		list, err := get[[]wire.NeedHand](ctx, cl, "/api/v1/hands")
		if err != nil {
			return err
		}
		if a.json {
			return a.printJSON(list)
		}
		a.tellHands(list, all)
		return nil
	})
	c.Flags().BoolVarP(&all, "all", "a", false, "also what is put off")
	snooze, resolve := wire.HandAct{Do: "snooze"}, wire.HandAct{Do: "resolve"}
	until := ""
	snoozing := a.handActCommand(&snooze, "snooze", "Put it off until a time: 08:00, 'mon 08:00' or +2h", func() error {
		text, err := parseDue(until, time.Now())
		if err != nil {
			return err
		}
		at, err := time.Parse(time.RFC3339, text)
		if err != nil {
			return errors.New("say until when, with --until 08:00 or --until +2h")
		}
		snooze.Until = &at
		return nil
	})
	snoozing.Flags().StringVar(&until, "until", "", "until when: 08:00, 'mon 08:00', '2031-03-04 08:00' or +2h")
	resolving := a.handActCommand(&resolve, "resolve", "Say that nothing is left to do about it", nil)
	resolving.Flags().StringVar(&resolve.Note, "note", "", "what was done, for those who look")
	c.AddCommand(
		a.handActCommand(&wire.HandAct{Do: "take"}, "take", "Say that you see to it", nil),
		a.handActCommand(&wire.HandAct{Do: "leave"}, "leave", "Say that nobody sees to it any more", nil),
		snoozing,
		a.handActCommand(&wire.HandAct{Do: "wake"}, "wake", "End putting it off", nil),
		resolving,
		a.handActCommand(&wire.HandAct{Do: "reopen"}, "reopen", "Say that something is left to do after all", nil),
		a.handsHistoryCommand(),
	)
	return c
}

// handActCommand makes a command that does something about what needs a hand.
func (a *app) handActCommand(in *wire.HandAct, do, short string, before func() error) *cobra.Command {
	c := a.jsonFlag(&cobra.Command{
		Use: do + " NUMBER...", Short: short, Args: atLeast(1, "the numbers of what needs a hand"),
		Long: short + ".\n\nThe numbers are those that vexillum hands shows.",
	})
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
		if err := refuseEmpty(c); err != nil {
			return err
		}
		if before != nil {
			if err := before(); err != nil {
				return usageError{err}
			}
		}
		var ids []int64
		for _, arg := range args {
			id, err := strconv.ParseInt(strings.TrimPrefix(arg, "#"), 10, 64)
			if err != nil || id < 1 {
				return usageError{fmt.Errorf("%q is not a number that vexillum hands shows", arg)}
			}
			if !slices.Contains(ids, id) {
				ids = append(ids, id)
			}
		}
		in.Hands = ids
		var out wire.HandsActed
		if err := cl.Do(ctx, http.MethodPost, "/api/v1/hand-acts", in, &out); err != nil {
			return err
		}
		if a.json {
			return a.printJSON(out)
		}
		done := map[string]string{
			"take": "taken", "leave": "left", "snooze": "put off", "wake": "back on the list", "resolve": "resolved",
			"reopen": "open again",
		}[do]
		if in.DryRun {
			for _, h := range out.Hands {
				fmt.Fprintf(a.out, "#%d  %s\n", h.ID, h.Sentence)
			}
			fmt.Fprintf(a.out, "%s would be %s; nothing is changed.\n", english.WordSeries(numbers(ids), "and"), done)
			return nil
		}
		fmt.Fprintf(
			a.out,
			"%s %s %s.\n",
			english.WordSeries(numbers(ids), "and"),
			english.PluralWord(len(ids), "is", "are"),
			done,
		)
		return nil
	})
	c.Flags().BoolVar(&in.DryRun, "dry-run", false, "only say what would happen")
	return c
}

func numbers(ids []int64) []string {
	out := make([]string, len(ids))
	for i, id := range ids {
		out[i] = fmt.Sprintf("#%d", id)
	}
	return out
}

// tellHands lists what needs a hand, each with what it costs and who sees to it.
func (a *app) tellHands(list []wire.NeedHand, all bool) {
	now := time.Now()
	off := 0
	shown := 0
	for _, h := range list {
		if h.SnoozedUntil != nil && !all {
			off++
			continue
		}
		if shown++; shown > 1 {
			fmt.Fprintln(a.out)
		}
		number := "#–"
		if h.ID != 0 {
			number = fmt.Sprintf("#%d", h.ID)
		}
		fmt.Fprintf(a.out, "%-5s %s\n", number, h.Sentence)
		var more []string
		if h.Cost.Text != "" {
			more = append(more, h.Cost.Text)
		}
		if h.Since != nil {
			more = append(more, "since "+moment(*h.Since, now))
		}
		if h.Count > 1 {
			more = append(more, "come "+timesText(h.Count))
		}
		if h.TakenBy != "" {
			more = append(more, h.TakenBy+" sees to it")
		}
		if h.SnoozedUntil != nil {
			more = append(more, fmt.Sprintf("put off by %s until %s", h.SnoozedBy, moment(*h.SnoozedUntil, now)))
		}
		if h.Evidence != "" {
			fmt.Fprintf(a.out, "      %s\n", a.fit(inZone(h.Evidence, now), 150))
		}
		if len(more) > 0 {
			fmt.Fprintf(a.out, "      %s.\n", strings.ToUpper(more[0][:1])+strings.Join(more, "; ")[1:])
		}
	}
	switch {
	case shown == 0 && off == 0:
		fmt.Fprintln(a.out, "Nothing needs a hand.")
	case off > 0:
		if shown == 0 {
			fmt.Fprint(a.out, "Nothing needs a hand now; ")
		} else {
			fmt.Fprint(a.out, "\n")
		}
		fmt.Fprintf(a.out, "%s put off: vexillum hands --all.\n", english.Plural(off, "is", "are"))
	}
}

// timesText says how often something came: twice, 3 times.
func timesText(n int) string {
	if n == 2 {
		return "twice"
	}
	return fmt.Sprintf("%d times", n)
}

// handsHistoryCommand lists what needed a hand.
func (a *app) handsHistoryCommand() *cobra.Command {
	var page paging
	c := a.jsonFlag(&cobra.Command{
		Use: "history", Short: "Say what needed a hand, newest first, and what became of it", Args: cobra.NoArgs,
	})
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, _ []string) error {
		past, err := get[wire.PastHands](ctx, cl, "/api/v1/hands/history?"+page.query().Encode())
		if err != nil {
			return err
		}
		if a.json {
			return a.printJSON(past)
		}
		if len(past.Hands) == 0 {
			fmt.Fprintln(a.out, "Nothing has needed a hand.")
			return nil
		}
		now := time.Now()
		t := newTable(a.out, ">#", zoned("since"), zoned("until"), ">times", "what", "who")
		for _, h := range past.Hands {
			over := "–"
			if at := cmp.Or(h.EndedAt, h.ResolvedAt); at != nil {
				over = clock(*at, now)
			}
			t.add(
				fmt.Sprint(h.ID), clock(h.RaisedAt, now), over, fmt.Sprint(h.Count), a.fit(inZone(h.Sentence, now), 70),
				handledBy(h),
			)
		}
		t.print()
		a.older(c, past.Next)
		return nil
	})
	page.bind(c)
	return c
}

// handledBy says what somebody did about something that needed a hand.
func handledBy(h wire.PastHand) string {
	switch {
	case h.ResolvedBy != "" && h.Note != "":
		return h.ResolvedBy + ": " + h.Note
	case h.ResolvedBy != "":
		return "resolved by " + h.ResolvedBy
	case h.TakenBy != "":
		return "taken by " + h.TakenBy
	}
	return ""
}
