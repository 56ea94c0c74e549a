//go:build unix

package client

import (
	"errors"
	"syscall"
)

// refused reports whether nothing listens at an address.
func refused(err error) bool { return errors.Is(err, syscall.ECONNREFUSED) }

// noRoute reports whether no way leads to an address.
func noRoute(err error) bool {
	return errors.Is(err, syscall.EHOSTUNREACH) || errors.Is(err, syscall.ENETUNREACH)
}
