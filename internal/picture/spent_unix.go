//go:build unix

package picture

import (
	"syscall"
	"time"
)

// spent returns the processor time of this process so far.
func spent() time.Duration {
	var usage syscall.Rusage
	if syscall.Getrusage(syscall.RUSAGE_SELF, &usage) != nil {
		return 0
	}
	return time.Duration(usage.Utime.Nano() + usage.Stime.Nano())
}
