// Command manpages writes the manual pages of all commands into a folder. Their date is that of
// SOURCE_DATE_EPOCH, or now.
package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"evensprout/internal/cli"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(args []string) error {
	if len(args) != 1 {
		return fmt.Errorf("usage: manpages FOLDER")
	}
	when := time.Now()
	if text := os.Getenv("SOURCE_DATE_EPOCH"); text != "" {
		seconds, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return err
		}
		when = time.Unix(seconds, 0)
	}
	if err := os.MkdirAll(args[0], 0o755); err != nil {
		return err
	}
	return cli.ManPages(when, func(file string, page []byte) error {
		return os.WriteFile(filepath.Join(args[0], file), page, 0o644)
	})
}
