//go:build !linux

package account

import "errors"

// CreateSystem cannot create accounts on this system.
func CreateSystem(string) error {
	return errors.New("this system's accounts are not created by node processes")
}
