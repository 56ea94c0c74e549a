package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// noticesCommand says who is told of what, outside the farm.
func (a *app) noticesCommand() *cobra.Command {
	c := showing(
		a, "notices", "Say who is told of what: webhooks and e-mail", "/api/v1/channels",
		func(v wire.Channels) {
			if len(v.Channels) == 0 {
				fmt.Fprintln(a.out, "Nobody is told of anything yet; vexillum notices set --help says how.")
				return
			}
			t := newTable(a.out, "channel", "of", "to", "tells of", "projects", "quiet", "on call")
			for _, c := range v.Channels {
				of := c.Person
				if of == "" {
					of = "the farm"
				}
				to := c.To
				if c.Off {
					to += " (off" + after(": ", c.Why) + ")"
				}
				t.add(c.Name, of, a.fit(to, 60), allOr(c.Events), allOr(c.Projects), quietText(c), yes(c.OnCall))
			}
			t.print()
		},
	)
	c.Long = "Lists the channels that notices go to: your own, or all where you are a wrangler. A channel is a\n" +
		"webhook, signed as Standard Webhooks has it, or an address for e-mail."
	c.Example = "  vexillum notices set chat --webhook https://chat.example/hooks/farm\n" +
		"  vexillum notices set nadia-night --mail nadia@pellmarsh.example --for nadia --on-call \\\n" +
		"      --events failed,\"at risk\",\"needs a hand\" --quiet 22:00-07:00 --urgent\n" +
		"  vexillum notices try chat\n  vexillum notices sent"
	c.AddCommand(
		a.noticesSetCommand(), a.noticesDropCommand(), a.noticesTryCommand(), a.noticesSentCommand(),
		a.noticesAgainCommand(),
	)
	return c
}

func after(sep, text string) string {
	if text == "" {
		return ""
	}
	return sep + text
}

func allOr(list []string) string {
	if len(list) == 0 {
		return "all"
	}
	return strings.Join(list, ", ")
}

func yes(is bool) string {
	if is {
		return "yes"
	}
	return "–"
}

func quietText(c wire.Channel) string {
	if c.QuietFrom == "" {
		return "–"
	}
	text := c.QuietFrom + "-" + c.QuietTo
	if c.Zone != "" {
		text += " " + c.Zone
	}
	if c.Urgent {
		text += ", not for what is urgent"
	}
	return text
}

// channelFlags are what is said of a channel on the command line.
type channelFlags struct {
	webhook, mail, person, quiet, zone string
	events, projects                   []string
	urgent, onCall, off, newSecret     bool
}

// noticesSetCommand makes or changes a channel.
func (a *app) noticesSetCommand() *cobra.Command {
	var in channelFlags
	c := a.jsonFlag(&cobra.Command{
		Use: "set CHANNEL", Short: "Make a channel, or change it", Args: exactly(1, "a name for the channel"),
		Long: "Makes a channel, or changes what is given of one that is there. A new one tells of all, at all\n" +
			"hours. The secret of a webhook is printed once, when it is made; --new-secret makes another.",
	})
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
		if err := refuseEmpty(c); err != nil {
			return err
		}
		all, err := get[wire.Channels](ctx, cl, "/api/v1/channels")
		if err != nil {
			return err
		}
		var set wire.ChannelSet
		for _, old := range all.Channels {
			if old.Name == args[0] {
				set = wire.ChannelSet{
					Of: old.Of, To: old.To, Person: old.Person, Events: old.Events, Projects: old.Projects,
					QuietFrom: old.QuietFrom, QuietTo: old.QuietTo, Zone: old.Zone, Urgent: old.Urgent,
					OnCall: old.OnCall,
					Off:    old.Off,
				}
			}
		}
		if err := in.change(&set, c.Flags().Changed); err != nil {
			return usageError{err}
		}
		var out wire.Channel
		if err := cl.Do(ctx, http.MethodPut, "/api/v1/channels/"+url.PathEscape(args[0]), set, &out); err != nil {
			return err
		}
		if a.json {
			return a.printJSON(out)
		}
		a.tellChannel(out)
		return nil
	})
	f := c.Flags()
	f.StringVar(&in.webhook, "webhook", "", "URL that messages are posted to")
	f.StringVar(&in.mail, "mail", "", "address that e-mail goes to")
	f.StringVar(
		&in.person, "for", "",
		"whose channel it is, who is told what they see alone; none: the farm's (default: the farm's, or yours)",
	)
	f.StringSliceVar(
		&in.events, "events", nil,
		"only these: done, 'done with gaps', failed, 'at risk', 'needs a hand', 'node silent', take-over; or all",
	)
	f.StringSliceVarP(&in.projects, "project", "p", nil, "only of these projects; or all")
	f.StringVar(
		&in.quiet,
		"quiet",
		"",
		"hours in which nothing is sent, such as 22:00-07:00; it is sent when they end; or none",
	)
	f.StringVar(
		&in.zone, "zone", "",
		"time zone of that and of times in e-mail, such as Europe/Dublin (default: that of this machine)",
	)
	f.BoolVar(&in.urgent, "urgent", false, "send what is urgent in quiet hours, too")
	f.BoolVar(&in.onCall, "on-call", false, "only while its person is on call")
	f.BoolVar(&in.off, "off", false, "switch it off; --off=false switches it on again")
	f.BoolVar(&in.newSecret, "new-secret", false, "make another secret for a webhook")
	a.completeFlags(c, map[string]lister{"project": projectList})
	return c
}

