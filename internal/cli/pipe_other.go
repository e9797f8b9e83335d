//go:build !unix

package cli

import "os"

// notifyBroken does nothing: here such a pipe is an error of writing.
func notifyBroken(chan os.Signal) {}

// readerGone is false: here a closed pipe is reported like any other error of writing.
func readerGone(error) bool { return false }
