// Package account decides under which account of this machine the commands of the farm
// run: renderers, and the short commands that recipes have beside them. What the machine's
// own administrator allows is set where the node process is started; nothing that a service
// sends widens it.
//
// It knows accounts and groups of the system, and nothing of leases, recipes or the service.
package account

import (
	"errors"
	"fmt"
	"os"
	"os/user"
	"slices"
	"strconv"
	"strings"
)

// Usual is the account that renderers get on a machine whose administrator names none. A
// node process that runs as root creates it where it is missing.
const Usual = "vexillum-render"

// Kinds of permits, as they are written: account=NAME and group=NAME.
const (
	permitAccount = "account="
	permitGroup   = "group="
)

// ErrRoot says that an account or a group is the one that may do everything.
var ErrRoot = errors.New("renderers never run as root")

// Identity is the account and groups that a command runs under.
type Identity struct {
	Account string // name; empty: the account of the node process, which cannot switch
	Group   string // name of the main group; empty: the account's
	UID     int
	GID     int
	Groups  []int // further groups, each allowed by the machine's administrator
	Home    string
}

// Switched reports whether the command runs under another account than the node process.
func (i Identity) Switched() bool { return i.Account != "" }

// Options is what the administrator of a machine says.
type Options struct {
	Account string   // for renderers; empty: [Usual], or the own account where that cannot be switched
	Permits []string // account=NAME and group=NAME
	AsSelf  bool     // commands run as this process does, even as root: for a person's own files
	// Create makes a system account that is missing; nil: none is made.
	Create func(name string) error
}

// Policy is what a machine allows renderers to run as. It does not change.
type Policy struct {
	usual    Identity
	apart    bool  // launches under the usual account get a number each
	accounts []int // numbers of further accounts
	groups   []int
	permits  []string
	switches bool
}

// Open reads what the administrator says. The error says what of it this machine does not
// have, or must never be allowed.
func Open(o Options) (*Policy, error) {
	p := &Policy{switches: canSwitch() && !o.AsSelf}
	for _, text := range o.Permits {
		if err := p.permit(text); err != nil {
			return nil, fmt.Errorf("--permit %s: %w", text, err)
		}
	}
	slices.Sort(p.permits)
	p.permits = slices.Compact(p.permits)
	if !p.switches {
		if o.Account != "" && !isSelf(o.Account) {
			return nil, fmt.Errorf(
				"--render-account %s: only a node process that runs as root can start renderers under another account",
				o.Account,
			)
		}
		p.usual = Identity{UID: os.Geteuid(), GID: os.Getegid()}
		return p, nil
	}
	name := o.Account
	if name == "" {
		name = Usual
	}
	u, err := lookup(name)
	if err != nil && o.Account == "" && o.Create != nil {
		if failed := o.Create(name); failed != nil {
			return nil, fmt.Errorf(
				"creating the account %s for renderers: %w; create it by hand, or name another with --render-account",
				name, failed,
			)
		}
		u, err = lookup(name)
	}
	if err != nil {
		return nil, fmt.Errorf("--render-account %s: %w", name, err)
	}
	p.usual, err = p.identity(u)
	if err != nil {
		return nil, fmt.Errorf("--render-account %s: %w", name, err)
	}
	p.apart = o.Account == "" && canKeepApart
	return p, nil
}

// Numbers of accounts and groups that launches under the usual account get: those that Linux
// systems leave for services whose account is made up when they start, and give nobody.
const (
	firstApart = 61184
	lastApart  = 65519
)

// numberOf returns the number of the account, and of its group, that a launch gets: the same for
// all launches of one lease, and another for others that run beside it.
func numberOf(launches int64) int {
	const all = lastApart - firstApart + 1
	n := firstApart + int((launches%all+all)%all)
	for range all {
		if _, err := user.LookupId(strconv.Itoa(n)); err != nil { // it is nobody's
			return n
		}
		if n++; n > lastApart {
			n = firstApart
		}
	}
	return n
}

// permit takes in one permit.
func (p *Policy) permit(text string) error {
	switch {
	case strings.HasPrefix(text, permitAccount):
		u, err := lookup(strings.TrimPrefix(text, permitAccount))
		if err != nil {
			return err
		}
		uid, err := strconv.Atoi(u.Uid)
		if err != nil {
			return fmt.Errorf("the account %s has no number here", u.Username)
		}
		if uid == 0 {
			return ErrRoot
		}
		p.accounts = append(p.accounts, uid)
	case strings.HasPrefix(text, permitGroup):
		gid, err := lookupGroup(strings.TrimPrefix(text, permitGroup))
		if err != nil {
			return err
		}
		p.groups = append(p.groups, gid)
	default:
		return errors.New("write account=NAME or group=NAME")
	}
	p.permits = append(p.permits, text)
	return nil
}

