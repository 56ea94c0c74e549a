// Package filelock takes a file for one process, so that two never work in one folder. The
// lock ends with the process, however it ends. It knows nothing of what is in the folder.
package filelock

import "errors"

// ErrTaken says that another process has the lock.
var ErrTaken = errors.New("another process works in this folder")

// Take takes a lock by the path of its file, which is made where it is missing and stays. It
// returns [ErrTaken] if somebody has it, this process included. release may be called again.
func Take(path string) (release func(), err error) { return take(path) }
