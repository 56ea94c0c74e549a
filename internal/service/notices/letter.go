package notices

import (
	"context"
	"fmt"
	"html/template"
	"strings"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/notice"
	"vexillum/internal/notify"
)

// item is a notice as a mail tells it.
type item struct {
	Title, Text, At, Link string
}

// letter writes notices as an e-mail: as plain text, and as HTML with the newest picture of
// the run where it is about one.
func (d *Desk) letter(ctx context.Context, c farm.Channel, message string, told []notice.Notice) notify.Mail {
	zone, err := time.LoadLocation(c.Quiet.Zone)
	if err != nil {
		zone = time.UTC
	}
	now := d.o.Now()
	page := struct {
		Items   []item
		Picture bool
		Channel string
	}{Channel: c.Name}
	var text strings.Builder
	for _, n := range told {
		it := item{
			Title: notice.InZone(n.Title, zone, now), Text: notice.InZone(n.Text, zone, now),
			At: n.At.In(zone).Format("Mon 2 Jan 15:04 MST"), Link: d.link(n),
		}
		page.Items = append(page.Items, it)
		for _, line := range []string{it.Title, it.Text, it.At, it.Link} {
			if line != "" {
				text.WriteString(line + "\n")
			}
		}
		text.WriteString("\n")
	}
	fmt.Fprintf(&text, "You get this by the channel %s of the render farm.\n", c.Name)
	out := notify.Mail{
		ID:      message,
		To:      c.To,
		Subject: strings.TrimSuffix(page.Items[0].Title, "."),
		Text:    text.String(),
	}
	if len(told) > 1 {
		out.Subject = fmt.Sprintf("%d notices, the first: %s", len(told), out.Subject)
	}
	if run := told[0].Run; run != 0 && len(told) == 1 {
		if picture, err := d.o.Store.Newest(ctx, run); err == nil && len(picture) > 0 {
			out.Picture, page.Picture = picture, true
		}
	}
	var html strings.Builder
	if err := letterHTML.Execute(&html, page); err != nil {
		html.Reset() // the plain text is there
	}
	out.HTML = html.String()
	return out
}

// link leads to what a notice is about; empty where nobody has said where the console is.
func (d *Desk) link(n notice.Notice) string {
	if d.o.Address == "" {
		return ""
	}
	at := strings.TrimSuffix(d.o.Address, "/")
	switch {
	case n.Run != 0:
		return fmt.Sprintf("%s/runs/%d", at, n.Run)
	case n.Node != 0:
		return fmt.Sprintf("%s/nodes/%d", at, n.Node)
	}
	return at + "/"
}

var letterHTML = template.Must(template.New("letter").Parse(`<!doctype html>
<html lang="en"><body style="margin:0;padding:24px;background:#f4f1ea;color:#26221c;font:15px/1.5 sans-serif">
<div style="max-width:560px;margin:0 auto">
{{range .Items}}<div style="border-left:3px solid #8a2f2a;background:#fff;padding:12px 16px;margin:0 0 8px">
<b>{{.Title}}</b>{{if .Text}}<br><span style="color:#5f574b">{{.Text}}</span>{{end}}
<br><small style="color:#5f574b">{{.At}}{{if .Link}} · <a href="{{.Link}}" style="color:#8a2f2a">Look at it</a>{{end}}</small>
</div>{{end}}
{{if .Picture}}<img src="cid:picture" alt="The newest frame" style="max-width:100%">{{end}}
<p><small style="color:#5f574b">You get this by the channel {{.Channel}} of the render farm.</small></p>
</div></body></html>`))
