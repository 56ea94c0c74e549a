// Package standin takes the place of what notices are sent to outside the farm, for the demo
// and for tests: a receiver of webhooks that checks their signatures, and a mail server that
// keeps what it is given. Both listen on loopback alone, send nothing on, and can be made to
// behave badly.
package standin

import (
	"bytes"
	"crypto/tls"
	"fmt"
	"html/template"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/mail"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
)

// Message is something that has arrived.
type Message struct {
	At      time.Time
	ID      string // webhook-id or Message-ID
	Genuine bool   // of a webhook: its signature is right
	Title   string
	Text    string // the payload, or the plain part of a mail
	HTML    string // of a mail
	Picture int    // bytes of the picture in a mail
}

// Mode is how a stand-in behaves.
type Mode string

// Ways to behave.
const (
	Well     Mode = ""
	Slow     Mode = "slow"     // never answers
	Failing  Mode = "failing"  // 500, or a temporary error
	Sending  Mode = "sending"  // sends on to somewhere else
	Leaving  Mode = "leaving"  // 410: nothing more, please
	Refusing Mode = "refusing" // 400
)

// Receiver is both stand-ins. Use Start.
type Receiver struct {
	mu       sync.Mutex
	mode     Mode
	secret   string
	anyClock bool
	messages []Message
	tries    int

	web  net.Listener
	post net.Listener
	http *http.Server
	smtp *smtp.Server
	done sync.WaitGroup
	quit chan struct{}
}

// mostKept bounds what is kept.
const mostKept = 2000

// Start starts both on loopback, at free ports. Mail needs STARTTLS where a certificate is
// given, and is taken in the open where it is nil.
func Start(cert *tls.Certificate) (*Receiver, error) {
	r := &Receiver{quit: make(chan struct{})}
	var err error
	if r.web, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return nil, fmt.Errorf("starting the stand-in for webhooks: %w", err)
	}
	if r.post, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		_ = r.web.Close()
		return nil, fmt.Errorf("starting the stand-in for mail: %w", err)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /hook", r.hook)
	mux.HandleFunc("GET /{$}", r.page)
	mux.HandleFunc("POST /elsewhere", func(http.ResponseWriter, *http.Request) { r.keep(Message{Title: "elsewhere"}) })
	r.http = &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	r.smtp = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &letter{r: r}, nil }))
	r.smtp.Domain, r.smtp.MaxMessageBytes, r.smtp.MaxRecipients = "localhost", 8<<20, 5
	r.smtp.ReadTimeout, r.smtp.WriteTimeout = 30*time.Second, 30*time.Second
	r.smtp.ErrorLog = nobody{}
	if cert != nil {
		r.smtp.TLSConfig = &tls.Config{Certificates: []tls.Certificate{*cert}, MinVersion: tls.VersionTLS12}
	}
	r.done.Go(func() { _ = r.http.Serve(r.web) })
	r.done.Go(func() { _ = r.smtp.Serve(r.post) })
	return r, nil
}

type nobody struct{}

func (nobody) Printf(string, ...any) {}
func (nobody) Println(...any)        {}

// Stop ends both.
func (r *Receiver) Stop() {
	close(r.quit)
	_ = r.http.Close()
	_ = r.smtp.Close()
	_ = r.web.Close() // where they had not begun yet
	_ = r.post.Close()
	r.done.Wait()
}

// Hook is where webhooks are taken.
func (r *Receiver) Hook() string { return "http://" + r.web.Addr().String() + "/hook" }

// Page is where people see what has arrived.
func (r *Receiver) Page() string { return "http://" + r.web.Addr().String() + "/" }

// Mail is the address and port of the mail server.
func (r *Receiver) Mail() string { return r.post.Addr().String() }

// Behave says how to behave from now on.
func (r *Receiver) Behave(m Mode) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.mode = m
}

// Expect says with which secret webhooks are signed from now on.
func (r *Receiver) Expect(secret string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.secret = secret
}

// AnyClock lets signatures be right from now on that were made at another time than now:
// those of a service whose clock is wrong.
func (r *Receiver) AnyClock() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.anyClock = true
}

// Messages returns what has arrived, oldest first.
func (r *Receiver) Messages() []Message {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.messages)
}

// Tries returns how often something was sent, taken or not.
func (r *Receiver) Tries() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.tries
}

// tried counts a try, and returns how to behave.
func (r *Receiver) tried() (mode Mode, secret string, anyClock bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.tries++
	return r.mode, r.secret, r.anyClock
}

func (r *Receiver) keep(m Message) {
	r.mu.Lock()
	defer r.mu.Unlock()
	m.At = time.Now()
	r.messages = append(r.messages[max(0, len(r.messages)-mostKept+1):], m)
}

