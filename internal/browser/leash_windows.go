package browser

import (
	"os"
	"unsafe"

	"golang.org/x/sys/windows"
)

// leash ends a running program when this one ends in any way, also when it is killed. The caller lets go once the program has ended.
// The program is in a job object, which ends what it holds when its last handle is closed.
func leash(p *os.Process) (letGo func()) {
	job, err := windows.CreateJobObject(nil, nil)
	if err != nil {
		return func() {}
	}
	limits := windows.JOBOBJECT_EXTENDED_LIMIT_INFORMATION{
		BasicLimitInformation: windows.JOBOBJECT_BASIC_LIMIT_INFORMATION{LimitFlags: windows.JOB_OBJECT_LIMIT_KILL_ON_JOB_CLOSE}}
	_, err = windows.SetInformationJobObject(job, windows.JobObjectExtendedLimitInformation,
		uintptr(unsafe.Pointer(&limits)), uint32(unsafe.Sizeof(limits)))
	if err == nil {
		err = assign(job, p)
	}
	if err != nil {
		windows.CloseHandle(job)
		return func() {}
	}
	return func() { windows.CloseHandle(job) }
}

func assign(job windows.Handle, p *os.Process) error {
	program, err := windows.OpenProcess(windows.PROCESS_SET_QUOTA|windows.PROCESS_TERMINATE, false, uint32(p.Pid))
	if err != nil {
		return err
	}
	defer windows.CloseHandle(program)
	return windows.AssignProcessToJobObject(job, program)
}
