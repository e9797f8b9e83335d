//go:build !unix

package during

import (
	"os"
	"os/exec"
)

// Here a console sends its signals to all of its processes.
var passedOn = []os.Signal{os.Interrupt}

var terminate os.Signal = os.Kill

func fromTerminal(os.Signal) bool { return true }

func group(*exec.Cmd, bool) {}

func send(cmd *exec.Cmd, s os.Signal, _ bool) { cmd.Process.Signal(s) }

func exitCode(s *os.ProcessState) int { return s.ExitCode() }
