// Package client speaks to the service over HTTP for the command line, the
// node process and tests. It knows the shapes of internal/wire and nothing of
// what they mean.
package client

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"vexillum/internal/wire"
)

// Client calls one farm with one token. The farm may have several services;
// a client goes on to the next when one does not answer.
type Client struct {
	way     *way
	token   string
	patient time.Duration // for which requests are repeated to a service that is loading
	http    *http.Client
}

// way is which of the addresses is used now, shared by all clients of a farm.
type way struct {
	bases []*url.URL

	mu    sync.Mutex
	at    int
	left  context.Context // ends when another address is gone to
	leave context.CancelFunc
}

func newWay(bases []*url.URL) *way {
	w := &way{bases: bases}
	w.left, w.leave = context.WithCancel(context.Background())
	return w
}

// now returns the address to use and a context that ends when it is given up.
func (w *way) now() (base *url.URL, left context.Context) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.bases[w.at], w.left
}

// on gives an address up for the next. Calls that still wait at the old one
// end, so that a service that is stopped holds nobody.
func (w *way) on(from *url.URL) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.bases) == 1 || w.bases[w.at] != from {
		return // another call has gone on already
	}
	w.at = (w.at + 1) % len(w.bases)
	w.leave()
	w.left, w.leave = context.WithCancel(context.Background())
}

// UnreachableError says that the service gave no answer, and why.
type UnreachableError struct {
	Address string
	Err     error
}

// Error says which of the usual reasons it was and what to do.
func (e *UnreachableError) Error() string {
	var dns *net.DNSError
	var timeout net.Error
	var unknown x509.UnknownAuthorityError
	var host x509.HostnameError
	var invalid x509.CertificateInvalidError
	var plain tls.RecordHeaderError
	switch {
	case errors.As(e.Err, &unknown):
		return fmt.Sprintf(
			"the service %s was not reached: its certificate is signed by nobody this machine trusts; install the "+
				"studio's certificate authority on this machine",
			e.Address,
		)
	case errors.As(e.Err, &host):
		return fmt.Sprintf(
			"the service %s was not reached: its certificate is for %s; use that name", e.Address,
			strings.Join(host.Certificate.DNSNames, ", "),
		)
	case errors.As(e.Err, &invalid):
		return fmt.Sprintf(
			"the service %s was not reached: its certificate is not valid (%v); renew it, and check this "+
				"machine's clock",
			e.Address, invalid,
		)
	case errors.As(e.Err, &plain), errors.Is(e.Err, http.ErrSchemeMismatch):
		return fmt.Sprintf(
			"the service %s was not reached: it does not speak TLS; write http:// instead of https://",
			e.Address,
		)
	case noRoute(e.Err):
		return fmt.Sprintf(
			"the service %s was not reached: there is no route to it from this network; check that this machine is "+
				"in the right network segment",
			e.Address,
		)
	case errors.As(e.Err, &dns):
		return fmt.Sprintf(
			"the service %s was not reached: the name %s is not known; check the address", e.Address, dns.Name,
		)
	case refused(e.Err):
		return fmt.Sprintf(
			"the service %s was not reached: nothing listens there; start it with vexillum serve, or check the port",
			e.Address,
		)
	case errors.As(e.Err, &timeout) && timeout.Timeout():
		return fmt.Sprintf(
			"the service %s was not reached: nobody answered; the machine sleeps or is off, a firewall drops what is "+
				"sent, or it is in another network segment",
			e.Address,
		)
	}
	return fmt.Sprintf("the service %s was not reached: %v", e.Address, e.Err)
}

// Unwrap returns the cause.
func (e *UnreachableError) Unwrap() error { return e.Err }

// ErrNotVexillum says that something else answers at the address.
var ErrNotVexillum = errors.New("what answers there is not a Vexillum service; check address and port")