// change puts what was given on the command line into a channel.
func (in *channelFlags) change(set *wire.ChannelSet, given func(flag string) bool) error {
	switch {
	case given("webhook") && given("mail"):
		return errors.New("it goes either to --webhook URL or to --mail ADDRESS")
	case given("webhook"):
		set.Of, set.To = "webhook", in.webhook
	case given("mail"):
		set.Of, set.To = "mail", in.mail
	case set.Of == "":
		return errors.New("say where it goes: either --webhook URL or --mail ADDRESS")
	}
	if given("for") {
		if set.Person = in.person; in.person == "none" {
			set.Person = ""
		}
	}
	if given("events") {
		set.Events = orAll(in.events)
	}
	if given("project") {
		set.Projects = orAll(in.projects)
	}
	switch from, to, ok := strings.Cut(in.quiet, "-"); {
	case !given("quiet"):
	case in.quiet == "none":
		set.QuietFrom, set.QuietTo = "", ""
	case !ok:
		return fmt.Errorf("--quiet %q: write it like 22:00-07:00, or none", in.quiet)
	default:
		set.QuietFrom, set.QuietTo = from, to
	}
	if given("zone") {
		set.Zone = in.zone
	} else if set.Zone == "" {
		set.Zone = localZone()
	}
	for flag, to := range map[string]struct {
		is  bool
		set *bool
	}{"urgent": {in.urgent, &set.Urgent}, "on-call": {in.onCall, &set.OnCall}, "off": {in.off, &set.Off}} {
		if given(flag) {
			*to.set = to.is
		}
	}
	set.NewSecret = in.newSecret
	return nil
}

// orAll returns a list, or none where that is all.
func orAll(list []string) []string {
	if len(list) == 1 && list[0] == "all" {
		return nil
	}
	return list
}

func (a *app) tellChannel(c wire.Channel) {
	fmt.Fprintf(a.out, "%s tells %s of %s.\n", c.Name, c.To, allOr(c.Events))
	if c.Secret != "" {
		fmt.Fprintf(a.out, "Its secret, which is not told again: %s\n", c.Secret)
	}
	if !c.Off {
		fmt.Fprintf(a.out, "Try it: vexillum notices try %s\n", c.Name)
	}
}

func (a *app) noticesDropCommand() *cobra.Command {
	return &cobra.Command{
		Use: "drop CHANNEL", Short: "Do away with a channel", Args: exactly(1, "the name of a channel"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			if err := cl.Do(ctx, http.MethodDelete, "/api/v1/channels/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "The channel %s is gone.\n", args[0])
			return nil
		}),
	}
}

func (a *app) noticesTryCommand() *cobra.Command {
	return &cobra.Command{
		Use: "try CHANNEL", Short: "Send a notice that says that it is a trial",
		Args: exactly(1, "the name of a channel"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			path := "/api/v1/channels/" + url.PathEscape(args[0]) + "/trial"
			if err := cl.Do(ctx, http.MethodPost, path, nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(
				a.out, "A trial is on its way; vexillum notices sent --channel %s says what became of it.\n", args[0],
			)
			return nil
		}),
	}
}

