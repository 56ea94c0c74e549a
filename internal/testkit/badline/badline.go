// Package badline is a line of TCP on loopback that can be cut, slowed and
// left half open, for tests and for the chaos harness alone. It knows nothing
// of what crosses it.
package badline

import (
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"
)

// Line passes connections on to a target while it is well.
type Line struct {
	listener net.Listener
	target   string

	mu    sync.Mutex
	cut   bool
	dead  bool          // nothing passes, and nobody is told
	delay time.Duration // of everything that passes
	woken chan struct{} // closed when the line changes
	pairs map[net.Conn]net.Conn
	wg    sync.WaitGroup
}

// New starts a line to the target address.
func New(target string) (*Line, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("starting a line: %w", err)
	}
	l := &Line{listener: listener, target: target, woken: make(chan struct{}), pairs: map[net.Conn]net.Conn{}}
	l.wg.Go(l.accept)
	return l, nil
}

// Address returns where the line begins.
func (l *Line) Address() string { return l.listener.Addr().String() }

// Cut ends all connections and refuses new ones.
func (l *Line) Cut() {
	l.change(func() {
		l.cut = true
		l.hangUp()
	})
}

// HalfOpen lets nothing pass any more without telling either end, as when a
// cable is pulled.
func (l *Line) HalfOpen() { l.change(func() { l.dead = true }) }

// Slow delays everything that passes.
func (l *Line) Slow(by time.Duration) { l.change(func() { l.delay = by }) }

// Mend makes the line well. Connections that were half open end: what they
// swallowed is lost.
func (l *Line) Mend() {
	l.change(func() {
		if l.dead {
			l.hangUp()
		}
		l.cut, l.dead, l.delay = false, false, 0
	})
}

// Close ends the line.
func (l *Line) Close() {
	_ = l.listener.Close()
	l.Cut()
	l.wg.Wait()
}

func (l *Line) change(how func()) {
	l.mu.Lock()
	defer l.mu.Unlock()
	how()
	close(l.woken)
	l.woken = make(chan struct{})
}

func (l *Line) hangUp() {
	for a, b := range l.pairs {
		_ = a.Close()
		_ = b.Close()
	}
}

func (l *Line) accept() {
	for {
		from, err := l.listener.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			time.Sleep(10 * time.Millisecond)
			continue
		}
		l.wg.Go(func() { l.connect(from) })
	}
}

func (l *Line) connect(from net.Conn) {
	defer from.Close()
	l.mu.Lock()
	cut := l.cut
	l.mu.Unlock()
	if cut {
		return
	}
	to, err := net.DialTimeout("tcp", l.target, 2*time.Second)
	if err != nil {
		return
	}
	defer to.Close()
	l.mu.Lock()
	if l.cut {
		l.mu.Unlock()
		return
	}
	l.pairs[from] = to
	l.mu.Unlock()
	defer func() {
		l.mu.Lock()
		delete(l.pairs, from)
		l.mu.Unlock()
	}()
	var both sync.WaitGroup
	both.Go(func() { l.pass(to, from) })
	both.Go(func() { l.pass(from, to) })
	both.Wait()
}

// pass copies one direction. The end of it ends the connection.
func (l *Line) pass(to, from net.Conn) {
	defer to.Close()
	defer from.Close()
	buf := make([]byte, 32<<10)
	for {
		n, err := from.Read(buf)
		if n > 0 && !l.wait() {
			return
		}
		if n > 0 {
			if _, err := to.Write(buf[:n]); err != nil {
				return
			}
		}
		if err != nil {
			if !errors.Is(err, io.EOF) {
				return
			}
			l.wait() // the end, too, does not cross a dead line
			return
		}
	}
}

// wait lets data pass, late or never. It returns false when the line was cut
// or mended in the meantime: what waited is lost.
func (l *Line) wait() bool {
	l.mu.Lock()
	dead, cut, delay, woken := l.dead, l.cut, l.delay, l.woken
	l.mu.Unlock()
	if cut {
		return false
	}
	if dead {
		<-woken
		return false
	}
	if delay > 0 {
		time.Sleep(delay)
	}
	return true
}
