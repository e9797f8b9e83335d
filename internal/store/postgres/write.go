package postgres

import (
	"cmp"
	"context"
	"errors"
	"io"
	"iter"
	"slices"
	"strings"
	"sync"
	"time"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
	"evensprout/internal/value"
)

func args(texts ...string) []setwise.Arg {
	out := make([]setwise.Arg, len(texts))
	for i, t := range texts {
		out[i].Value = value.String(t)
	}
	return out
}

// transaction is one transaction.
type transaction struct {
	*setwise.Tx
	db    *database
	done  bool
	loose []store.Loose
}

func (d *database) Begin(ctx context.Context, o store.TxOptions) (store.Tx, error) {
	if d.guard != nil && !o.Reads {
		return nil, d.guard
	}
	if d.tables == nil {
		if _, err := d.Survey(ctx); err != nil {
			return nil, err
		}
	}
	level := strings.ToUpper(string(cmp.Or(o.Isolation, store.ReadCommitted)))
	if _, err := d.Exec(ctx, "BEGIN ISOLATION LEVEL "+level+" READ WRITE"); err != nil {
		return nil, err
	}
	tx := &transaction{Tx: setwise.NewTx(d), db: d}
	tx.Late, tx.loose, tx.Helper = o.Late, o.Loose, tx
	if err := tx.loosen(ctx, "DEFERRABLE"); err != nil {
		tx.Rollback()
		return nil, err
	}
	if o.Late {
		if _, err := d.Exec(ctx, "SET CONSTRAINTS ALL DEFERRED"); err != nil {
			tx.Rollback()
			return nil, err
		}
	}
	return tx, nil
}