// noticesSentCommand lists notices and what became of them.
func (a *app) noticesSentCommand() *cobra.Command {
	var channel string
	var page paging
	c := a.jsonFlag(&cobra.Command{
		Use: "sent", Short: "Say which notices were sent, newest first, and what became of them", Args: cobra.NoArgs,
	})
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, _ []string) error {
		if err := refuseEmpty(c); err != nil {
			return err
		}
		q := page.query()
		if channel != "" {
			q.Set("channel", channel)
		}
		sent, err := get[wire.SentNotices](ctx, cl, "/api/v1/notices?"+q.Encode())
		if err != nil {
			return err
		}
		if a.json {
			return a.printJSON(sent)
		}
		if len(sent.Notices) == 0 {
			fmt.Fprintln(a.out, "No notice was made yet.")
			return nil
		}
		now := time.Now()
		t := newTable(a.out, ">#", zoned("made"), "channel", "notice", "stands", ">tries", "answer")
		for _, n := range sent.Notices {
			stands := n.State
			if n.NextAt != nil && n.NextAt.After(now) {
				stands += " until " + clock(*n.NextAt, now)
			}
			t.add(
				fmt.Sprint(n.ID), clock(n.MadeAt, now), n.Channel, a.fit(inZone(n.Title, now), 60), stands,
				fmt.Sprint(n.Tries), a.fit(n.Answer, 50),
			)
		}
		t.print()
		a.older(c, sent.Next)
		return nil
	})
	c.Flags().StringVar(&channel, "channel", "", "only those to this channel")
	page.bind(c)
	return c
}

func (a *app) noticesAgainCommand() *cobra.Command {
	return &cobra.Command{
		Use: "again NUMBER", Short: "Send a notice once more", Args: exactly(1, "the number of a notice"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil || id < 1 {
				return usageError{fmt.Errorf("%q is not a number that vexillum notices sent shows", args[0])}
			}
			if err := cl.Do(ctx, http.MethodPost, fmt.Sprintf("/api/v1/notices/%d/again", id), nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Notice %d is on its way once more.\n", id)
			return nil
		}),
	}
}

// onCallCommand says who is told at night.
func (a *app) onCallCommand() *cobra.Command {
	c := showing(
		a, "on-call", "Say who is on call", "/api/v1/on-call",
		a.tellOnCall,
	)
	c.Long = "Says who is on call by the farm's calendar: iCalendar, whose events name people of the farm in\n" +
		"their summary or as attendees. Channels set with --on-call are told only while their person is;\n" +
		"all of them where nobody is named."
	set := &cobra.Command{
		Use: "set FILE", Short: "Set the calendar, from an iCalendar file (- reads standard input)",
		Args: exactly(1, "an iCalendar file"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			from, err := readInput(args[0], "a calendar")
			if err != nil {
				return err
			}
			if strings.TrimSpace(string(from)) == "" {
				return usageError{fmt.Errorf("%s is empty; vexillum on-call drop does away with the calendar", args[0])}
			}
			var out wire.OnCall
			if err := cl.Send(ctx, http.MethodPut, "/api/v1/on-call.ics", "text/calendar", from, &out); err != nil {
				return err
			}
			a.tellOnCall(out)
			return nil
		}),
	}
	drop := &cobra.Command{
		Use: "drop", Short: "Do away with the calendar", Args: cobra.NoArgs,
		RunE: a.asking(func(ctx context.Context, cl *client.Client, _ []string) error {
			if err := cl.Do(ctx, http.MethodDelete, "/api/v1/on-call.ics", nil, nil); err != nil {
				return err
			}
			fmt.Fprintln(a.out, "There is no calendar any more; all channels with --on-call are told.")
			return nil
		}),
	}
	c.AddCommand(set, drop)
	return c
}

func (a *app) tellOnCall(v wire.OnCall) {
	now := time.Now()
	switch {
	case !v.There:
		fmt.Fprintln(a.out, "There is no calendar of who is on call; vexillum on-call set FILE sets one.")
		return
	case len(v.Now) == 0:
		fmt.Fprintln(a.out, "Nobody is named to be on call now; all channels with --on-call are told.")
	case len(v.Now) == 1:
		fmt.Fprintf(a.out, "%s is on call now.\n", v.Now[0])
	default:
		fmt.Fprintf(a.out, "%s are on call now.\n", strings.Join(v.Now, " and "))
	}
	if len(v.Turns) == 0 {
		return
	}
	t := newTable(a.out, "who", zoned("from"), zoned("until"))
	for _, turn := range v.Turns {
		t.add(turn.Person, clock(turn.From, now), clock(turn.To, now))
	}
	t.print()
}
