package cli

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	"runtime"

	"golang.org/x/term"

	"evensprout/internal/report"
)

// paged runs a command that prints. On a terminal, output with more lines than the terminal has goes
// through the program that $PAGER names; in a pipe or a file it never does.
func (a *program) paged(ctx context.Context, show func() error) error {
	height := a.page.Height
	if height == 0 || a.json {
		return show()
	}
	to, text := a.out, &bytes.Buffer{}
	a.out = report.NewWriter(text, a.page.Color)
	err := show()
	a.out = to
	shown := false
	if bytes.Count(text.Bytes(), []byte("\n")) >= height {
		shown = runPager(ctx, text.Bytes())
	}
	if !shown {
		_, bad := io.Copy(to, text)
		err = errors.Join(err, bad)
	}
	return err
}

// runPager shows a text with the pager, and reports whether it did. The environment variable PAGER is
// a command for the shell; set but empty, it means none.
func runPager(ctx context.Context, text []byte) bool {
	command, set := os.LookupEnv("PAGER")
	if !set {
		if _, err := exec.LookPath("less"); err != nil {
			return false
		}
		command = "less"
	}
	if command == "" {
		return false
	}
	shell, flag := "sh", "-c"
	if runtime.GOOS == "windows" {
		shell, flag = "cmd", "/C"
	}
	c := exec.CommandContext(ctx, shell, flag, command)
	c.Stdin, c.Stdout, c.Stderr = bytes.NewReader(text), os.Stdout, os.Stderr
	c.Env = os.Environ()
	if os.Getenv("LESS") == "" {
		c.Env = append(c.Env, "LESS=RSX") // colours, no wrapped lines, the text stays on the screen
	}
	err := c.Run()
	var exit *exec.ExitError
	if errors.As(err, &exit) { // 126 and 127 are the shell's: there is no such pager
		return exit.ExitCode() != 126 && exit.ExitCode() != 127
	}
	return err == nil || errors.Is(err, os.ErrClosed)
}

// heightOf is how many lines a terminal has; 0 if the writer is none.
func heightOf(w io.Writer) int {
	f, ok := w.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	_, height, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return height
}
