// Package during gives a command a database with rows in it, for as long as it runs.
package during

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"time"

	"evensprout/internal/store"
)

// The names of databases that are made for runs, and of those that are copied for them.
const (
	runPrefix   = store.OwnPrefix + "run_"
	cachePrefix = store.OwnPrefix + "cache_"
)

// The exact names that Private gives, of which Sweep removes none but these.
var (
	runName   = regexp.MustCompile("^" + runPrefix + "[0-9]{14}_[0-9a-f]{12}$")
	newName   = regexp.MustCompile("^" + store.OwnNewPrefix + "[0-9a-f]{16}$")
	cacheName = regexp.MustCompile("^" + cachePrefix + "[0-9a-f]{" + strconv.Itoa(keyDigits) + "}$")
)

// lookEvery is how often a lock is tried again.
const lookEvery = 50 * time.Millisecond

// Place is a database of one run's own.
type Place struct {
	own    store.Scratch
	name   string
	Copied bool          // from the cache, which had it
	Made   time.Duration // how long it took
	Copy   time.Duration // of this, the engine's own copying
}

// Private makes a database for one run. With a key it is copied from one that build has
// filled for that key, now or for an earlier run; without one, build fills it itself. build
// makes the database of a name.
func Private(
	ctx context.Context,
	own store.Scratch,
	key string,
	build func(ctx context.Context, name string) error,
) (p *Place, err error) {
	began := time.Now()
	var random [6]byte
	rand.Read(random[:])
	p = &Place{
		own:  own,
		name: fmt.Sprintf("%s%s_%s", runPrefix, began.UTC().Format("20060102150405"), hex.EncodeToString(random[:])),
	}
	if _, err := own.Hold(ctx, p.name); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, p.Drop(context.WithoutCancel(ctx), nil))
			p = nil
		}
		if p != nil {
			p.Made = time.Since(began)
		}
	}()
	if key == "" {
		return p, build(ctx, p.name)
	}
	from := cachePrefix + key
	for try := 1; ; try++ {
		if p.Copied, err = cached(ctx, own, from, build); err != nil {
			return p, err
		}
		copying := time.Now()
		// An interruption would cost the connection, by which the database is dropped.
		err = own.Copy(context.WithoutCancel(ctx), from, p.name)
		p.Copy = time.Since(copying)
		if err == nil {
			return p, context.Cause(ctx)
		}
		// Somebody may have swept the cache in between.
		if ready, failed := isReady(ctx, own, from); ready || failed != nil || try == maxCopies {
			return p, err
		}
		if err := own.Drop(ctx, p.name); err != nil {
			return p, err
		}
	}
}

// maxCopies is how often a database is copied that others sweep away.
const maxCopies = 3

// cached sees that a database is there to be copied; one process at a time builds it. It
// reports whether it was there.
func cached(
	ctx context.Context,
	own store.Scratch,
	name string,
	build func(context.Context, string) error,
) (bool, error) {
	for {
		ready, err := isReady(ctx, own, name)
		if ready || err != nil {
			return ready, err
		}
		held, err := own.Hold(ctx, name)
		if err != nil {
			return false, err
		}
		if held {
			there, err := fill(ctx, own, name, build)
			return there, errors.Join(err, own.Release(context.WithoutCancel(ctx), name))
		}
		select {
		case <-ctx.Done():
			return false, context.Cause(ctx)
		case <-time.After(lookEvery):
		}
	}
}

// isReady reports whether a database is there to be copied.
func isReady(ctx context.Context, own store.Scratch, name string) (bool, error) {
	all, err := own.List(ctx)
	return slices.Contains(all, store.ScratchDatabase{Name: name, Mark: store.MarkReady}), err
}

// fill builds a database, unless another process was quicker: then it is there.
func fill(
	ctx context.Context,
	own store.Scratch,
	name string,
	build func(context.Context, string) error,
) (there bool, err error) {
	if there, err = isReady(ctx, own, name); there || err != nil {
		return there, err
	}
	if err := own.Drop(ctx, name); err != nil { // one that a killed run has left
		return false, err
	}
	if err = build(ctx, name); err == nil {
		err = own.Mark(ctx, name, store.MarkReady)
	}
	if err != nil {
		err = errors.Join(err, own.Drop(context.WithoutCancel(ctx), name))
	}
	return false, err
}

// URL names the database.
func (p *Place) URL() (string, error) { return p.own.URL(p.name) }

// Drop removes the database. again opens the own databases once more, where the connection
// has not lived as long as the command; it may be nil.
func (p *Place) Drop(ctx context.Context, again func(context.Context) (store.Scratch, error)) error {
	err := errors.Join(p.own.Drop(ctx, p.name), p.own.Release(ctx, p.name))
	if err == nil || again == nil {
		return err
	}
	own, fresh := again(ctx)
	if fresh != nil {
		return errors.Join(err, fresh)
	}
	return errors.Join(own.Drop(ctx, p.name), own.Close())
}

// Keep leaves the database for inspection.
func (p *Place) Keep(ctx context.Context) error {
	return errors.Join(p.own.Mark(ctx, p.name, store.MarkKept), p.own.Release(ctx, p.name))
}

// Swept is a database that was removed, or that was left although its name begins like
// those that this program gives.
type Swept struct {
	Name string `json:"name"`
	Why  string `json:"why"`
	Left bool   `json:"-"`
}

// swept tells why a database is removed, or why it stays although it is no run's; neither
// for those of runs that go on, and for those that are to be kept.
func swept(d store.ScratchDatabase, kept, caches bool) (why, stays string) {
	run, cache, fresh := runName.MatchString(d.Name), cacheName.MatchString(d.Name), newName.MatchString(d.Name)
	switch {
	case !run && !cache && !fresh:
		return "", "its name is not one that this program creates"
	case d.Mark == "":
		return "", "it has no mark of this program and user"
	case fresh, cache && d.Mark != store.MarkReady:
		return "left half-built by a killed run", ""
	case cache && caches:
		return "cached", ""
	case cache:
		return "", ""
	case d.Mark == store.MarkKept && kept:
		return "kept after a failure", ""
	case d.Mark != store.MarkKept:
		return "left by a killed run", ""
	}
	return "", ""
}

// Sweep removes the databases of runs that were killed, and, if asked to, those that were
// kept after failures, and those that are there to be copied. It removes only what has
// exactly such a name, carries the mark, and has nobody connected to it.
func Sweep(ctx context.Context, own store.Scratch, kept, caches bool) ([]Swept, error) {
	all, err := own.List(ctx)
	if err != nil {
		return nil, err
	}
	out := []Swept{}
	for _, d := range all {
		why, stays := swept(d, kept, caches)
		if stays != "" {
			out = append(out, Swept{d.Name, stays, true})
		}
		if why == "" {
			continue
		}
		held, err := own.Hold(ctx, d.Name)
		if err != nil {
			return out, err
		}
		if !held {
			continue // somebody works with it
		}
		n, err := own.Sessions(ctx, d.Name)
		if err == nil && n == 0 {
			err = own.Drop(ctx, d.Name)
		}
		if err := errors.Join(err, own.Release(ctx, d.Name)); err != nil {
			return out, err
		}
		if n > 0 {
			out = append(out, Swept{d.Name, fmt.Sprintf("open connections: %d", n), true})
			continue
		}
		out = append(out, Swept{Name: d.Name, Why: why})
	}
	return out, nil
}
