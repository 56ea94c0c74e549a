package client

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestWhyNoServiceAnswers meets each of the usual reasons for real, but for
// those that need another network.
func TestWhyNoServiceAnswers(t *testing.T) {
	secure := httptest.NewTLSServer(http.NotFoundHandler())
	defer secure.Close()
	plain := httptest.NewServer(http.NotFoundHandler())
	defer plain.Close()
	mute, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer mute.Close()
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	closed.Close()
	for address, says := range map[string]string{
		secure.URL: "its certificate is signed by nobody this machine trusts",
		"https://" + plain.Listener.Addr().String(): "it does not speak TLS; write http://",
		"http://" + mute.Addr().String():            "nobody answered; the machine sleeps or is off",
		"http://" + closed.Addr().String():          "nothing listens there",
		"http://farm.invalid:7420":                  "the name farm.invalid is not known",
		plain.URL:                                   "not a Vexillum service",
	} {
		c, err := New(address, "")
		if err != nil {
			t.Fatal(err)
		}
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		err = c.Do(ctx, http.MethodGet, "/healthz", nil, nil)
		cancel()
		if err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v, want %q", address, err, says)
		}
	}
	for _, c := range []struct {
		err  error
		says string
	}{
		{fmt.Errorf("dial tcp 10.9.8.7:7420: connect: %w", syscall.EHOSTUNREACH), "the right network segment"},
		{fmt.Errorf("dial tcp 10.9.8.7:7420: connect: %w", syscall.ENETUNREACH), "the right network segment"},
		{errors.New("something else"), "something else"},
	} {
		if got := (&UnreachableError{Address: "http://farm:7420", Err: c.err}).Error(); !strings.Contains(got, c.says) {
			t.Errorf("%v: %s", c.err, got)
		}
	}
}