// New returns a client for an address such as http://127.0.0.1:7420, or for
// several, separated by commas, of services that share a farm.
func New(addresses, token string) (*Client, error) {
	var bases []*url.URL
	for address := range strings.SplitSeq(addresses, ",") {
		address = strings.TrimSpace(address)
		if !strings.Contains(address, "://") {
			address = "http://" + address
		}
		u, err := url.Parse(address)
		if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
			return nil, fmt.Errorf(
				"%q is not the address of a service; give one like http://farm.example:7420",
				address,
			)
		}
		u.Path = strings.TrimRight(u.Path, "/")
		bases = append(bases, u)
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.DialContext = (&net.Dialer{Timeout: 5 * time.Second, KeepAlive: 15 * time.Second}).DialContext
	transport.MaxIdleConnsPerHost = 16
	transport.MaxResponseHeaderBytes = 64 << 10
	return &Client{way: newWay(bases), token: token, http: &http.Client{
		Transport: transport,
		// A token or an enrolment key goes to the address that somebody named, and to no other.
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}, nil
}

// WithToken returns a client of the same service with another token.
func (c *Client) WithToken(token string) *Client {
	d := *c
	d.token = token
	return &d
}

// Patient returns a client of the same service that repeats requests for some time while the
// service is loading its records and did nothing.
func (c *Client) Patient(patience time.Duration) *Client {
	d := *c
	d.patient = patience
	return &d
}

// loadingPause is the pause before a request to a service that is loading is repeated.
const loadingPause = 500 * time.Millisecond

// Address returns the address that is used now.
func (c *Client) Address() string {
	base, _ := c.way.now()
	return base.String()
}

// InTheClear reports whether calls leave this machine without TLS.
func (c *Client) InTheClear() bool {
	return slices.ContainsFunc(c.way.bases, func(u *url.URL) bool {
		ip := net.ParseIP(u.Hostname())
		return u.Scheme == "http" && u.Hostname() != "localhost" && (ip == nil || !ip.IsLoopback())
	})
}

// Addresses returns all addresses, separated by commas, as New takes them.
func (c *Client) Addresses() string {
	var all []string
	for _, base := range c.way.bases {
		all = append(all, base.String())
	}
	return strings.Join(all, ",")
}

// request sends a request, and sends it again to the other addresses where it
// certainly was not taken. The body of the answer has to be closed.
func (c *Client) request(ctx context.Context, method, path, kind string, data []byte) (*http.Response, error) {
	for deadline := time.Now().Add(c.patient); ; {
		resp, err := c.requestOnce(ctx, method, path, kind, data)
		if err == nil || !loading(err, method) || time.Now().After(deadline) {
			return resp, err
		}
		select {
		case <-ctx.Done():
			return nil, err
		case <-time.After(loadingPause):
		}
	}
}

// loading reports whether a request failed because the service is loading its records, and can be
// repeated: it did nothing, or only reads.
func loading(err error, method string) bool {
	var p *wire.Problem
	return errors.As(err, &p) && p.Status == http.StatusServiceUnavailable &&
		(p.Code == wire.ProblemLoading || method == http.MethodGet)
}

// requestOnce sends a request to each of the addresses at most once.
func (c *Client) requestOnce(ctx context.Context, method, path, kind string, data []byte) (*http.Response, error) {
	for try := 1; ; try++ {
		base, left := c.way.now()
		resp, err := c.requestAt(ctx, left, base, method, path, kind, data)
		if err == nil {
			return resp, nil
		}
		if ctx.Err() != nil {
			if errors.Is(ctx.Err(), context.DeadlineExceeded) {
				c.way.on(base) // it may be stopped
			}
			return nil, err
		}
		var p *wire.Problem
		var dial *net.OpError
		refused := errors.As(err, &dial) && dial.Op == "dial"
		var unreachable *UnreachableError
		if !errors.As(err, &unreachable) && (!errors.As(err, &p) || p.Status != http.StatusServiceUnavailable) {
			return nil, err
		}
		c.way.on(base)
		if try >= len(c.way.bases) || !refused && method != http.MethodGet {
			return nil, err
		}
	}
}

func (c *Client) requestAt(
	ctx, left context.Context, base *url.URL, method, path, kind string, data []byte,
) (*http.Response, error) {
	var body io.Reader
	if data != nil {
		body = bytes.NewReader(data)
	}
	calling, cancel := context.WithCancel(ctx)
	unhook := context.AfterFunc(left, cancel)
	done := func() { unhook(); cancel() }
	req, err := http.NewRequestWithContext(calling, method, base.String()+path, body)
	if err != nil {
		done()
		return nil, fmt.Errorf("making the request: %w", err)
	}
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	if key, ok := ctx.Value(idempotencyKey{}).(string); ok {
		req.Header.Set("Idempotency-Key", key)
	}
	if etag, ok := ctx.Value(seen{}).(string); ok {
		req.Header.Set("If-Match", `"`+etag+`"`)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		done()
		if err := ctx.Err(); err != nil && !errors.Is(err, context.DeadlineExceeded) {
			return nil, err
		}
		return nil, &UnreachableError{Address: base.String(), Err: err}
	}
	resp.Body = &hooked{resp.Body, done}
	if resp.StatusCode >= 300 && resp.StatusCode < 400 {
		_ = resp.Body.Close()
		return nil, fmt.Errorf(
			"%s answers %s and names %.200q, which is not followed; if that is the service, give its address: %w", base,
			resp.Status, resp.Header.Get("Location"), ErrNotVexillum,
		)
	}
	if resp.StatusCode >= 400 {
		defer resp.Body.Close()
		var p wire.Problem
		data, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
		if !strings.HasPrefix(resp.Header.Get("Content-Type"), "application/problem+json") ||
			json.Unmarshal(data, &p) != nil {
			return nil, fmt.Errorf("%s answered %s: %w", base, resp.Status, ErrNotVexillum)
		}
		return nil, &p
	}
	return resp, nil
}

// hooked is a body that lets go of its call when it is closed.
type hooked struct {
	io.ReadCloser
	done func()
}

// Close implements io.Closer.
func (h *hooked) Close() error {
	defer h.done()
	return h.ReadCloser.Close()
}

// GoOn gives the address that is used now up for the next, after a call to it
// took too long.
func (c *Client) GoOn() {
	base, _ := c.way.now()
	c.way.on(base)
}

type idempotencyKey struct{}

// Repeatable returns a context whose requests carry an Idempotency-Key: sent
// twice, they are done once.
func Repeatable(ctx context.Context, key string) context.Context {
	return context.WithValue(ctx, idempotencyKey{}, key)
}

type seen struct{}

// IfSeen returns a context whose requests change only what still has the etag of what was
// seen; else they are refused.
func IfSeen(ctx context.Context, etag string) context.Context {
	return context.WithValue(ctx, seen{}, etag)
}

// Do sends in as JSON (nil: nothing) and reads the answer into out (nil: it
// is ignored). Errors are a *wire.Problem, an *UnreachableError or say that
// the answer makes no sense.
func (c *Client) Do(ctx context.Context, method, path string, in, out any) error {
	var data []byte
	kind := ""
	if in != nil {
		var err error
		if data, err = json.Marshal(in); err != nil {
			return fmt.Errorf("encoding the request: %w", err)
		}
		kind = "application/json"
	}
	return c.Send(ctx, method, path, kind, data, out)
}

// mostJSON bounds an answer in JSON, in bytes: whatever answers must not fill this machine's
// memory.
const mostJSON = 128 << 20

// bounded reads up to a number of bytes.
type bounded struct {
	from io.Reader
	left int64
}

// Read implements [io.Reader].
func (b *bounded) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, io.ErrUnexpectedEOF
	}
	n, err := b.from.Read(p[:min(int64(len(p)), b.left)])
	b.left -= int64(n)
	return n, err
}

