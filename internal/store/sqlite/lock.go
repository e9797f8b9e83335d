package sqlite

import (
	"context"
	"fmt"
	"hash/fnv"
	"io"
	"os"
)

// The engine has no locks but those of a transaction, so a lock is a file beside the
// database: the system gives it up when its process ends, however it ends.

func (d *database) lockPath(name string) string {
	h := fnv.New32a()
	io.WriteString(h, name)
	return fmt.Sprintf("%s-evensprout-%08x", d.path, h.Sum32())
}

// Lock takes a lock beside the file. Where no file can be made there is no lock.
func (d *database) Lock(_ context.Context, name string) (string, error) {
	path := d.lockPath(name)
	for {
		f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o644)
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
		now, err := os.Stat(path)
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
