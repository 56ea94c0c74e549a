package node

import (
	"hash/fnv"
	"os"
	"os/user"
	"path/filepath"
	"strconv"

	"vexillum/internal/account"
	"vexillum/internal/launcher"
	"vexillum/internal/publish"
	"vexillum/internal/wire"
)

// means says how this node can hold renderers to what they are given.
func means(accounts *account.Policy) *wire.Means {
	m := &wire.Means{
		Switches: accounts.Switches(), Memory: launcher.MemoryMeans(), Pins: launcher.Pins(),
		RendersAs: accounts.Usual(), Permits: accounts.Permits(),
	}
	if u, err := user.Current(); err == nil {
		m.Account = u.Username
	}
	return m
}

// whoRenders returns the identity of a lease's renderers. The error says what this machine does
// not have or does not allow, whatever the service says.
func (w *work) whoRenders() (account.Identity, error) {
	if w.host.accounts == nil { // by hand, on the machine of the person who tries a recipe
		return account.Identity{}, nil
	}
	return w.host.accounts.Resolve(w.lease.LaunchSettings.Account, w.lease.LaunchSettings.Group, w.number())
}

// number is one that no other work beside this one has.
func (w *work) number() int64 {
	if w.trial { // its lease is made up
		sum := fnv.New64a()
		_, _ = sum.Write([]byte(w.staging)) // it never fails
		return int64(sum.Sum64() >> 1)
	}
	return w.lease.ID
}

// under returns limits for a command that runs as somebody.
func under(limits launcher.Limits, who account.Identity) launcher.Limits {
	limits.Account, limits.Group, limits.Groups = who.Account, who.Group, who.Groups
	if who.Switched() {
		limits.UID, limits.GID = who.UID, who.GID
	}
	return limits
}

// limits is what a launch is held to.
func (l *launch) limits(who account.Identity) launcher.Limits {
	out := under(l.share.limits(), who)
	out.Mask = l.w.mask()
	return out
}

// mask returns the file mask that was told, if any.
func (w *work) mask() *int {
	n, err := strconv.ParseUint(w.lease.LaunchSettings.Mask, 8, 12)
	if err != nil {
		return nil
	}
	mask := int(n)
	return &mask
}

// letIn gives a folder to the identity of a command, which may pass through the folders above,
// which are in the node's own, and not look around there. Whatever this process itself
// writes into the folder must be written before.
func letIn(folder string, who account.Identity) error {
	if !who.Switched() {
		return nil
	}
	if err := os.Lchown(folder, who.UID, who.GID); err != nil {
		return err
	}
	return letPass(filepath.Dir(folder), who)
}

// letPass lets the identity of a command pass through the folder of a lease, and nobody else, and
// everybody through those above it that are the node's: staging, and the node's own.
func letPass(folder string, who account.Identity) error {
	if err := os.Lchown(folder, os.Geteuid(), who.GID); err != nil {
		return err
	}
	if err := os.Chmod(folder, 0o710); err != nil {
		return err
	}
	for range 2 {
		folder = filepath.Dir(folder)
		if err := os.Chmod(folder, 0o711); err != nil {
			return err
		}
	}
	return nil
}

// owner returns whose the files are that this node publishes: where the farm names nobody,
// the node process's own, so that no renderer can change a frame that was delivered.
func (w *work) owner() publish.Owner {
	env := w.lease.LaunchSettings
	if env.Account == "" && env.Group == "" {
		return publish.Owner{Mask: w.mask()}
	}
	who, err := w.whoRenders()
	if err != nil || !who.Switched() && env.Group == "" {
		return publish.Owner{Mask: w.mask()}
	}
	return publish.OwnerOf(who.UID, who.GID, w.mask())
}
