package api

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"vexillum/internal/wire"
)

// TestManyGuessesCostLittle lets very many sign in at once under names that
// nobody has: only a few passwords are looked at in the same moment, and names
// that are far too long are not kept.
func TestManyGuessesCostLittle(t *testing.T) {
	g := newGate()
	var mu sync.Mutex
	var now, most, busy int
	var wg sync.WaitGroup
	for range 400 {
		wg.Go(func() {
			err := g.hash(t.Context(), func() error {
				mu.Lock()
				now++
				most = max(most, now)
				mu.Unlock()
				time.Sleep(time.Millisecond)
				mu.Lock()
				now--
				mu.Unlock()
				return nil
			})
			if errors.Is(err, errBusy) {
				mu.Lock()
				busy++
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	if most > hashesAtOnce || busy > 400-hashesWait {
		t.Errorf("%d passwords were looked at in the same moment, %d were sent away", most, busy)
	}
	w := newWorld(t)
	for _, name := range []string{strings.Repeat("x", 900_000), strings.Repeat("x", 200), "", "a\nb"} {
		begin := time.Now()
		status, _ := w.call("", "POST", "/api/v1/session", wire.SignIn{Name: name, Password: "guess"})
		if status < 400 || status >= 500 || time.Since(begin) > time.Second {
			t.Errorf("a name of %d characters: %d after %v", len(name), status, time.Since(begin))
		}
	}
	s := w.server.Config.Handler.(*Server)
	s.gate.mu.Lock()
	defer s.gate.mu.Unlock()
	for key := range s.gate.pairs {
		if len(key) > 200 {
			t.Errorf("a name of %d characters is kept", len(key))
		}
	}
}

// TestTheRightPasswordIsNotRefused guesses at a name from one address, and
// under many names from another where somebody has signed in before.
func TestTheRightPasswordIsNotRefused(t *testing.T) {
	g := newGate()
	at := time.Date(2031, 3, 4, 5, 6, 7, 0, time.UTC)
	for range 1000 {
		g.turnedAway("192.0.2.1", "admin", at)
	}
	if g.may("192.0.2.1", "admin") {
		t.Error("guesses at one name go on for ever")
	}
	if !g.may("192.0.2.2", "admin") {
		t.Error("guesses from one address shut the name for another")
	}
	g.passed("192.0.2.3", "nadia")
	for i := range 1000 {
		g.turnedAway("192.0.2.3", fmt.Sprint("guess", i), at)
	}
	if g.may("192.0.2.3", "somebody") {
		t.Error("guesses under many names go on for ever")
	}
	if !g.may("192.0.2.3", "nadia") {
		t.Error("who has signed in from there is refused for the guesses of others")
	}
	if n := g.turnedAway("192.0.2.4", "admin", at); n != 1 {
		t.Errorf("the first failure puts %d on record", n)
	}
	for range 9 {
		if n := g.turnedAway("192.0.2.4", "admin", at); n != 0 {
			t.Errorf("a further one in the same minute puts %d on record", n)
		}
	}
	if n := g.turnedAway("192.0.2.4", "admin", at.Add(time.Minute)); n != 10 {
		t.Errorf("a minute later %d are put on record, want 10", n)
	}
}

func TestFailedSignInsAreOnRecord(t *testing.T) {
	w := newWorld(t)
	w.call("", "POST", "/api/v1/session", wire.SignIn{Name: "admin", Password: "a guess"})
	var audit []wire.AuditLine
	w.must("GET", "/api/v1/audit?limit=20", nil, &audit)
	if !strings.Contains(fmt.Sprint(audit), "fail") || !strings.Contains(fmt.Sprint(audit), "127.0.0.1") {
		t.Errorf("the audit record does not tell of it: %+v", audit)
	}
	if strings.Contains(fmt.Sprint(audit), "a guess") {
		t.Error("the audit record holds what was guessed")
	}
}

// TestAHalfSentBodyIsCutOff sends the head of a request and never its body.
func TestAHalfSentBodyIsCutOff(t *testing.T) {
	ended := make(chan error, 1)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		timed(w, r, 100*time.Millisecond)
		_, err := io.ReadAll(r.Body)
		ended <- err
	}))
	defer server.Close()
	line, err := net.Dial("tcp", server.Listener.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer line.Close()
	fmt.Fprintf(line, "POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 100\r\n\r\n{")
	select {
	case err := <-ended:
		if err == nil {
			t.Error("half a body was taken for a whole one")
		}
	case <-time.After(10 * time.Second):
		t.Error("whoever sends half a body is waited for")
	}
	g := newGate()
	for range bodiesOfOne {
		if _, ok := g.enter("192.0.2.1"); !ok {
			t.Fatal("a stranger is refused early")
		}
	}
	if _, ok := g.enter("192.0.2.1"); ok {
		t.Error("one address may send bodies without end")
	}
	if leave, ok := g.enter("192.0.2.2"); !ok {
		t.Error("another is refused for it")
	} else {
		leave()
	}
}

// TestNobodyForgesAnAddress hands requests on as a stand-by does, and as
// somebody who would like to be taken for another.
func TestNobodyForgesAnAddress(t *testing.T) {
	w := newWorld(t)
	s := w.server.Config.Handler.(*Server)
	request := func() *http.Request {
		r := httptest.NewRequest("POST", "/api/v1/session", nil)
		r.RemoteAddr = "192.0.2.9:1234"
		return r
	}
	original := request()
	original.RemoteAddr = "198.51.100.7:99"
	good, err := s.forward.vouch(original, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	old, err := s.forward.vouch(original, time.Now().Add(-time.Hour))
	if err != nil {
		t.Fatal(err)
	}
	parts := strings.Fields(good)
	for header, want := range map[string]string{
		good:                                   "198.51.100.7",
		old:                                    "192.0.2.9",
		"198.51.100.7":                         "192.0.2.9",
		"1.2.3.4 " + parts[1] + " " + parts[2]: "192.0.2.9",
		parts[0] + " " + strconv.FormatInt(time.Now().Unix()+5, 10) + " " + parts[2]: "192.0.2.9",
		parts[0] + " " + parts[1] + " " + strings.Repeat("0", len(parts[2])):         "192.0.2.9",
		strings.Repeat("x ", 3): "192.0.2.9",
	} {
		r := request()
		r.Header.Set(forwardedFor, header)
		r.Header.Set("X-Forwarded-For", "203.0.113.5")
		if got := s.addressOf(r); got != want {
			t.Errorf("%q: taken for %s, want %s", header, got, want)
		}
	}
}

func TestWithTLSBrowsersStayWithIt(t *testing.T) {
	w := newWorld(t)
	s := w.server.Config.Handler.(*Server)
	for _, secure := range []bool{false, true} {
		s.secure = secure
		resp, err := http.Get(w.server.URL + "/healthz")
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if got := resp.Header.Get("Strict-Transport-Security"); (got != "") != secure {
			t.Errorf("with TLS %v: %q", secure, got)
		}
	}
}

// TestAStreamEndsWithItsToken takes the rights of those who listen away, each in
// another way.
func TestAStreamEndsWithItsToken(t *testing.T) {
	w := newWorld(t)
	listen := func(name string) (token string, ended chan time.Time) {
		token = w.signIn(name)
		req, _ := http.NewRequest("GET", w.server.URL+"/api/v1/events", nil)
		req.Header.Set("Authorization", "Bearer "+token)
		resp, err := http.DefaultClient.Do(req.WithContext(t.Context()))
		if err != nil || resp.StatusCode != http.StatusOK {
			t.Fatalf("%v %v", resp, err)
		}
		ended = make(chan time.Time, 1)
		go func() {
			defer resp.Body.Close()
			_, _ = io.Copy(io.Discard, resp.Body)
			ended <- time.Now()
		}()
		return token, ended
	}
	ends := func(what string, ended chan time.Time, act func()) {
		t.Helper()
		begin := time.Now()
		act()
		select {
		case at := <-ended:
			if took := at.Sub(begin); took > 5*time.Second {
				t.Errorf("%s: the stream went on for %v", what, took)
			}
		case <-time.After(10 * time.Second):
			t.Errorf("%s: the stream goes on", what)
		}
	}
	token, ended := listen("viewer")
	ends("signing out", ended, func() {
		if status, body := w.call(token, "DELETE", "/api/v1/session", nil); status >= 300 {
			t.Fatalf("%d %s", status, body)
		}
	})
	_, ended = listen("artist")
	ends("a new password", ended, func() {
		w.must("PATCH", "/api/v1/people/artist", wire.PersonChange{Password: testPassword + "x"}, nil)
	})
	_, ended = listen("viewer")
	ends("removal", ended, func() { w.must("DELETE", "/api/v1/people/viewer", nil, nil) })
}
