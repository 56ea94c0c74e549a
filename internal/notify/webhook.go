package notify

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
)

// Answer is what came back for a message.
type Answer struct {
	Taken bool   // it has arrived
	Gone  bool   // nothing more is to be sent there
	Text  string // in a few words
}

// Webhooks sends messages over HTTP. Use NewWebhooks.
type Webhooks struct {
	client  *http.Client
	version string
}

// sendWithin bounds one try to send something.
const sendWithin = 10 * time.Second

// NewWebhooks returns a sender that keeps to a guard. version is told to receivers.
func NewWebhooks(g Guard, version string) *Webhooks {
	dialer := &net.Dialer{Timeout: 5 * time.Second, Control: g.control}
	return &Webhooks{version: version, client: &http.Client{
		Timeout: sendWithin,
		Transport: &http.Transport{
			DialContext: dialer.DialContext, MaxIdleConnsPerHost: 2, IdleConnTimeout: 30 * time.Second,
			TLSHandshakeTimeout: 5 * time.Second, ResponseHeaderTimeout: sendWithin, MaxResponseHeaderBytes: 64 << 10,
		},
		// What a receiver sends on to somewhere else is not followed: only they who set the
		// address say where notices go.
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}
}

// mostAnswer bounds what is read of an answer, in bytes.
const mostAnswer = 512

// Send sends a message once. id is the same each time that it is tried, so that who has
// taken it can know.
func (w *Webhooks) Send(ctx context.Context, to, secret, id string, payload []byte, at time.Time) Answer {
	signer, err := standardwebhooks.NewWebhook(secret)
	if err != nil {
		return Answer{Text: "it cannot be signed: " + err.Error()}
	}
	signature, err := signer.Sign(id, at, payload)
	if err != nil {
		return Answer{Text: "it cannot be signed: " + err.Error()}
	}
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, to, bytes.NewReader(payload))
	if err != nil {
		return Answer{Text: err.Error()}
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("User-Agent", "Vexillum/"+w.version)
	req.Header.Set(standardwebhooks.HeaderWebhookID, id)
	req.Header.Set(standardwebhooks.HeaderWebhookTimestamp, strconv.FormatInt(at.Unix(), 10))
	req.Header.Set(standardwebhooks.HeaderWebhookSignature, signature)
	resp, err := w.client.Do(req)
	if err != nil {
		return Answer{Text: reason(err)}
	}
	defer func() { _ = resp.Body.Close() }()
	body, _ := io.ReadAll(io.LimitReader(resp.Body, mostAnswer))
	text := resp.Status
	if said := strings.TrimSpace(strings.ToValidUTF8(string(body), "")); said != "" && resp.StatusCode >= 400 {
		text += ": " + strings.Join(strings.Fields(said), " ")
	}
	switch {
	case resp.StatusCode >= 200 && resp.StatusCode < 300:
		return Answer{Taken: true, Text: text}
	case resp.StatusCode >= 300 && resp.StatusCode < 400:
		return Answer{Text: text + ": it sends on to somewhere else, which is not followed"}
	case resp.StatusCode == http.StatusGone:
		return Answer{Gone: true, Text: text}
	}
	return Answer{Text: text}
}

// reason says why nothing came back.
func reason(err error) string {
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		if wrapped.Timeout() {
			return fmt.Sprintf("no answer within %s", sendWithin)
		}
		err = wrapped.Err
	}
	return plainly(err)
}

// plainly says what went wrong without telling of the network inside: which name server was
// asked is nobody's business who may only say where notices go.
func plainly(err error) string {
	var dns *net.DNSError
	var op *net.OpError
	switch {
	case errors.As(err, &dns) && dns.IsNotFound:
		return fmt.Sprintf("the name %s is not known", dns.Name)
	case errors.As(err, &dns):
		return fmt.Sprintf("the name %s could not be looked up", dns.Name)
	case errors.Is(err, ErrInward):
		return ErrInward.Error()
	case errors.As(err, &op) && op.Err != nil && op.Op == "dial":
		return "no connection: " + op.Err.Error()
	}
	return err.Error()
}