// loosen changes how references are looked at. The tables are locked until the end.
func (tx *transaction) loosen(ctx context.Context, how string) error {
	for _, l := range tx.loose {
		sql := "ALTER TABLE " + tx.db.Table(l.Table) + " ALTER CONSTRAINT " + tx.db.Quote(l.Reference.Name) + " " + how
		if _, err := tx.db.Exec(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

// tighten makes loosened references as they were, before a commit.
func (tx *transaction) tighten(ctx context.Context) error {
	if len(tx.loose) == 0 {
		return nil
	}
	if _, err := tx.db.Exec(ctx, "SET CONSTRAINTS ALL IMMEDIATE"); err != nil {
		return err
	}
	return tx.loosen(ctx, "NOT DEFERRABLE")
}

func (tx *transaction) Rollback() error {
	if tx.done {
		return nil
	}
	tx.done = true
	if tx.db.conn.IsClosed() {
		return nil // the server rolls back by itself
	}
	ctx, cancel := context.WithTimeout(context.Background(), connectWait)
	defer cancel()
	_, err := tx.db.Exec(ctx, "ROLLBACK")
	return err
}

// Settle holds deferred constraints against the tables, so that a row can still be
// named. What is written afterwards is late again.
func (tx *transaction) Settle(ctx context.Context) error {
	if err := tx.Savepoint(ctx, "evensprout_settle"); err != nil {
		return err
	}
	_, err := tx.db.Exec(ctx, "SET CONSTRAINTS ALL IMMEDIATE")
	if err == nil && tx.Late {
		_, err = tx.db.Exec(ctx, "SET CONSTRAINTS ALL DEFERRED")
	}
	if err == nil {
		return tx.Release(ctx, "evensprout_settle")
	}
	var v *store.Violation
	if !errors.As(err, &v) {
		return err
	}
	if back := tx.RollbackTo(ctx, "evensprout_settle"); back != nil {
		return errors.Join(err, back)
	}
	return tx.Blame(ctx, v, tx.db.tables)
}

func (tx *transaction) Commit(ctx context.Context) error {
	if err := tx.tighten(ctx); err != nil {
		return err
	}
	if tx.Helps() {
		if err := tx.Settle(ctx); err != nil { // an index cannot be dropped while checks of its table are pending
			return err
		}
		if err := tx.EndHelp(ctx); err != nil {
			return err
		}
	}
	if tx.db.conn.TxStatus() == 'E' { // the server would roll back, and say so without an error
		return &store.Fault{
			Kind:    store.Refused,
			Message: "the transaction had already failed, so it was rolled back",
		}
	}
	_, err := tx.db.Exec(ctx, "COMMIT")
	var fault *store.Fault
	switch {
	case err == nil:
		tx.done = true
	case errors.As(err, &fault) && fault.Kind == store.Lost, ctx.Err() != nil && tx.db.conn.IsClosed():
		tx.done = true
		return &store.Fault{
			Kind:    store.Unanswered,
			Message: "the connection broke during the commit, so the load may or may not be committed",
			Err:     err,
			Hint:    "look at the tables before you do anything else; nothing was retried",
		}
	}
	return err
}

// Insert copies rows into the table itself.
func (tx *transaction) Insert(ctx context.Context, into store.Into, rows store.Rows) (int64, error) {
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	if into.Table.Ruled { // COPY passes rules by
		st, err := tx.Stage(ctx, &store.Write{Into: into, Mode: store.Insert}, rows)
		if err != nil {
			return 0, err
		}
		out, err := st.Apply(ctx, 0, st.Rows())
		return out.Inserted, err
	}
	n, err := tx.db.copyRows(ctx, tx.db.Table(into.Table), into, rows, false)
	return n, setwise.Named(err, into.Table)
}

// InsertUnkeyed asks the database for keys first, as many as there are rows.
func (tx *transaction) InsertUnkeyed(
	ctx context.Context,
	into store.Into,
	key *schema.Column,
	rows store.Rows,
) ([]value.Value, error) {
	expression, err := tx.db.defaultOf(ctx, into.Table, key)
	if err != nil {
		return nil, err
	}
	var keys []value.Value
	for b := range rows {
		first := len(keys)
		err := tx.db.Query(
			ctx,
			"SELECT "+expression+" FROM pg_catalog.generate_series(1::bigint, $1::bigint)",
			[]setwise.Arg{{Value: value.Int(int64(b.Len))}},
			[]*schema.Column{key},
			func(row []value.Value) error {
				keys = append(keys, row[0])
				return nil
			},
		)
		if err != nil {
			return nil, err
		}
		keyed, full := setwise.WithKeys(into, key, b, keys[first:])
		if _, err := tx.Insert(ctx, full, func(yield func(*value.Batch) bool) { yield(keyed) }); err != nil {
			return nil, err
		}
	}
	return keys, nil
}

// Fill copies rows into a temporary table, behind their numbers.
func (d *database) Fill(ctx context.Context, table string, into store.Into, rows store.Rows) (int64, error) {
	return d.copyRows(ctx, table, into, rows, true)
}

// copyRows streams rows by COPY, in the binary format where all columns have one.
func (d *database) copyRows(
	ctx context.Context,
	table string,
	into store.Into,
	rows store.Rows,
	numbered bool,
) (int64, error) {
	columns := into.Columns
	if numbered {
		columns = append([]*schema.Column{setwise.Ordinal}, columns...)
	}
	if len(columns) == 0 {
		return d.insertDefaults(ctx, table, rows)
	}
	s := &stream{
		into:     into,
		numbered: numbered,
		text:     !slices.ContainsFunc(into.Columns, func(c *schema.Column) bool { return !hasBinary(c) }),
	}
	s.text = !s.text
	format := "binary"
	if s.text {
		format = "text"
	}
	var stop func()
	var first []value.Value
	s.next, stop = iter.Pull(store.FirstRow(into, rows, &first))
	sql := "COPY " + table + " (" + strings.Join(
		setwise.Names(d, "", columns),
		", ",
	) + ") FROM STDIN (FORMAT " + format + ")"
	began := time.Now()
	tag, err := d.conn.CopyFrom(ctx, s, sql)
	s.close(stop)
	d.tally.Note(sql, tag.RowsAffected(), time.Since(began), first)
	if s.err != nil {
		return 0, s.err // the cause of a broken stream
	}
	if err != nil {
		return 0, d.err(ctx, err)
	}
	if tag.RowsAffected() != s.rows {
		// A trigger or rule left rows out.
		return tag.RowsAffected(), nil
	}
	return s.rows, nil
}

// insertDefaults adds rows of which the plan says no column.
func (d *database) insertDefaults(ctx context.Context, table string, rows store.Rows) (int64, error) {
	n := int64(0)
	for b := range rows {
		for range b.Len {
			added, err := d.Exec(ctx, "INSERT INTO "+table+" DEFAULT VALUES")
			if err != nil {
				return n, err
			}
			n += added
		}
	}
	return n, nil
}

// stream encodes rows while the server reads them.
type stream struct {
	into     store.Into
	numbered bool
	text     bool
	next     func() (*value.Batch, bool)
	buf      []byte
	at       int // what is read of buf
	rows     int64
	begun    bool
	ended    bool
	err      error

	mu sync.Mutex // where the connection breaks, it may be read on for a moment
}

// close ends the stream: what reads on gets nothing more.
func (s *stream) close(stop func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.buf, s.at, s.ended = nil, 0, true
	stop()
}

// copyHeader begins the binary format: a signature, flags, no extension.
const copyHeader = "PGCOPY\n\xff\r\n\x00\x00\x00\x00\x00\x00\x00\x00\x00"

func (s *stream) Read(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for s.at == len(s.buf) {
		if s.ended {
			return 0, io.EOF
		}
		s.buf, s.at = s.buf[:0], 0
		if !s.begun && !s.text {
			s.buf = append(s.buf, copyHeader...)
		}
		s.begun = true
		b, ok := s.next()
		if !ok {
			s.ended = true
			if !s.text {
				s.buf = append(s.buf, 0xff, 0xff)
			}
			continue
		}
		for i := range b.Len {
			if s.err = s.append(b.Row(i)); s.err != nil {
				return 0, s.err
			}
		}
	}

	n := copy(p, s.buf[s.at:])
	s.at += n
	return n, nil
}

func (s *stream) append(row []value.Value) error {
	n := s.rows
	s.rows++
	if s.text {
		if s.numbered {
			s.buf = appendCopyText(s.buf, &value.Value{Type: value.Integer, N: n}, nil)
		}
		for i, f := range s.into.Fields {
			if i > 0 || s.numbered {
				s.buf = append(s.buf, '\t')
			}
			s.buf = appendCopyText(s.buf, &row[f], s.into.Columns[i])
		}
		s.buf = append(s.buf, '\n')
		return nil
	}

	fields := len(s.into.Fields)
	if s.numbered {
		fields++
	}
	s.buf = append(s.buf, byte(fields>>8), byte(fields))
	if s.numbered {
		s.buf = appendInt(s.buf, 8, n)
	}
	for i, f := range s.into.Fields {
		var err error
		if s.buf, err = appendBinary(s.buf, &row[f], s.into.Columns[i]); err != nil {
			return &store.Violation{
				Kind:       store.BadValue,
				Row:        n,
				Table:      s.into.Table.Name,
				Columns:    []string{s.into.Columns[i].Name},
				Values:     []value.Value{row[f]},
				Constraint: s.into.Columns[i].Declared,
				Message:    err.Error(),
			}
		}
	}
	return nil
}