func (r *Receiver) hook(w http.ResponseWriter, req *http.Request) {
	mode, secret, anyClock := r.tried()
	body, err := io.ReadAll(io.LimitReader(req.Body, 1<<20))
	if err != nil {
		return
	}
	switch mode {
	case Slow:
		select {
		case <-req.Context().Done():
		case <-r.quit:
		}
		return
	case Failing:
		http.Error(w, "out of order", http.StatusInternalServerError)
		return
	case Sending:
		http.Redirect(w, req, "/elsewhere", http.StatusTemporaryRedirect)
		return
	case Leaving:
		http.Error(w, "gone", http.StatusGone)
		return
	case Refusing:
		http.Error(w, "not like this", http.StatusBadRequest)
		return
	}
	genuine := false
	if checker, err := standardwebhooks.NewWebhook(secret); err == nil && secret != "" {
		verify := checker.Verify
		if anyClock {
			verify = checker.VerifyIgnoringTimestamp
		}
		genuine = verify(body, req.Header) == nil
	}
	r.keep(Message{ID: req.Header.Get("webhook-id"), Genuine: genuine, Title: "webhook", Text: string(body)})
	w.WriteHeader(http.StatusNoContent)
}

// letter takes one mail after the other.
type letter struct{ r *Receiver }

func (l *letter) Mail(string, *smtp.MailOptions) error { return nil }
func (l *letter) Rcpt(string, *smtp.RcptOptions) error { return nil }
func (l *letter) Reset()                               {}
func (l *letter) Logout() error                        { return nil }

func (l *letter) Data(from io.Reader) error {
	switch mode, _, _ := l.r.tried(); mode {
	case Slow:
		<-l.r.quit
		return nil
	case Failing, Sending:
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "out of order"}
	case Refusing, Leaving:
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "nobody here by that name"}
	}
	m, err := mail.ReadMessage(from)
	if err != nil {
		return err
	}
	subject, err := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
	if err != nil {
		return err
	}
	got := Message{ID: m.Header.Get("Message-ID"), Title: subject}
	if err := got.read(m.Header.Get("Content-Type"), m.Header.Get("Content-Transfer-Encoding"), "", m.Body); err != nil {
		return err
	}
	l.r.keep(got)
	return nil
}

// read takes the parts of a mail.
func (m *Message) read(kind, encoding, id string, body io.Reader) error {
	of, params, err := mime.ParseMediaType(kind)
	if err != nil {
		return err
	}
	if strings.HasPrefix(of, "multipart/") {
		parts := multipart.NewReader(body, params["boundary"])
		for {
			part, err := parts.NextRawPart()
			if err == io.EOF {
				return nil
			}
			if err != nil {
				return err
			}
			h := part.Header
			if err := m.read(h.Get("Content-Type"), h.Get("Content-Transfer-Encoding"), h.Get("Content-ID"), part); err != nil {
				return err
			}
		}
	}
	if strings.EqualFold(encoding, "quoted-printable") {
		body = quotedprintable.NewReader(body)
	}
	var text bytes.Buffer
	if _, err := io.Copy(&text, body); err != nil {
		return err
	}
	switch of {
	case "text/plain":
		m.Text = text.String()
	case "text/html":
		m.HTML = text.String()
	case "image/jpeg":
		if id == "<picture>" { // RFC 2392: programs that read mail find no other
			m.Picture = text.Len()
		}
	}
	return nil
}

var pageText = template.Must(template.New("page").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><meta http-equiv="refresh" content="5"><title>What has arrived</title>
<style>body{font:14px/1.5 system-ui;margin:2rem auto;max-width:60rem;padding:0 1rem;background:#f4f1ea;color:#222}
article{border-top:1px solid #ccc;padding:.6rem 0}pre{white-space:pre-wrap;overflow-wrap:anywhere;margin:.3rem 0}
small{color:#666}</style>
<h1>What has arrived</h1><p>The stand-in of the demo for a chat and a mail server, newest first.</p>
{{range .}}<article><b>{{.Title}}</b> <small>{{.At.Format "15:04:05"}}
{{if .HTML}}by mail{{if .Picture}}, with a picture{{end}}{{else if .Genuine}}signed rightly{{else}}not signed as agreed{{end}}
</small><pre>{{.Text}}</pre></article>{{else}}<p>Nothing yet.</p>{{end}}</html>`))

func (r *Receiver) page(w http.ResponseWriter, _ *http.Request) {
	messages := r.Messages()
	slices.Reverse(messages)
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = pageText.Execute(w, messages[:min(len(messages), 100)])
}
