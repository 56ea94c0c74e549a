package client

import (
	"errors"

	"golang.org/x/sys/windows"
)

// refused reports whether nothing listens at an address.
func refused(err error) bool { return errors.Is(err, windows.WSAECONNREFUSED) }

// noRoute reports whether no way leads to an address.
func noRoute(err error) bool {
	return errors.Is(err, windows.WSAEHOSTUNREACH) || errors.Is(err, windows.WSAENETUNREACH)
}
