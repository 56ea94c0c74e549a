package launcher

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// dieWithUs lets the kernel kill a renderer when the launcher is killed.
func dieWithUs(attr *syscall.SysProcAttr) { attr.Pdeathsig = syscall.SIGKILL }

// becomeReaper makes processes that lose their parent ours, so that one which
// left its process group is still found.
func becomeReaper() { _ = unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) }

// headEnded reports whether a process of ours has ended, even if others still
// hold its output.
func headEnded(pid int) bool { return state(pid) == "Z" }

// zombies returns the processes below us that have ended and that nobody has
// taken note of.
func zombies() (ended []int) {
	for _, pid := range children(os.Getpid()) {
		if state(pid) == "Z" {
			ended = append(ended, pid)
		}
	}
	return ended
}

func kill(pid int) { _ = syscall.Kill(pid, syscall.SIGKILL) }

// reap takes note of the end of a process that was left to us.
func reap(pid int) {
	var status syscall.WaitStatus
	_, _ = syscall.Wait4(pid, &status, syscall.WNOHANG, nil)
}

// killMarked kills all that a process has started and that is still there,
// also what has left its group. It looks until nothing new is found.
func killMarked(id string) {
	for range 5 {
		found := false
		for _, pid := range below(os.Getpid()) {
			if markedAs(pid) == id && state(pid) != "Z" {
				found = true
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
		}
		if !found {
			return
		}
	}
}

// strays returns the processes that were left to us, with all below them, and that belong to no
// launch which still runs: renderers that left their group, and emptied their environment.
func strays(heads map[int]bool, running map[string]bool) (out []int) {
	for _, pid := range children(os.Getpid()) {
		if !heads[pid] && state(pid) != "Z" && !running[markedAs(pid)] {
			out = append(append(out, pid), below(pid)...)
		}
	}
	return out
}

// markedAs returns what stands behind marker in a process's environment.
func markedAs(pid int) string {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", pid))
	if err != nil {
		return ""
	}
	for entry := range bytes.SplitSeq(data, []byte{0}) {
		if id, ok := bytes.CutPrefix(entry, []byte(marker)); ok {
			return string(id)
		}
	}
	return ""
}

func children(pid int) []int {
	var out []int
	lists, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
	for _, path := range lists {
		data, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		for word := range strings.FieldsSeq(string(data)) {
			if n, err := strconv.Atoi(word); err == nil {
				out = append(out, n)
			}
		}
	}
	return out
}

// below returns all living processes below one.
func below(pid int) []int {
	queue := children(pid)
	for i := 0; i < len(queue); i++ {
		queue = append(queue, children(queue[i])...)
	}
	return queue
}

func state(pid int) string {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return "Z"
	}
	rest := strings.Fields(string(data[bytes.LastIndexByte(data, ')')+1:]))
	if len(rest) == 0 {
		return "Z"
	}
	return rest[0]
}
