package launcher

import (
	"errors"
	"os/exec"
	"unsafe"

	"golang.org/x/sys/windows"
)

// tree is a job object that ends with its last handle.
type tree struct {
	job    windows.Handle
	fences *fences
}

// fences are what other systems have; here the job object is enough.
type fences struct{}

func (t *tree) prepare(_ *exec.Cmd, limits Limits) (release func(), err error) {
	if limits.Account != "" || limits.Group != "" {
		return nil, errOtherAccount
	}
	return func() {}, nil
}

func (t *tree) start(cmd *exec.Cmd, _ Limits) error { return cmd.Start() }

// memory reports nothing here.
func (t *tree) memory(*exec.Cmd) (peak int64, over bool) { return 0, false }

func (t *tree) started(cmd *exec.Cmd, limits Limits) error {
	job, err := windows.CreateJobObject(nil, nil)
	if err != nil {
		return err
	}
	t.job = job
	info := windows.JOBOBJECT_EXTENDED_LIMIT_INFORMATION{}
	info.BasicLimitInformation.LimitFlags = windows.JOB_OBJECT_LIMIT_KILL_ON_JOB_CLOSE
	if limits.Memory > 0 {
		info.BasicLimitInformation.LimitFlags |= windows.JOB_OBJECT_LIMIT_JOB_MEMORY
		info.JobMemoryLimit = uintptr(limits.Memory)
	}
	if _, err := windows.SetInformationJobObject(
		job, windows.JobObjectExtendedLimitInformation, uintptr(unsafe.Pointer(&info)), uint32(unsafe.Sizeof(info)),
	); err != nil {
		return err
	}
	process, err := windows.OpenProcess(
		windows.PROCESS_SET_QUOTA|windows.PROCESS_TERMINATE, false, uint32(cmd.Process.Pid),
	)
	if err != nil {
		return err
	}
	defer windows.CloseHandle(process)
	return windows.AssignProcessToJobObject(job, process)
}

func (t *tree) ask() { t.kill() }

func (t *tree) kill() {
	if t.job != 0 {
		_ = windows.TerminateJobObject(t.job, 1)
	}
}

// errOtherAccount says what this system cannot do.
var errOtherAccount = errors.New(
	"on Windows renderers run under the account of the node process; start it under the account you want",
)

// MemoryMeans says how renderers are held to a limit of memory.
func MemoryMeans() string { return "job object" }

// Identify knows no numbers of accounts here.
func Identify(string, string) (uid, gid int, err error) { return 0, 0, errOtherAccount }

// keepToUs does nothing: the folder of the socket is the node's own.
func keepToUs(string) error { return nil }
