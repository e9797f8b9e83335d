package journal

import (
	"context"
	"errors"
	"fmt"
	"time"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Held is a lock that this process holds: of a plan, of a part of its load, or of a run of one of its units. While it
// is held, nobody else changes what it covers. What writes reads the journal with a Reader of a Held, so that nothing is
// decided from what another process changes a moment later.
type Held struct {
	store store.Store
	name  string
}

// Lock takes the lock of a plan. If somebody else has it, that is a *store.Fault of kind Locked.
func Lock(ctx context.Context, s store.Store, plan string) (*Held, error) {
	return LockShare(ctx, s, plan, plan+" is being loaded")
}

// LockShare takes a lock of a share of a plan's work. busy says what somebody else who has it is doing.
func LockShare(ctx context.Context, s store.Store, share, busy string) (*Held, error) {
	h := &Held{s, "evensprout load " + share}
	holder, err := s.Lock(ctx, h.name)
	if err == nil && holder != "" {
		err = &store.Fault{Kind: store.Locked, Message: busy + " by " + holder, Hint: "wait for it with --wait 5m"}
	}
	if err != nil {
		return nil, err
	}
	return h, nil
}

// LockRun takes the lock of a run of a unit, which is held while the run goes on. Runs do not lock each other.
func LockRun(ctx context.Context, s store.Store, plan string, load int64) (*Held, error) {
	return LockShare(ctx, s, fmt.Sprintf("%s, load %d", plan, load), fmt.Sprintf("load %d of %s, a run of a unit, is being done", load, plan))
}

// LockLoad takes the lock of the plan of a load, and reads the load once the lock is held.
func LockLoad(ctx context.Context, s store.Store, number int64) (*Held, *Entry, error) {
	before, err := Unlocked(s).anyEntry(ctx, number) // for the plan's name, which does not change
	if err != nil {
		return nil, nil, err
	}
	h, err := Lock(ctx, s, before.Plan)
	if err != nil {
		return nil, nil, err
	}
	e, err := h.Reader(s).anyEntry(ctx, number)
	if err != nil {
		h.Release(ctx)
		return nil, nil, err
	}
	return h, e, nil
}

// Release gives the lock back. Where that fails, the connection's end does it.
func (h *Held) Release(ctx context.Context) { h.store.Unlock(context.WithoutCancel(ctx), h.name) }

// Reader reads the journal while the lock is held, over the connection that took it or another one.
func (h *Held) Reader(s store.Store) Reader { return Reader{Store: s, allowed: h != nil} }

// Reader reads what the journal says of loads. The zero value refuses to.
type Reader struct {
	Store   store.Store
	allowed bool
}

// Unlocked reads the journal while others may write to it: for what shows something to people, and for what is
// looked at again under a lock.
func Unlocked(s store.Store) Reader { return Reader{Store: s, allowed: true} }

// On reads over another connection.
func (r Reader) On(s store.Store) Reader {
	r.Store = s
	return r
}

// errNotHeld is a mistake of this program.
var errNotHeld = errors.New("the journal is read without the plan's lock")

// tables are the journal's; nil if there are none.
func (r Reader) tables(ctx context.Context) (*store.Journal, error) {
	if !r.allowed {
		return nil, errNotHeld
	}
	return r.Store.Journal(ctx, false)
}

// lockPoll is how often something locked is tried again.
const lockPoll = 100 * time.Millisecond

// WhileLocked does something again as long as somebody else has locked it, for some time. waits is called before it
// waits for the first time; it may be nil.
func WhileLocked(ctx context.Context, wait time.Duration, waits func(*store.Fault), do func() error) error {
	deadline := time.Now().Add(wait)
	for told := false; ; told = true {
		err := do()
		var fault *store.Fault
		if !errors.As(err, &fault) || fault.Kind != store.Locked || !time.Now().Before(deadline) {
			return err
		}
		if !told && waits != nil {
			waits(fault)
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(lockPoll):
		}
	}
}

// NoLongerError tells that the journal does not say any more of a load what it said when it was read.
func NoLongerError(e *Entry) *store.Fault {
	return &store.Fault{
		Kind:    store.Refused,
		Message: fmt.Sprintf("load %d is no longer %s: another process is working on it", e.Number, e.State),
		Hint:    "run the same command again",
	}
}

// Fence locks the entries of loads inside a transaction, and sees that they are as they were read: where a lock is lost
// with its connection, or each node of a cluster has locks of its own, another process may have changed them.
func Fence(ctx context.Context, tx store.Tx, j *store.Journal, entries ...*Entry) error {
	for _, e := range entries {
		as := Cells(j.Loads, "number", e.Number, "state", string(e.State))
		// An update that changes nothing locks the row, but not every engine counts it.
		_, err := tx.Set(ctx, j.Loads, as[1:], as)
		if err != nil {
			return err
		}
		n, err := tx.Find(ctx, j.Loads, []*schema.Column{as[0].Column, as[1].Column}, []value.Value{as[0].Value, as[1].Value})
		if err != nil {
			return err
		}
		if n != 1 {
			return NoLongerError(e)
		}
	}
	return nil
}
