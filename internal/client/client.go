// Package client speaks to the service over HTTP for the command line, the
// node process and tests. It knows the shapes of internal/wire and nothing of
// what they mean.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"vexillum/internal/wire"
)

// Client calls one service with one token.
type Client struct {
	base  *url.URL
	token string
	http  *http.Client
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
	switch {
	case errors.As(e.Err, &dns):
		return fmt.Sprintf("the service %s was not reached: the name %s is not known; check the address", e.Address, dns.Name)
	case strings.Contains(e.Err.Error(), "connection refused"):
		return fmt.Sprintf("the service %s was not reached: nothing listens there; start it with vexillum serve, or check the port", e.Address)
	case errors.As(e.Err, &timeout) && timeout.Timeout():
		return fmt.Sprintf("the service %s was not reached: no answer came in time; check the network and that the machine is awake", e.Address)
	}
	return fmt.Sprintf("the service %s was not reached: %v", e.Address, e.Err)
}

// Unwrap returns the cause.
func (e *UnreachableError) Unwrap() error { return e.Err }

// ErrNotVexillum says that something else answers at the address.
var ErrNotVexillum = errors.New("what answers there is not a Vexillum service; check address and port")

// New returns a client for an address such as http://127.0.0.1:7420.
func New(address, token string) (*Client, error) {
	if !strings.Contains(address, "://") {
		address = "http://" + address
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is no address of a service; give one like http://farm.example:7420", address)
	}
	u.Path = strings.TrimRight(u.Path, "/")
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.DialContext = (&net.Dialer{Timeout: 5 * time.Second, KeepAlive: 15 * time.Second}).DialContext
	transport.MaxIdleConnsPerHost = 16
	return &Client{base: u, token: token, http: &http.Client{Transport: transport}}, nil
}

// WithToken returns a client of the same service with another token.
func (c *Client) WithToken(token string) *Client {
	d := *c
	d.token = token
	return &d
}

// Address returns the service's address.
func (c *Client) Address() string { return c.base.String() }

func (c *Client) request(ctx context.Context, method, path string, kind string, body io.Reader) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.base.String()+path, body)
	if err != nil {
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
	resp, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, &UnreachableError{Address: c.base.String(), Err: err}
	}
	if resp.StatusCode >= 400 {
		defer resp.Body.Close()
		var p wire.Problem
		data, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
		if !strings.HasPrefix(resp.Header.Get("Content-Type"), "application/problem+json") || json.Unmarshal(data, &p) != nil {
			return nil, fmt.Errorf("%s answered %s: %w", c.base, resp.Status, ErrNotVexillum)
		}
		return nil, &p
	}
	return resp, nil
}

type idempotencyKey struct{}

// Repeatable returns a context whose requests carry an Idempotency-Key: sent
// twice, they are done once.
func Repeatable(ctx context.Context, key string) context.Context {
	return context.WithValue(ctx, idempotencyKey{}, key)
}

// Do sends in as JSON (nil: nothing) and reads the answer into out (nil: it
// is ignored). Errors are a *wire.Problem, an *UnreachableError or say that
// the answer makes no sense.
func (c *Client) Do(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	kind := ""
	if in != nil {
		data, err := json.Marshal(in)
		if err != nil {
			return fmt.Errorf("encoding the request: %w", err)
		}
		body, kind = bytes.NewReader(data), "application/json"
	}
	resp, err := c.request(ctx, method, path, kind, body)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if out == nil {
		_, _ = io.Copy(io.Discard, io.LimitReader(resp.Body, 1<<20))
		return nil
	}
	if !strings.HasPrefix(resp.Header.Get("Content-Type"), "application/json") {
		return fmt.Errorf("%s answered with %q: %w", c.base, resp.Header.Get("Content-Type"), ErrNotVexillum)
	}
	if err := json.NewDecoder(resp.Body).Decode(out); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return &UnreachableError{Address: c.base.String(), Err: fmt.Errorf("the answer was cut off: %w", err)}
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
	resp, err := c.request(ctx, http.MethodPut, path, kind, bytes.NewReader(data))
	if err != nil {
		return err
	}
	return resp.Body.Close()
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

// Changes hands every change of the farm to use, from the given sequence
// number on, and comes back after a cut line until the context ends or use
// returns an error, which it returns. lost, if not nil, is told when the line
// is lost.
func (c *Client) Changes(ctx context.Context, after int64, use func(wire.Change) error, lost func(error)) error {
	for {
		var stop error
		err := c.stream(ctx, after, func(v wire.Change) error {
			after = v.Seq
			stop = use(v)
			return stop
		})
		var p *wire.Problem
		switch {
		case stop != nil:
			return stop
		case ctx.Err() != nil:
			return ctx.Err()
		case errors.As(err, &p) && p.Status != http.StatusServiceUnavailable:
			return err
		}
		if lost != nil {
			lost(err)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

func (c *Client) stream(ctx context.Context, after int64, use func(wire.Change) error) error {
	resp, err := c.request(ctx, http.MethodGet, fmt.Sprintf("/api/v1/events?after=%d", after), "", nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(make([]byte, 0, 64<<10), 64<<20)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var v wire.Change
		if err := json.Unmarshal([]byte(data), &v); err != nil {
			return fmt.Errorf("reading a change: %w", err)
		}
		if err := use(v); err != nil {
			return err
		}
	}
	if err := lines.Err(); err != nil {
		return &UnreachableError{Address: c.base.String(), Err: err}
	}
	return &UnreachableError{Address: c.base.String(), Err: io.ErrUnexpectedEOF}
}
