package sqlite

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"os"

	"evensprout/internal/safe"
	"evensprout/internal/store"
)

// The engine has no locks but those of a transaction, so a lock is a file beside the
// database: the system gives it up when its process ends, however it ends.

func (d *database) lockPath(name string) string {
	h := fnv.New32a()
	io.WriteString(h, name)
	return fmt.Sprintf("%s-evensprout-%08x", d.path, h.Sum32())
}

// Lock takes a lock beside the file. Where no file can be made there is no lock; but what
// stands there instead of one, such as a link to another file, is a fault.
func (d *database) Lock(_ context.Context, name string) (string, error) {
	path := d.lockPath(name)
	for {
		f, err := safe.OpenLock(path)
		var other *safe.NotRegular
		if errors.As(err, &other) {
			return "", &store.Fault{
				Kind:    store.Refused,
				Message: "the lock file beside the database is not used: " + err.Error(),
				Hint:    "remove " + path + " if nobody needs it",
			}
		}
		if err != nil {
			return "", nil
		}
		if !tryLock(f) {
			holder, _ := io.ReadAll(io.LimitReader(f, 200))
			f.Close()
			if len(holder) == 0 {
				return "another process", nil
			}
			return string(holder), nil
		}
		// Its former holder may have removed it in the meantime.
		now, err := os.Lstat(path)
		ours, failed := f.Stat()
		if err != nil || failed != nil || !os.SameFile(now, ours) {
			f.Close()
			continue
		}
		f.Truncate(0)
		fmt.Fprintf(f, "process %d", os.Getpid())
		if d.locks == nil {
			d.locks = map[string]*os.File{}
		}
		d.locks[name] = f
		return "", nil
	}
}

// Unlock gives a lock up, and removes its file.
func (d *database) Unlock(_ context.Context, name string) error {
	f := d.locks[name]
	if f == nil {
		return nil
	}
	delete(d.locks, name)
	os.Remove(f.Name())
	return f.Close()
}
