//go:build unix

package cli

import (
	"errors"
	"os"
	"os/signal"
	"syscall"
)

// notifyBroken takes the signal of a pipe that nobody reads any more. To ignore it would let
// commands of the user's ignore it, too.
func notifyBroken(c chan os.Signal) { signal.Notify(c, syscall.SIGPIPE) }

// readerGone reports whether err comes from writing to a pipe that its reader has closed.
func readerGone(err error) bool { return errors.Is(err, syscall.EPIPE) }
