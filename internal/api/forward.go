package api

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"vexillum/internal/wire"
)

// forwardedBy reports that a request came through a service that stands by. It
// is not handed on again, so that no request goes round in circles.
const forwardedBy = "Vexillum-Forwarded-By"

// forwarder hands requests to the active service.
type forwarder struct {
	mu        sync.Mutex
	to        map[string]*httputil.ReverseProxy
	transport *http.Transport
	name      string
	secret    func(context.Context) (string, error) // that the services share
	log       *slog.Logger
}

func newForwarder(name string, log *slog.Logger, secret func(context.Context) (string, error)) *forwarder {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.DialContext = (&net.Dialer{Timeout: 2 * time.Second}).DialContext
	t.MaxIdleConnsPerHost = 256
	// Long polls answer within maxWait; what takes longer has lost its line.
	t.ResponseHeaderTimeout = maxWait + 15*time.Second
	return &forwarder{to: map[string]*httputil.ReverseProxy{}, transport: t, name: name, secret: secret, log: log}
}

// forwardedFor carries the address of who sent a request to a service that
// stands by: address, seconds since 1970, and a proof by the secret that the
// services share. Anything else in it counts for nothing.
const forwardedFor = "Vexillum-Forwarded-For"

// vouchedFor is how long a proof counts. Clocks of services may differ a little.
const vouchedFor = 2 * time.Minute

// vouch returns the header that says for whom a request is handed on.
func (f *forwarder) vouch(r *http.Request, now time.Time) (string, error) {
	secret, err := f.secret(r.Context())
	if err != nil {
		return "", err
	}
	address, at := remote(r), strconv.FormatInt(now.Unix(), 10)
	return strings.Join([]string{address, at, proof(secret, address, at, r)}, " "), nil
}

func proof(secret, address, at string, r *http.Request) string {
	mac := hmac.New(sha256.New, []byte(secret))
	fmt.Fprintf(mac, "%s\n%s\n%s\n%s", address, at, r.Method, r.URL.RequestURI())
	return hex.EncodeToString(mac.Sum(nil))
}

// remote returns the address of who sent a request, without the port.
func remote(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return host
}

// addressOf returns the address of who has sent a request, also one that another
// service of the farm has handed on.
func (s *Server) addressOf(r *http.Request) string {
	parts := strings.Fields(r.Header.Get(forwardedFor))
	if len(parts) != 3 {
		return remote(r)
	}
	at, err := strconv.ParseInt(parts[1], 10, 64)
	if err != nil || time.Since(time.Unix(at, 0)).Abs() > vouchedFor {
		return remote(r)
	}
	secret, err := s.forward.secret(r.Context())
	if err != nil || !hmac.Equal([]byte(parts[2]), []byte(proof(secret, parts[0], parts[1], r))) {
		return remote(r)
	}
	return parts[0]
}

// proxy returns the way to a service at an address.
func (f *forwarder) proxy(address string) *httputil.ReverseProxy {
	f.mu.Lock()
	defer f.mu.Unlock()
	if p := f.to[address]; p != nil {
		return p
	}
	target, err := url.Parse(address)
	if err != nil {
		return nil
	}
	p := &httputil.ReverseProxy{
		Transport:     f.transport,
		FlushInterval: -1, // streams flow on
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(target)
			r.Out.Host = r.In.Host // what a browser's Origin is compared with
			r.Out.Header.Set(forwardedBy, f.name)
			r.Out.Header.Del(forwardedFor)
			if from, err := f.vouch(r.In, time.Now()); err == nil {
				r.Out.Header.Set(forwardedFor, from)
			} else {
				f.log.Warn("the address of a request that is passed on cannot be vouched for", "error", err)
			}
		},
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
			if r.Context().Err() == nil {
				f.log.Warn("handing a request on failed", "to", address, "error", err)
			}
			away(
				w,
				"the active service at "+address+" does not answer; another takes over within seconds, try again "+
					"in a moment",
			)
		},
		ErrorLog: slog.NewLogLogger(f.log.Handler(), slog.LevelWarn),
	}
	f.to[address] = p
	return p
}

// handOn hands a request to the active service while this one stands by, and
// reports whether it did. What every service answers by itself stays here.
func (s *Server) handOn(w http.ResponseWriter, r *http.Request) (done bool) {
	if !strings.HasPrefix(r.URL.Path, "/api/") && !strings.HasPrefix(r.URL.Path, "/node/") {
		return false
	}
	address, known := s.svc.Elsewhere()
	if !known {
		return false
	}
	if r.Header.Get(forwardedBy) != "" {
		away(w, "the active service is changing just now; try again in a moment")
		return true
	}
	p := s.forward.proxy(address)
	if p == nil {
		return false
	}
	defer func() { // the way ReverseProxy says that a stream was cut off
		if v := recover(); v != nil {
			if err, ok := v.(error); !ok || !errors.Is(err, http.ErrAbortHandler) {
				s.log.Error("handing a request on panicked", "panic", v)
			}
			panic(http.ErrAbortHandler)
		}
	}()
	p.ServeHTTP(w, r)
	return true
}

// away answers that the request can be tried again soon.
func away(w http.ResponseWriter, detail string) {
	p := wire.ProblemOf(http.StatusServiceUnavailable, wire.ProblemLoading)
	p.Detail = detail
	body, err := json.Marshal(p)
	if err != nil {
		body = nil
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.Header().Set("Retry-After", "1")
	w.WriteHeader(http.StatusServiceUnavailable)
	_, _ = w.Write(body)
}
