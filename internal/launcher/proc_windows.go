package launcher

import (
	"os/exec"
	"unsafe"

	"golang.org/x/sys/windows"
)

// tree is a job object that ends with its last handle.
type tree struct{ job windows.Handle }

func (t *tree) prepare(*exec.Cmd) (release func()) { return func() {} }

func (t *tree) started(cmd *exec.Cmd, _ int) error {
	job, err := windows.CreateJobObject(nil, nil)
	if err != nil {
		return err
	}
	t.job = job
	info := windows.JOBOBJECT_EXTENDED_LIMIT_INFORMATION{}
	info.BasicLimitInformation.LimitFlags = windows.JOB_OBJECT_LIMIT_KILL_ON_JOB_CLOSE
	if _, err := windows.SetInformationJobObject(job, windows.JobObjectExtendedLimitInformation, uintptr(unsafe.Pointer(&info)), uint32(unsafe.Sizeof(info))); err != nil {
		return err
	}
	process, err := windows.OpenProcess(windows.PROCESS_SET_QUOTA|windows.PROCESS_TERMINATE, false, uint32(cmd.Process.Pid))
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
