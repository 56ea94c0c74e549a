package filelock

import (
	"errors"
	"sync"
	"syscall"
)

const sharingViolation = syscall.Errno(32)

// take keeps a file open that nobody else may open while we have it.
func take(path string) (release func(), err error) {
	name, err := syscall.UTF16PtrFromString(path)
	if err != nil {
		return nil, err
	}
	handle, err := syscall.CreateFile(
		name, syscall.GENERIC_WRITE, 0, nil, syscall.OPEN_ALWAYS, syscall.FILE_ATTRIBUTE_NORMAL, 0,
	)
	if errors.Is(err, sharingViolation) {
		return nil, ErrTaken
	}
	if err != nil {
		return nil, err
	}
	var once sync.Once
	return func() { once.Do(func() { _ = syscall.CloseHandle(handle) }) }, nil
}
