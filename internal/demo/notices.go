package demo

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"vexillum/internal/wire"
)

// onCall is a calendar by which nadia is on call on working nights, and tobin at weekends.
func onCall(now time.Time) string {
	monday := now.UTC().AddDate(0, 0, -(int(now.UTC().Weekday())+6)%7)
	day := func(days int) string { return monday.AddDate(0, 0, days-7).Format("20060102") }
	event := func(uid, who, from, to, days string) string {
		return "BEGIN:VEVENT\r\nUID:" + uid + "@pellmarsh.example\r\nDTSTAMP:" + day(0) + "T000000Z\r\nSUMMARY:On call: " +
			who + "\r\nDTSTART:" + from + "\r\nDTEND:" + to + "\r\nRRULE:FREQ=WEEKLY;BYDAY=" + days + "\r\nEND:VEVENT\r\n"
	}
	return "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Pellmarsh//on call//EN\r\n" +
		event("nights", "nadia", day(0)+"T180000Z", day(1)+"T080000Z", "MO,TU,WE,TH,FR") +
		event("weekends", "tobin", day(5)+"T080000Z", day(7)+"T180000Z", "SA") + "END:VCALENDAR\r\n"
}

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
	var set wire.OnCall
	err = f.admin.Send(
		ctx, http.MethodPut, "/api/v1/on-call.ics", "text/calendar", []byte(onCall(time.Now())), &set,
	)
	if err != nil {
		return fail(err)
	}
	return nil
}
