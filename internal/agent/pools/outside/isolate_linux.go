package outside

import (
	"os/exec"
	"syscall"
)

// isolate puts a program into a group of its own, so that it can be ended with all it started; when the agent ends, its
// input does.
func isolate(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
}

// kill ends the program with all it started.
func (p *process) kill() { _ = syscall.Kill(-p.cmd.Process.Pid, syscall.SIGKILL) }