// Send sends bytes of the given kind and reads the answer as Do does.
func (c *Client) Send(ctx context.Context, method, path, kind string, data []byte, out any) error {
	resp, err := c.request(ctx, method, path, kind, data)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if out == nil {
		_, _ = io.Copy(io.Discard, io.LimitReader(resp.Body, 1<<20))
		return nil
	}
	if !strings.HasPrefix(resp.Header.Get("Content-Type"), "application/json") {
		return fmt.Errorf("%s answered with %q: %w", c.Address(), resp.Header.Get("Content-Type"), ErrNotVexillum)
	}
	body := &bounded{from: resp.Body, left: mostJSON}
	if err := json.NewDecoder(body).Decode(out); err != nil {
		if body.left <= 0 {
			return fmt.Errorf("%s answers with more than %d bytes: %w", c.Address(), int64(mostJSON), ErrNotVexillum)
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return &UnreachableError{Address: c.Address(), Err: fmt.Errorf("the answer was cut off: %w", err)}
	}
	return nil
}

// SignIn returns a client with a token of its own for a person. The label
// says what the token is for.
func (c *Client) SignIn(ctx context.Context, name, password, label string) (*Client, wire.Me, error) {
	var me wire.Me
	err := c.Do(ctx, http.MethodPost, "/api/v1/session", wire.SignIn{Name: name, Password: password, Label: label}, &me)
	return c.WithToken(me.Token), me, err
}

// Put sends bytes of the given kind.
func (c *Client) Put(ctx context.Context, path, kind string, data []byte) error {
	return c.Send(ctx, http.MethodPut, path, kind, data, nil)
}

// Fetch writes what a path answers to w.
func (c *Client) Fetch(ctx context.Context, path string, w io.Writer) error {
	resp, err := c.request(ctx, http.MethodGet, path, "", nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if _, err := io.Copy(w, resp.Body); err != nil {
		return fmt.Errorf("fetching %s: %w", path, err)
	}
	return nil
}
