package launcher

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Memory is held by a control group of version 2 where the node process has
// one for itself, and by a resource limit elsewhere.

// controlGroups is where version 2 of the control groups is mounted.
const controlGroups = "/sys/fs/cgroup"

// ownLeaf is the group below ours into which node process and launcher go.
const ownLeaf = "vexillum-node"

// fences makes control groups below the one that we are in. The zero fences
// are ready.
type fences struct {
	once   sync.Once
	mu     sync.Mutex
	base   string // "" where we may not
	number int
}

// fence is the control group of one process and all below it.
type fence struct {
	of   *fences
	dir  string
	open *os.File
}

// ownGroup returns the folder of our control group, if it holds nobody but
// node process, launcher and what they have started, and can limit memory.
func ownGroup(root, self string, mine func(pid int) bool) (string, error) {
	path := ""
	for line := range strings.SplitSeq(self, "\n") {
		if rest, ok := strings.CutPrefix(line, "0::"); ok {
			path = rest
		}
	}
	if path == "" || path == "/" { // of the whole system, or of none
		return "", errors.New("the node process has no control group of its own")
	}
	base := filepath.Join(root, strings.TrimSuffix(path, "/"+ownLeaf)) // an earlier launcher may have moved us
	controllers, err := os.ReadFile(filepath.Join(base, "cgroup.controllers"))
	if err != nil || !slices.Contains(strings.Fields(string(controllers)), "memory") {
		return "", errors.New("the control group of the node process cannot limit memory")
	}
	if unix.Access(filepath.Join(base, "cgroup.subtree_control"), unix.W_OK) != nil {
		return "", errors.New("the control group of the node process may not be changed")
	}
	pids, err := os.ReadFile(filepath.Join(base, "cgroup.procs"))
	if err != nil {
		return "", fmt.Errorf("reading who is in the control group: %w", err)
	}
	for word := range strings.FieldsSeq(string(pids)) {
		if pid, err := strconv.Atoi(word); err != nil || !mine(pid) {
			return "", errors.New("others are in the control group of the node process")
		}
	}
	return base, nil
}

// ourselves reports whether a process is node process or launcher, or below.
func ourselves(pid int) bool {
	for range 64 {
		if pid == os.Getpid() || pid == os.Getppid() && pid > 1 {
			return true
		}
		data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if err != nil {
			return true // it has ended
		}
		fields := strings.Fields(string(data[strings.LastIndexByte(string(data), ')')+1:]))
		if len(fields) < 2 {
			return false
		}
		if pid, err = strconv.Atoi(fields[1]); err != nil || pid <= 1 {
			return false
		}
	}
	return false
}

func selfGroup() string {
	data, _ := os.ReadFile("/proc/self/cgroup")
	return string(data)
}

// setUp moves those who are in a group into one below it, which is needed
// before others can be limited, and lets groups below it limit memory.
func setUp(base string) error {
	leaf := filepath.Join(base, ownLeaf)
	if err := os.MkdirAll(leaf, 0o755); err != nil {
		return err
	}
	pids, err := os.ReadFile(filepath.Join(base, "cgroup.procs"))
	if err != nil {
		return err
	}
	for pid := range strings.FieldsSeq(string(pids)) {
		if err := os.WriteFile(filepath.Join(leaf, "cgroup.procs"), []byte(pid), 0o644); err != nil &&
			!errors.Is(err, syscall.ESRCH) {
			return err
		}
	}
	return os.WriteFile(filepath.Join(base, "cgroup.subtree_control"), []byte("+memory"), 0o644)
}

// fence prepares a control group for a process that is started next. It returns
// nil where that cannot be.
func (ours *fences) fence(attr *syscall.SysProcAttr, limit int64) *fence {
	ours.once.Do(func() {
		base, err := ownGroup(controlGroups, selfGroup(), ourselves)
		if err == nil && setUp(base) == nil {
			ours.base = base
		}
	})
	ours.mu.Lock()
	base := ours.base
	ours.number++
	name := fmt.Sprintf("renderer-%d-%d", os.Getpid(), ours.number)
	ours.mu.Unlock()
	if base == "" {
		return nil
	}
	f, err := newFence(filepath.Join(base, name), limit)
	if err != nil {
		return nil
	}
	f.of = ours
	attr.UseCgroupFD, attr.CgroupFD = true, int(f.open.Fd())
	return f
}

func newFence(dir string, limit int64) (*fence, error) {
	if err := os.Mkdir(dir, 0o755); err != nil {
		return nil, err
	}
	err := os.WriteFile(filepath.Join(dir, "memory.max"), []byte(strconv.FormatInt(limit, 10)), 0o644)
	if err == nil {
		_ = os.WriteFile(filepath.Join(dir, "memory.swap.max"), []byte("0"), 0o644) // where there is swap
	}
	open, err2 := os.Open(dir)
	if err = errors.Join(err, err2); err != nil {
		_ = os.Remove(dir)
		return nil, err
	}
	return &fence{dir: dir, open: open}, nil
}

