//go:build unix

package lookout

import (
	"os/exec"
	"syscall"
)

// group has a program end with all that it started, once its time is up.
func group(c *exec.Cmd) {
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	c.Cancel = func() error { return syscall.Kill(-c.Process.Pid, syscall.SIGKILL) }
}
