package demo

import (
	"context"
	"fmt"
	"net/http"

	"vexillum/examples"
	"vexillum/internal/wire"
)

// notices lets the studio be told: its chat of all, and nadia of what is urgent.
func (f *Farm) notices(ctx context.Context) error {
	fail := func(err error) error { return fmt.Errorf("setting up the demo's notices: %w", err) }
	var chat wire.Channel
	err := f.admin.Do(ctx, http.MethodPut, "/api/v1/channels/studio-chat", wire.ChannelSet{
		Of: "webhook", To: f.post.Hook(),
	}, &chat)
	if err != nil {
		return fail(err)
	}
	f.post.Expect(chat.Secret)
	err = f.admin.Do(ctx, http.MethodPut, "/api/v1/channels/nadia-mail", wire.ChannelSet{
		Of: "mail", To: "nadia@pellmarsh.example", Person: Name, Events: []string{"failed", "at risk", "needs a hand"},
	}, nil)
	if err != nil {
		return fail(err)
	}
	err = f.admin.Do(ctx, http.MethodPut, "/api/v1/channels/tobin-night", wire.ChannelSet{
		Of: "mail", To: "tobin@pellmarsh.example", Person: "tobin", OnCall: true, QuietFrom: "22:00", QuietTo: "08:00",
		Urgent: true,
	}, nil)
	if err != nil {
		return fail(err)
	}
	// By which nadia is on call on working nights, and tobin at weekends.
	calendar, err := examples.Pellmarsh.ReadFile("pellmarsh/on-call.ics")
	if err != nil {
		return fail(err)
	}
	var set wire.OnCall
	if err := f.admin.Send(ctx, http.MethodPut, "/api/v1/on-call.ics", "text/calendar", calendar, &set); err != nil {
		return fail(err)
	}
	return nil
}
