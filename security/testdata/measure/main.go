//go:build unix

// Command measure runs a command and writes the memory that it took at most, in bytes, into
// the file that its first argument names. It is a small process: a child's figure is never
// less than what its parent had when it was started.
package main

import (
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"syscall"
)

func main() {
	c := exec.Command(os.Args[2], os.Args[3:]...)
	c.Stdin, c.Stdout, c.Stderr = os.Stdin, os.Stdout, os.Stderr
	c.Run()
	if c.ProcessState == nil {
		os.Exit(125)
	}
	peak := int64(c.ProcessState.SysUsage().(*syscall.Rusage).Maxrss)
	if runtime.GOOS != "darwin" { // there it is bytes
		peak *= 1024
	}
	os.WriteFile(os.Args[1], fmt.Append(nil, peak), 0o600)
	if s := c.ProcessState.Sys().(syscall.WaitStatus); s.Signaled() {
		os.Exit(128 + int(s.Signal()))
	}
	os.Exit(c.ProcessState.ExitCode())
}
