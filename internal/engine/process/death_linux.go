package process

import "syscall"

// endsWithUs has the system tell a child to end once the thread that starts it has (prctl(2), PR_SET_PDEATHSIG).
func endsWithUs(a *syscall.SysProcAttr) { a.Pdeathsig = syscall.SIGTERM }
