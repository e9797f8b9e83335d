//go:build !unix

package cli

import "os"

// notifyBroken does nothing: here such a pipe is an error of writing.
func notifyBroken(chan os.Signal) {}
