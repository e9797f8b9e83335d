//go:build unix

package sqlite

import (
	"os"
	"syscall"
)

// tryLock takes a lock on an open file that ends with this process; false if somebody
// else has it.
func tryLock(f *os.File) bool {
	return syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) == nil
}
