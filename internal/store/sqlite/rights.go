package sqlite

import (
	"context"
	"time"

	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
)

// Denied knows what the URL says. The file is not opened to find out whether it can be
// written: closing it again would let go of the locks that the engine holds on it.
func (d *database) Denied(_ context.Context, a store.Access) (string, error) {
	if d.reads && (len(a.Insert)+len(a.Update) > 0 || a.Delete || a.Journal) {
		return "the URL says mode=ro, so it is read-only", nil
	}
	return "", nil
}

// Clock is this machine's; the engine knows of no time zone.
func (d *database) Clock(ctx context.Context) (time.Time, string, error) {
	return setwise.Clock(ctx, d, "SELECT strftime('%Y-%m-%d %H:%M:%f', 'now'), ''")
}
