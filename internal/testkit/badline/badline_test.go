package badline

import (
	"bufio"
	"errors"
	"net"
	"os"
	"testing"
	"time"
)

// echo answers every line with itself.
func echo(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				for s := bufio.NewScanner(c); s.Scan(); {
					_, _ = c.Write([]byte(s.Text() + "\n"))
				}
			}()
		}
	}()
	return l.Addr().String()
}

// say sends a line and returns the answer, or the error when none came.
func say(c net.Conn, limit time.Duration) (string, error) {
	_ = c.SetDeadline(time.Now().Add(limit))
	if _, err := c.Write([]byte("hello\n")); err != nil {
		return "", err
	}
	return bufio.NewReader(c).ReadString('\n')
}

func dial(t *testing.T, l *Line) net.Conn {
	t.Helper()
	c, err := net.Dial("tcp", l.Address())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = c.Close() })
	return c
}

func TestLine(t *testing.T) {
	l, err := New(echo(t))
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	c := dial(t, l)
	if got, err := say(c, 5*time.Second); err != nil || got != "hello\n" {
		t.Fatalf("a line that is well said %q, %v", got, err)
	}
	l.Slow(100 * time.Millisecond)
	began := time.Now()
	if _, err := say(c, 5*time.Second); err != nil || time.Since(began) < 200*time.Millisecond {
		t.Errorf("a slow line took %v, %v", time.Since(began), err)
	}
	l.HalfOpen()
	if got, err := say(c, 300*time.Millisecond); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("a half-open line said %q, %v", got, err)
	}
	l.Mend()
	if got, err := say(c, 5*time.Second); err == nil {
		t.Errorf("a connection that swallowed something went on: %q", got)
	}
	if _, err := say(dial(t, l), 5*time.Second); err != nil {
		t.Errorf("the mended line: %v", err)
	}
	c = dial(t, l)
	l.Cut()
	if got, err := say(c, 5*time.Second); err == nil || errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("a cut line said %q, %v", got, err)
	}
	if got, err := say(dial(t, l), 5*time.Second); err == nil {
		t.Errorf("a new connection over a cut line said %q", got)
	}
}
