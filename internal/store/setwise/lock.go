package setwise

import (
	"context"
	"errors"
	"maps"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// Rows are locked before anybody looks at what refers to them. A look that comes first misses a child that another
// transaction has added and not yet committed; the deletion then waits for that commit, and takes the child along.

// Lock locks the rows that match, in the order of their keys. What is found out about them afterwards stays true until
// the transaction ends.
func (s *stage) Lock(ctx context.Context) error {
	if s.locked {
		return nil
	}
	if err := s.counted(ctx); err != nil {
		return err
	}
	err := s.tx.lock(ctx, s.w.Table, s.name+" AS s JOIN "+s.table+" AS t ON "+s.on)
	s.locked = err == nil
	return err
}

// lockSpan locks the rows of a span.
func (tx *Tx) lockSpan(ctx context.Context, s store.Span) error {
	condition, args := tx.within("t.", s.Key, s, 1)
	return tx.lock(ctx, s.Table, tx.Engine.Table(s.Table)+" AS t WHERE "+condition, args...)
}

// lock locks the rows t of a table that a FROM clause yields.
func (tx *Tx) lock(ctx context.Context, t *schema.Table, from string, args ...Arg) error {
	e := tx.Engine
	if e.Locking(false) == "" {
		return nil // nobody else writes meanwhile
	}
	order := ""
	if len(t.PrimaryKey) > 0 {
		order = " ORDER BY " + strings.Join(Names(e, "t.", columnsOf(t, t.PrimaryKey)), ", ")
	}
	sql := "SELECT count(*) FROM (SELECT 1 AS found FROM " + from + order + e.Locking(false) + ") AS locked"
	lockTable := e.LockTable(t)
	if lockTable == "" {
		_, err := Number(ctx, e, sql, args...)
		return err
	}
	err := tx.try(ctx, func() error {
		_, err := Number(ctx, e, sql, args...)
		return err
	})
	// Who may delete rows, but not change them, may lock the table alone.
	var fault *store.Fault
	if errors.As(err, &fault) && fault.Kind == store.Denied {
		_, err = e.Exec(ctx, lockTable)
	}
	return err
}

// LockRows locks all rows of a table to which rows of others can refer.
func (tx *Tx) LockRows(ctx context.Context, db *schema.Database, t *schema.Table) error {
	e := tx.Engine
	if _, done := tx.lockedRows[t.Name]; done || e.Locking(false) == "" || len(tx.referrersOf(db, t)) == 0 {
		return nil
	}
	var n int64
	var err error
	if sql := e.LockTable(t); sql != "" {
		n = unknown
		_, err = e.Exec(ctx, sql)
	} else {
		n, err = Number(ctx, e, "SELECT count(*) FROM (SELECT 1 AS found FROM "+e.Table(t)+" AS t"+e.Locking(false)+") AS locked")
	}
	if err != nil {
		return err
	}
	if tx.lockedRows == nil {
		tx.lockedRows = map[string]int64{}
	}
	tx.lockedRows[t.Name] = n
	return nil
}

// unknown is the number of rows of a table that is locked as a whole: nobody can add any.
const unknown = -1

// unlocked forgets locks that ended when the transaction went back to a mark.
func (tx *Tx) unlocked() { maps.DeleteFunc(tx.lockedRows, func(string, int64) bool { return true }) }

// Clear deletes all rows of a table. It never truncates: a reader who began earlier
// must go on seeing the old rows. Of a table whose rows are locked it deletes no others: rows that somebody has added
// since, with rows that refer to them, are a *store.Fault of kind Transient.
func (tx *Tx) Clear(ctx context.Context, t *schema.Table) (int64, error) {
	n, err := tx.Engine.Exec(ctx, "DELETE FROM "+tx.Engine.Table(t))
	if locked, ok := tx.lockedRows[t.Name]; err == nil && ok && locked != unknown && n > locked {
		err = &store.Fault{Kind: store.Transient, Message: "another program added rows to " + t.Name + " while it was emptied"}
	}
	return n, err
}