// Usual returns the name of the account that renderers get when nobody names one.
func (p *Policy) Usual() string {
	if p.usual.Account != "" {
		return p.usual.Account
	}
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return ""
}

// Permits returns the further accounts and groups that are allowed, as they are written.
func (p *Policy) Permits() []string { return slices.Clone(p.permits) }

// Switches reports whether commands can run under other accounts than the node process.
func (p *Policy) Switches() bool { return p.switches }

// Resolve returns the identity for commands that the farm wants to run under an
// account and a group; both may be empty. Under the usual account, launches of other numbers
// neither read nor change their files: each number has an account and a group of its own, and is
// in the usual group beside it. The error says what this machine does not have or does not allow.
func (p *Policy) Resolve(account, group string, launches int64) (Identity, error) {
	who, err := p.resolve(account, group)
	if err != nil || !p.apart || who.UID != p.usual.UID || group != "" {
		return who, err
	}
	n := numberOf(launches)
	who.UID, who.GID, who.Groups = n, n, append([]int{p.usual.GID}, who.Groups...)
	return who, nil
}

func (p *Policy) resolve(account, group string) (Identity, error) {
	who := p.usual
	if account != "" {
		u, err := lookup(account)
		if err != nil {
			return who, err
		}
		named, err := p.identity(u)
		switch {
		case err != nil:
			return who, err
		case !p.switches && named.UID != os.Geteuid():
			return who, fmt.Errorf(
				"the node process runs as %s and cannot start renderers as %s; start it as that account, or as root",
				p.Usual(), account,
			)
		case !p.switches:
		case named.UID != p.usual.UID && !slices.Contains(p.accounts, named.UID):
			return who, p.refuses(permitAccount + account)
		default:
			who = named
		}
	}
	if group == "" {
		return who, nil
	}
	gid, err := lookupGroup(group)
	switch {
	case err != nil:
		return who, err
	case gid != who.GID && !slices.Contains(p.groups, gid):
		return who, p.refuses(permitGroup + group)
	case !p.switches && gid != os.Getegid() && !slices.Contains(ownGroups(), gid):
		return who, fmt.Errorf("the node process runs as %s, which is not in the group %s", p.Usual(), group)
	}
	who.Group, who.GID = group, gid
	return who, nil
}

func (p *Policy) refuses(permit string) error {
	return fmt.Errorf(
		"this machine does not allow renderers %s; its administrator allows it with: vexillum join --permit %s",
		strings.Replace(permit, "=", " ", 1), permit,
	)
}

// identity returns the identity of an account: its main group, and those
// of its other groups that are allowed.
func (p *Policy) identity(u *user.User) (Identity, error) {
	uid, err1 := strconv.Atoi(u.Uid)
	gid, err2 := strconv.Atoi(u.Gid)
	if err1 != nil || err2 != nil {
		return Identity{}, fmt.Errorf("the account %s has no number here", u.Username)
	}
	if p.switches && (uid == 0 || gid == 0) {
		return Identity{}, fmt.Errorf("the account %s is root or in its group: %w", u.Username, ErrRoot)
	}
	out := Identity{Account: u.Username, UID: uid, GID: gid, Home: u.HomeDir}
	ids, err := u.GroupIds()
	if err != nil { // then it is in none of them
		ids = nil
	}
	for _, id := range ids {
		if n, err := strconv.Atoi(id); err == nil && n != gid && slices.Contains(p.groups, n) {
			out.Groups = append(out.Groups, n)
		}
	}
	return out, nil
}

func lookup(name string) (*user.User, error) {
	u, err := user.Lookup(name)
	if err != nil {
		u, err = user.LookupId(name)
	}
	if err != nil {
		return nil, fmt.Errorf("this machine has no account %s", name)
	}
	return u, nil
}

func lookupGroup(name string) (int, error) {
	g, err := user.LookupGroup(name)
	if err != nil {
		g, err = user.LookupGroupId(name)
	}
	if err != nil {
		return 0, fmt.Errorf("this machine has no group %s", name)
	}
	gid, err := strconv.Atoi(g.Gid)
	if err != nil {
		return 0, fmt.Errorf("the group %s has no number here", name)
	}
	if gid == 0 {
		return 0, fmt.Errorf("the group %s is root's: %w", name, ErrRoot)
	}
	return gid, nil
}

func isSelf(name string) bool {
	u, err := lookup(name)
	me, err2 := user.Current()
	return err == nil && err2 == nil && u.Uid == me.Uid
}
