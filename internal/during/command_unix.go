//go:build unix

package during

import (
	"os"
	"os/exec"
	"syscall"
)

// passedOn are the signals that a command gets, too.
var passedOn = []os.Signal{
	syscall.SIGINT,
	syscall.SIGTERM,
	syscall.SIGHUP,
	syscall.SIGQUIT,
	syscall.SIGUSR1,
	syscall.SIGUSR2,
	syscall.SIGWINCH,
	syscall.SIGCONT,
}

var terminate os.Signal = syscall.SIGTERM

// fromTerminal reports whether a terminal sends a signal to all of its foreground.
func fromTerminal(s os.Signal) bool {
	return s == syscall.SIGINT || s == syscall.SIGQUIT || s == syscall.SIGWINCH || s == syscall.SIGCONT
}

// group gives the command a process group of its own, so that signals reach all that it
// starts.
func group(cmd *exec.Cmd, own bool) { cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: own} }

// send sends a signal to a command, or to all processes of its group.
func send(cmd *exec.Cmd, s os.Signal, group bool) {
	pid := cmd.Process.Pid
	if group {
		pid = -pid
	}
	syscall.Kill(pid, s.(syscall.Signal)) // it may be gone already
}

// exitCode is that of a command; as shells do, 128 and the number for one that a signal ended.
func exitCode(s *os.ProcessState) int {
	if w, ok := s.Sys().(syscall.WaitStatus); ok && w.Signaled() {
		return codeSignal + int(w.Signal())
	}
	return s.ExitCode()
}
