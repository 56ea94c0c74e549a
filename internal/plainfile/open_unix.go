//go:build unix

package plainfile

import (
	"errors"
	"syscall"
)

// dontWait keeps the opening of a pipe from waiting for its other end.
const dontWait = syscall.O_NONBLOCK

func refusedSpecial(err error) bool {
	return errors.Is(err, syscall.ENXIO) || errors.Is(err, syscall.ENODEV)
}
