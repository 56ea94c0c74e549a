package node

import (
	"os"
	"strings"
	"syscall"
)

// mostLog bounds what is read of the system's log.
const mostLog = 4 << 20

// testify asks the system.
func testify() witness {
	w := witness{kills: -1}
	if data, err := os.ReadFile("/proc/sys/kernel/random/boot_id"); err == nil {
		w.boot = strings.TrimSpace(string(data))
	}
	if data, err := os.ReadFile("/proc/vmstat"); err == nil {
		w.kills = killsIn(string(data))
	}
	if w.kills > 0 { // most machines never get here
		w.killed = systemLog()
	}
	return w
}

// systemLog returns the processes whose end for want of memory the kernel's log
// reports; nil where it may not be read.
func systemLog() map[int]bool {
	fd, err := syscall.Open("/dev/kmsg", syscall.O_RDONLY|syscall.O_NONBLOCK|syscall.O_CLOEXEC, 0)
	if err != nil {
		return nil
	}
	defer syscall.Close(fd)
	var log strings.Builder
	record := make([]byte, 8192)
	for log.Len() < mostLog {
		n, err := syscall.Read(fd, record)
		if err == syscall.EPIPE { // what came next was overwritten meanwhile
			continue
		}
		if n <= 0 || err != nil { // EAGAIN: this was all
			break
		}
		log.Write(record[:n])
		log.WriteByte('\n')
	}
	if log.Len() == 0 {
		return nil
	}
	return killedIn(log.String())
}
