package node

import (
	"os"
	"os/user"
	"path/filepath"
	"strconv"

	"vexillum/internal/launcher"
	"vexillum/internal/publish"
	"vexillum/internal/wire"
)

// means says how this node can hold renderers to what they are given.
func means() *wire.Means {
	m := &wire.Means{Switches: launcher.Switches(), Memory: launcher.MemoryMeans(), Pins: launcher.Pins()}
	if u, err := user.Current(); err == nil {
		m.Account = u.Username
	}
	return m
}

// limits is what a launch is held to, and under which account it runs.
func (l *launch) limits() launcher.Limits {
	out := l.share.limits()
	env := l.w.lease.LaunchSettings
	out.Account, out.Group, out.Mask = env.Account, env.Group, l.w.mask()
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

// admit lets the account that a renderer runs as into its staging folder. It
// may pass through those above it, and not look around there.
func (w *work) admit(folder string) error {
	env := w.lease.LaunchSettings
	if env.Account == "" && env.Group == "" || !launcher.Switches() {
		return nil
	}
	uid, gid, err := launcher.Identify(env.Account, env.Group)
	if err != nil {
		return nil // the launch says so
	}
	if err := os.Chown(folder, uid, gid); err != nil {
		return err
	}
	for _, dir := range []string{w.staging, filepath.Dir(w.staging), filepath.Dir(filepath.Dir(w.staging))} {
		if err := os.Chmod(dir, 0o711); err != nil {
			return err
		}
	}
	return nil
}

// owner returns whose the files are that this node publishes.
func (w *work) owner() publish.Owner {
	env := w.lease.LaunchSettings
	if env.Account == "" && env.Group == "" {
		return publish.Owner{Mask: w.mask()}
	}
	uid, gid, err := launcher.Identify(env.Account, env.Group)
	if err != nil {
		return publish.Owner{Mask: w.mask()}
	}
	return publish.OwnerOf(uid, gid, w.mask())
}
