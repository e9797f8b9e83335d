package during

import (
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"strings"
	"time"

	"evensprout/internal/store"
)

// Command is a command of the user's.
type Command struct {
	Args        []string
	Variables   []store.Variable // of its environment, before those of this process
	Timeout     time.Duration    // 0: it may take as long as it likes
	Interactive bool             // it shares a terminal with this process, which sends it signals itself
	In          io.Reader
	Out, Err    io.Writer
}

// The exit codes of commands that have none of their own, as shells have them.
const (
	CodeTimeout  = 124
	codeNotRun   = 126
	codeNotFound = 127
	codeSignal   = 128 // and the signal's number
)

// grace is how long a command has to end by itself before it is killed.
const grace = 10 * time.Second

// drain is how long what the command has left running may hold its output open.
const drain = 500 * time.Millisecond

// Run runs the command and returns its exit code; the error says why there is none. Signals
// that this process gets are passed on; that ctx ends is left to the command to notice.
func (c *Command) Run(ctx context.Context) (int, error) {
	cmd := exec.Command(c.Args[0], c.Args[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = c.In, c.Out, c.Err
	cmd.Env = environment(os.Environ(), c.Variables)
	cmd.WaitDelay = drain
	group(cmd, !c.Interactive)
	signals := make(chan os.Signal, 8)
	signal.Notify(signals, passedOn...)
	defer signal.Stop(signals)
	if err := cmd.Start(); err != nil {
		if errors.Is(err, exec.ErrNotFound) || errors.Is(err, os.ErrNotExist) {
			return codeNotFound, err
		}
		return codeNotRun, err
	}

	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	var late, kill <-chan time.Time
	if c.Timeout > 0 {
		late = time.After(c.Timeout)
	}
	expired := false
	for {
		select {
		case s := <-signals:
			if !c.Interactive || !fromTerminal(s) {
				send(cmd, s, !c.Interactive)
			}
		case <-late:
			expired = true
			send(cmd, terminate, !c.Interactive)
			kill = time.After(grace)
		case <-kill:
			send(cmd, os.Kill, !c.Interactive)
		case err := <-ended:
			if !c.Interactive {
				send(cmd, os.Kill, true) // what it has left running in the background
			}
			if expired {
				return CodeTimeout, nil
			}
			return outcome(cmd, err)
		}
	}
}

// outcome returns the exit code of a command that has ended; the error of Wait says how.
func outcome(cmd *exec.Cmd, err error) (int, error) {
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) && !errors.Is(err, exec.ErrWaitDelay) {
		return codeNotRun, err
	}
	return exitCode(cmd.ProcessState), nil
}

// environment puts variables in the place of others of the same name.
func environment(all []string, variables []store.Variable) []string {
	var out []string
	for _, entry := range all {
		name, _, _ := strings.Cut(entry, "=")
		replaced := false
		for _, v := range variables {
			replaced = replaced || v.Name == name
		}
		if !replaced {
			out = append(out, entry)
		}
	}
	for _, v := range variables {
		if !v.Gone {
			out = append(out, v.Name+"="+v.Value)
		}
	}
	return out
}
