package api

import (
	"encoding/json"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync"
	"time"

	"vexillum/internal/wire"
)

// forwardedBy tells that a request came through a service that stands by. It
// is not handed on again, so that no request goes round in circles.
const forwardedBy = "Vexillum-Forwarded-By"

// forwarder hands requests to the active service.
type forwarder struct {
	mu        sync.Mutex
	to        map[string]*httputil.ReverseProxy
	transport *http.Transport
	name      string
	log       *slog.Logger
}

func newForwarder(name string, log *slog.Logger) *forwarder {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.DialContext = (&net.Dialer{Timeout: 2 * time.Second}).DialContext
	t.MaxIdleConnsPerHost = 256
	// Long polls answer within maxWait; what takes longer has lost its line.
	t.ResponseHeaderTimeout = maxWait + 15*time.Second
	return &forwarder{to: map[string]*httputil.ReverseProxy{}, transport: t, name: name, log: log}
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
			r.SetXForwarded()
			r.Out.Header.Set(forwardedBy, f.name)
		},
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
			if r.Context().Err() == nil {
				f.log.Warn("handing a request on failed", "to", address, "error", err)
			}
			away(w, "the active service at "+address+" does not answer; another takes over within seconds, try once more in a moment")
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
		away(w, "the active service is changing just now; try once more in a moment")
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
	body, err := json.Marshal(wire.Problem{Type: "about:blank", Title: http.StatusText(http.StatusServiceUnavailable), Status: http.StatusServiceUnavailable, Detail: detail})
	if err != nil {
		body = nil
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.Header().Set("Retry-After", "1")
	w.WriteHeader(http.StatusServiceUnavailable)
	_, _ = w.Write(body)
}