// end does away with the group of ended processes. It returns the most memory
// that they had, and whether one was killed for want of more.
func (f *fence) end() (peak int64, killed bool) {
	if data, err := os.ReadFile(filepath.Join(f.dir, "memory.peak")); err == nil {
		peak, _ = strconv.ParseInt(strings.TrimSpace(string(data)), 10, 64)
	}
	if data, err := os.ReadFile(filepath.Join(f.dir, "memory.events")); err == nil {
		for line := range strings.SplitSeq(string(data), "\n") {
			if n, ok := strings.CutPrefix(line, "oom_kill "); ok {
				killed = n != "0"
			}
		}
	}
	f.drop()
	return peak, killed
}

// kill kills all that is in the group, whatever it calls itself; systems before Linux 5.14
// cannot.
func (f *fence) kill() { _ = os.WriteFile(filepath.Join(f.dir, "cgroup.kill"), []byte("1"), 0o644) }

func (f *fence) drop() {
	_ = f.open.Close()
	_ = os.Remove(f.dir)
}

// abandon drops the group and makes no others.
func (f *fence) abandon() {
	f.drop()
	f.of.mu.Lock()
	f.of.base = ""
	f.of.mu.Unlock()
}

// holdMemory lets a command begin with a limit on its memory, by prlimit of util-linux, and
// reports whether it could. A limit that is set afterwards comes late, and one process may not
// set it for another account without a right that containers often lack.
func holdMemory(cmd *exec.Cmd, limit int64) bool {
	tool, err := exec.LookPath("prlimit")
	if err != nil {
		return false
	}
	cmd.Args = append([]string{tool, fmt.Sprintf("--data=%d:%d", limit, limit), cmd.Path}, cmd.Args[1:]...)
	cmd.Path = tool
	return true
}

// limitMemory bounds what a process, and each that it starts, may allocate.
func limitMemory(pid int, limit int64) {
	both := unix.Rlimit{Cur: uint64(limit), Max: uint64(limit)}
	_ = unix.Prlimit(pid, unix.RLIMIT_DATA, &both, nil) // it may have ended
}

// MemoryMeans reports how renderers are held to a limit of memory: "control
// group" or "resource limit".
func MemoryMeans() string {
	if _, err := ownGroup(controlGroups, selfGroup(), ourselves); err == nil {
		return "control group"
	}
	return "resource limit"
}

// Pins reports whether renderers can be held to their cores.
func Pins() bool { return true }

// pin lets the calling thread, and what it starts, run on the given logical
// processors alone, until the returned function is called.
func pin(cores []int) (unpin func() error, err error) {
	if len(cores) == 0 {
		return func() error { return nil }, nil
	}
	var before, set unix.CPUSet
	if err := unix.SchedGetaffinity(0, &before); err != nil {
		return nil, fmt.Errorf("reading the processors of the launcher: %w", err)
	}
	for _, c := range cores {
		if before.IsSet(c) {
			set.Set(c)
		}
	}
	if set.Count() == 0 { // none of them is ours to use; run where we may
		return func() error { return nil }, nil
	}
	if err := unix.SchedSetaffinity(0, &set); err != nil {
		return nil, fmt.Errorf("holding the renderer to processors %v: %w", cores, err)
	}
	return func() error { return unix.SchedSetaffinity(0, &before) }, nil
}

// rssUnit is what the system counts the memory of ended processes in.
const rssUnit = 1024

// memoryOf returns the main memory of a process and all below it. What they
// share is counted for each.
func memoryOf(pid int) int64 {
	pages := residentPages(pid)
	for _, p := range below(pid) {
		pages += residentPages(p)
	}
	return pages * int64(os.Getpagesize())
}

// usedBy returns the processor time of a process and all that it has started, with those
// that have ended and were waited for, and for how long those that run have waited for a core.
func usedBy(pid int) time.Duration {
	ticks, waited := usedTicks(pid), waitedFor(pid)
	for _, p := range below(pid) {
		ticks, waited = ticks+usedTicks(p), waited+waitedFor(p)
	}
	return time.Duration(ticks)*(time.Second/ticksPerSecond) + waited
}

// waitedFor returns for how long the threads of a process were ready and had no core: the second
// field of /proc/PID/task/TID/schedstat, in nanoseconds. 0 where the system does not tell.
func waitedFor(pid int) (waited time.Duration) {
	threads, err := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/schedstat", pid))
	if err != nil {
		return 0
	}
	for _, path := range threads {
		data, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		if fields := strings.Fields(string(data)); len(fields) > 1 {
			n, _ := strconv.ParseInt(fields[1], 10, 64)
			waited += time.Duration(n)
		}
	}
	return waited
}

// ticksPerSecond is the unit of /proc for processor time; Linux tells it to all programs as
// 100, whatever its own is.
const ticksPerSecond = 100

// usedTicks reads fields 14 to 17 of /proc/PID/stat: time in user and kernel mode, its own
// and that of children that were waited for.
func usedTicks(pid int) (sum int64) {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0
	}
	const first = 14 - 3 // field 3 is the first behind the name in brackets
	fields := strings.Fields(string(data[bytes.LastIndexByte(data, ')')+1:]))
	if len(fields) < first+4 {
		return 0
	}
	for _, field := range fields[first : first+4] {
		n, _ := strconv.ParseInt(field, 10, 64)
		sum += n
	}
	return sum
}

func residentPages(pid int) int64 {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	if err != nil {
		return 0
	}
	fields := strings.Fields(string(data))
	if len(fields) < 2 {
		return 0
	}
	n, _ := strconv.ParseInt(fields[1], 10, 64)
	return n
}
