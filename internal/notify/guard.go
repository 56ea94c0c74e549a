// Package notify sends messages to people and programs outside the farm: webhooks after the
// Standard Webhooks specification, and e-mail. It knows neither who is to be told nor what
// has happened, and nothing of the farm.
package notify

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"syscall"
	"time"
)

// Guard keeps messages from being sent inward: to this machine and to networks that only
// machines inside reach. Somebody who may say where notices go could else have the service
// ask what they may not.
type Guard struct {
	Allowed []netip.Prefix // that are sent to all the same
}

// ParseGuard reads the addresses and networks that are allowed, such as 10.1.0.0/16 or
// 127.0.0.1.
func ParseGuard(allowed []string) (g Guard, err error) {
	for _, text := range allowed {
		p, err := netip.ParsePrefix(text)
		if err != nil {
			a, wrong := netip.ParseAddr(text)
			if wrong != nil {
				return g, fmt.Errorf("%q is neither an address nor a network such as 10.1.0.0/16", text)
			}
			p = netip.PrefixFrom(a, a.BitLen())
		}
		g.Allowed = append(g.Allowed, p.Masked())
	}
	return g, nil
}

// shared are networks besides those that netip knows which are not the world's.
var shared = []netip.Prefix{
	netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("192.0.0.0/24"),
	netip.MustParsePrefix("198.18.0.0/15"), netip.MustParsePrefix("240.0.0.0/4"), netip.MustParsePrefix("64:ff9b::/96"),
	netip.MustParsePrefix("64:ff9b:1::/48"), netip.MustParsePrefix("2002::/16"),
	// Further spellings of IPv4 in IPv6, and networks of one site or of tunnels.
	netip.MustParsePrefix("::/96"), netip.MustParsePrefix("::ffff:0:0:0/96"), netip.MustParsePrefix("fec0::/10"),
	netip.MustParsePrefix("2001::/32"), netip.MustParsePrefix("100::/64"), netip.MustParsePrefix("5f00::/16"),
}

// Refuses reports whether an address points inward and is not allowed.
func (g Guard) Refuses(a netip.Addr) bool {
	a = a.Unmap().WithZone("")
	in := func(p netip.Prefix) bool { return p.Contains(a) }
	if slices.ContainsFunc(g.Allowed, in) {
		return false
	}
	return !a.IsValid() || a.IsLoopback() || a.IsPrivate() || a.IsLinkLocalUnicast() || a.IsMulticast() ||
		a.IsUnspecified() || slices.ContainsFunc(shared, in)
}

// ErrInward is the reason for which an address is refused.
var ErrInward = errors.New("it points inward, to this machine or its own network; whoever runs the service can allow " +
	"that with serve --notices-inward")

// control refuses a connection before it is made, whatever the name stood for before.
func (g Guard) control(_, address string, _ syscall.RawConn) error {
	a, err := netip.ParseAddrPort(address)
	if err != nil {
		return fmt.Errorf("%q is not an address: %w", address, err)
	}
	if g.Refuses(a.Addr()) {
		return ErrInward
	}
	return nil
}

// resolveWithin bounds how long a name is looked up when an address is set.
const resolveWithin = 3 * time.Second

// CheckURL says what is wrong with the address of a webhook. A name that nobody knows just
// now is taken.
func (g Guard) CheckURL(ctx context.Context, text string) error {
	u, err := url.Parse(text)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http":
		return errors.New("a webhook goes to an address such as https://chat.example/hooks/farm")
	case u.User != nil:
		return errors.New("an address with a name or password in it is not taken; messages are signed instead")
	case u.Fragment != "":
		return fmt.Errorf("what follows # in the address is never sent; leave it out")
	}
	if a, err := netip.ParseAddr(strings.Trim(u.Hostname(), "[]")); err == nil {
		if g.Refuses(a) {
			return ErrInward
		}
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, resolveWithin)
	defer cancel()
	found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", u.Hostname())
	if err != nil {
		return nil // it may be known when something is sent
	}
	if slices.ContainsFunc(found, g.Refuses) {
		return ErrInward
	}
	return nil
}
