package mysql

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"iter"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/go-sql-driver/mysql"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
	"evensprout/internal/value"
)

// transaction is one transaction.
type transaction struct {
	*setwise.Tx
	db   *database
	done bool

	loose   bool // the server does not look at references, and Settle does
	written map[*schema.Table]bool
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
	level := d.isolation
	if o.Isolation != "" {
		level = strings.ToUpper(string(o.Isolation))
	}
	d.fresh = level != "READ COMMITTED"
	for _, s := range []string{"SET TRANSACTION ISOLATION LEVEL " + level, "START TRANSACTION"} {
		if _, err := d.Exec(ctx, s); err != nil {
			return nil, err
		}
	}
	d.within, d.lasting, d.unmarked = true, false, false
	tx := &transaction{Tx: setwise.NewTx(d), db: d}
	tx.Late = o.Late
	if len(o.Loose) > 0 {
		tx.loose, tx.written = true, map[*schema.Table]bool{}
		if _, err := d.Exec(ctx, "SET SESSION foreign_key_checks = 0"); err != nil {
			tx.Rollback()
			return nil, err
		}
	}
	return tx, nil
}

func (tx *transaction) Rollback() error {
	if tx.done {
		return nil
	}
	tx.done, tx.db.within = true, false
	ctx, cancel := context.WithTimeout(context.Background(), connectWait)
	defer cancel()
	_, err := tx.db.Exec(ctx, "ROLLBACK")
	err = errors.Join(err, tx.tighten())
	var fault *store.Fault
	if errors.As(err, &fault) && fault.Kind == store.Lost {
		return nil // the server rolls back by itself
	}
	return err
}

// Settle holds references against the tables that the server did not look at. Else it
// does nothing: the engine puts nothing off.
func (tx *transaction) Settle(ctx context.Context) error {
	for t := range tx.written {
		for i := range t.References {
			r := &t.References[i]
			if r.To == nil {
				continue
			}
			v, err := tx.Orphan(ctx, t, r)
			if err != nil {
				return err
			}
			if v != nil {
				return v
			}
		}
	}
	return nil
}

// tighten lets the server look at references again.
func (tx *transaction) tighten() error {
	if !tx.loose {
		return nil
	}
	tx.loose = false
	ctx, cancel := context.WithTimeout(context.Background(), connectWait)
	defer cancel()
	_, err := tx.db.Exec(ctx, "SET SESSION foreign_key_checks = 1")
	return err
}

// wrote notes a table whose references Settle looks at.
func (tx *transaction) wrote(t *schema.Table) {
	tx.db.lasting = tx.db.lasting || t.Unsafe
	if tx.loose {
		tx.written[t] = true
	}
}

// Stage notes which table its rows are for.
func (tx *transaction) Stage(ctx context.Context, w *store.Write, rows store.Rows) (store.Stage, error) {
	tx.wrote(w.Table)
	return tx.Tx.Stage(ctx, w, rows)
}

func (tx *transaction) Commit(ctx context.Context) error {
	_, err := tx.db.Exec(ctx, "COMMIT")
	var fault *store.Fault
	if err == nil {
		tx.done, tx.db.within = true, false
		return tx.tighten()
	} else if errors.As(err, &fault) && fault.Kind == store.Lost || ctx.Err() != nil {
		tx.done, tx.db.within = true, false
		return &store.Fault{Kind: store.Unanswered, Message: "the connection broke during the commit, so the " +
			"load may or may not be committed", Err: err,
			Hint: "look at the tables before you do anything else; nothing was retried"}
	}
	return err
}

// Insert loads rows into the table itself.
func (tx *transaction) Insert(ctx context.Context, into store.Into, rows store.Rows) (int64, error) {
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	tx.wrote(into.Table)
	n, err := tx.db.load(ctx, tx.db.Table(into.Table), into, rows, false)
	return n, setwise.Named(err, into.Table)
}

// Fill loads rows into a temporary table, behind their numbers.
func (d *database) Fill(ctx context.Context, table string, into store.Into, rows store.Rows) (int64, error) {
	return d.load(ctx, table, into, rows, true)
}

// InsertUnkeyed reads back the keys that the server gives. They are never computed
// from the first one: servers of a cluster count in steps.
func (tx *transaction) InsertUnkeyed(
	ctx context.Context,
	into store.Into,
	key *schema.Column,
	rows store.Rows,
) ([]value.Value, error) {
	tx.wrote(into.Table)
	var keys []value.Value
	for b := range rows {
		if !tx.db.maria {
			for i := range b.Len {
				one := b.Slice(i, i+1)
				sql, args := tx.db.valuesOf(tx.db.Table(into.Table), into, []*value.Batch{one}, -1)
				began := time.Now()
				r, err := tx.db.conn.ExecContext(ctx, sql, args...)
				tx.db.tally.Note(sql, 1, time.Since(began), into.Of(one.Row(0)))
				if err != nil {
					return nil, numbered(tx.db.err(ctx, err), int64(len(keys)))
				}
				id, err := r.LastInsertId()
				if err != nil {
					return nil, tx.db.err(ctx, err)
				}
				keys = append(keys, value.Int(id))
			}
			continue
		}
		for part := range parts(b, tx.db.most(into)) {
			sql, args := tx.db.valuesOf(tx.db.Table(into.Table), into, []*value.Batch{part}, -1)
			began := time.Now()
			found, err := tx.db.conn.QueryContext(ctx, sql+" RETURNING "+tx.db.Quote(key.Name), args...)
			if err != nil {
				return nil, tx.db.err(ctx, err)
			}
			var cell []byte
			before := len(keys)
			for found.Next() {
				if err := found.Scan(&cell); err != nil {
					return nil, errors.Join(tx.db.err(ctx, err), found.Close())
				}
				keys = append(keys, setwise.ReadText(key, string(cell)))
			}
			if err := errors.Join(found.Err(), found.Close()); err != nil {
				return nil, tx.db.err(ctx, err)
			}
			tx.db.tally.Note(short(sql), int64(len(keys)-before), time.Since(began), into.Of(part.Row(0)))
		}
	}
	return keys, nil
}

func numbered(err error, row int64) error {
	var v *store.Violation
	if errors.As(err, &v) {
		v.Row = row
	}
	return err
}

// handlers numbers the readers that the driver knows by name: its registry is one for
// the whole program.
var handlers atomic.Int64

// load sends rows by LOAD DATA LOCAL, or by INSERT where the server does not allow
// that. LOCAL makes the server leave out and cut what does not fit, with no more than
// a warning; so the rows count as loaded only if all are there and nothing was said.
func (d *database) load(
	ctx context.Context,
	table string,
	into store.Into,
	rows store.Rows,
	withNumbers bool,
) (int64, error) {
	columns := into.Columns
	if withNumbers {
		columns = append([]*schema.Column{setwise.Ordinal}, columns...)
	}
	if !d.local || len(columns) == 0 {
		return d.insert(ctx, table, into, rows, withNumbers)
	}
	var list, set []string
	for i, c := range columns {
		if made := madeBy(c); made != "" {
			list = append(list, fmt.Sprintf("@b%d", i))
			set = append(set, fmt.Sprintf("%s = %s(@b%d%s", d.Quote(c.Name), made, i, madeEnd(c)))
			continue
		}
		list = append(list, d.Quote(c.Name))
	}
	s := &stream{into: into, numbered: withNumbers}
	var stop func()
	var first []value.Value
	s.next, stop = iter.Pull(store.FirstRow(into, rows, &first))
	name := fmt.Sprintf("evensprout-%d", handlers.Add(1))
	mysql.RegisterReaderHandler(name, func() io.Reader { return s })
	text := " INTO TABLE " + table + ` CHARACTER SET utf8mb4 FIELDS TERMINATED BY '\t' ESCAPED BY '\\' LINES ` +
		`TERMINATED BY '\n' (` + strings.Join(
		list,
		", ",
	) + ")"
	if set != nil {
		text += " SET " + strings.Join(set, ", ")
	}
	began := time.Now()
	r, err := d.conn.ExecContext(ctx, "LOAD DATA LOCAL INFILE 'Reader::"+name+"'"+text)
	stop()
	mysql.DeregisterReaderHandler(name)
	loaded := int64(0)
	if err == nil {
		loaded, err = r.RowsAffected()
	}
	d.tally.Note("LOAD DATA LOCAL INFILE"+text, loaded, time.Since(began), first)
	if err != nil {
		return loaded, d.err(ctx, err)
	}
	var warnings int64
	if err := d.conn.QueryRowContext(ctx, "SELECT @@warning_count").Scan(&warnings); err != nil {
		return loaded, d.err(ctx, err)
	}
	if warnings > 0 || loaded != s.rows {
		return loaded, d.warned(ctx, into, s.rows-loaded)
	}
	return loaded, nil
}

// madeBy is the function that makes the values of a column of their text, with madeEnd
// behind it; empty where the server reads the text itself.
func madeBy(c *schema.Column) string {
	switch {
	case c.Kind == schema.Bytes:
		return "UNHEX"
	case c.Type == "bit":
		return "CAST"
	case isGeometry(c):
		return "ST_GeomFromText"
	}
	return ""
}

func madeEnd(c *schema.Column) string {
	if c.Type == "bit" {
		return " AS UNSIGNED)"
	}
	return ")"
}

func isGeometry(c *schema.Column) bool { return geometries[c.Type] != "" }

// warned makes a violation of the server's first warning.
func (d *database) warned(ctx context.Context, into store.Into, missing int64) error {
	rows, err := d.conn.QueryContext(ctx, "SHOW WARNINGS LIMIT 1")
	if err != nil {
		return d.err(ctx, err)
	}
	defer rows.Close()
	v := &store.Violation{
		Kind:    store.Raised,
		Row:     -1,
		Message: fmt.Sprintf("the server left out %d rows without a reason", missing),
	}
	for rows.Next() {
		var level, message string
		var code uint16
		if err := rows.Scan(&level, &code, &message); err != nil {
			return d.err(ctx, err)
		}
		if v = violationOf(code, message); v == nil {
			v = &store.Violation{Kind: store.BadValue, Row: -1, Code: fmt.Sprint(code), Message: message}
		}
		v.Row = rowIn(message)
		v.Columns, v.Constraint = columnIn(message, into)
	}

	v.Table = into.Table.Name
	return errors.Join(d.err(ctx, rows.Err()), v)
}

// columnIn reads the column that a warning names in quotes: no code tells it.
func columnIn(message string, into store.Into) ([]string, string) {
	for _, c := range into.Columns {
		if strings.Contains(message, "`"+c.Name+"`") || strings.Contains(message, "'"+c.Name+"'") {
			return []string{c.Name}, c.Declared
		}
	}
	return nil, ""
}

// rowIn reads the row of a load that a warning names at its end, counted from 0; -1 if
// it names none.
func rowIn(message string) int64 {
	digits := message[len(strings.TrimRight(message, "0123456789")):]
	if n, err := strconv.ParseInt(digits, 10, 64); err == nil && n > 0 {
		return n - 1
	}
	return -1
}

// stream writes rows in the form that LOAD DATA reads.
type stream struct {
	into     store.Into
	numbered bool
	next     func() (*value.Batch, bool)
	buf      []byte
	at       int // what is read of buf
	rows     int64
}

func (s *stream) Read(p []byte) (int, error) {
	for s.at == len(s.buf) {
		s.buf, s.at = s.buf[:0], 0
		b, ok := s.next()
		if !ok {
			return 0, io.EOF
		}
		for i := range b.Len {
			row := b.Row(i)
			if s.numbered {
				s.buf = strconv.AppendInt(s.buf, s.rows, 10)
			}
			for j, f := range s.into.Fields {
				if j > 0 || s.numbered {
					s.buf = append(s.buf, '\t')
				}
				s.buf = appendField(s.buf, &row[f], s.into.Columns[j])
			}
			s.buf = append(s.buf, '\n')
			s.rows++
		}
	}

	n := copy(p, s.buf[s.at:])
	s.at += n
	return n, nil
}

func appendField(b []byte, v *value.Value, c *schema.Column) []byte {
	switch {
	case v.IsNull():
		return append(b, `\N`...)
	case c.Kind == schema.Bytes:
		return hex.AppendEncode(b, []byte(v.S))
	case v.Type != value.Text && v.Type != value.JSON:
		return appendText(b, v, c)
	}

	from := 0
	for i := 0; i < len(v.S); i++ {
		var sign byte
		switch v.S[i] {
		case '\\':
			sign = '\\'
		case '\t':
			sign = 't'
		case '\n':
			sign = 'n'
		case 0:
			sign = '0'
		default:
			continue
		}
		b = append(append(b, v.S[from:i]...), '\\', sign)
		from = i + 1
	}
	return append(b, v.S[from:]...)
}

// Limits on one INSERT: the server's packet, and what is pleasant to look at in its
// logs.
const (
	maxInsertRows = 500
	cellEstimate  = 64 // bytes
)

// most is how many rows one INSERT takes, at first.
func (d *database) most(into store.Into) int {
	return max(1, min(maxInsertRows, int(d.packet/2)/(cellEstimate*max(1, len(into.Columns)))))
}

// parts cuts a batch.
func parts(b *value.Batch, most int) iter.Seq[*value.Batch] {
	return func(yield func(*value.Batch) bool) {
		for at := 0; at < b.Len; at += most {
			if !yield(b.Slice(at, min(at+most, b.Len))) {
				return
			}
		}
	}
}

// insert sends rows by INSERT statements of many rows, cut by the bytes that they have.
func (d *database) insert(
	ctx context.Context,
	table string,
	into store.Into,
	rows store.Rows,
	withNumbers bool,
) (int64, error) {
	total := int64(0)
	for b := range rows {
		for part := range parts(b, d.most(into)) {
			for from := 0; from < part.Len; {
				to := d.fits(into, part, from)
				first := int64(-1)
				if withNumbers {
					first = total
				}
				text, args := d.valuesOf(table, into, []*value.Batch{part.Slice(from, to)}, first)
				began := time.Now()
				r, err := d.conn.ExecContext(ctx, text, args...)
				n := int64(0)
				if err == nil {
					n, err = r.RowsAffected()
				}
				d.tally.Note(short(text), n, time.Since(began), into.Of(part.Row(from)))
				if err != nil {
					return total, d.err(ctx, err)
				}
				total += n
				from = to
			}
		}
	}
	return total, nil
}

// fits finds how many rows from a place on have no more bytes than half a packet.
func (d *database) fits(into store.Into, b *value.Batch, from int) int {
	left := d.packet / 2
	for i := from; i < b.Len; i++ {
		for _, f := range into.Fields {
			left -= int64(2*len(b.Row(i)[f].S)) + cellEstimate
		}
		if left < 0 && i > from {
			return i
		}
	}
	return b.Len
}

// short is what the tally calls an INSERT of many rows: they differ by their number.
func short(text string) string {
	if i := strings.Index(text, "), ("); i >= 0 {
		return text[:i+1] + ", ..."
	}
	return text
}

// valuesOf makes an INSERT of rows, numbered from first, if that is not negative.
func (d *database) valuesOf(table string, into store.Into, batches []*value.Batch, first int64) (string, []any) {
	columns := into.Columns
	if first >= 0 {
		columns = append([]*schema.Column{setwise.Ordinal}, columns...)
	}
	params := make([]string, len(columns))
	for i, c := range columns {
		params[i] = d.Param(0, c)
	}
	group := "(" + strings.Join(params, ", ") + ")"
	var groups []string
	var args []any
	for _, b := range batches {
		for i := range b.Len {
			groups = append(groups, group)
			if first >= 0 {
				args = append(args, first)
				first++
			}
			for j, f := range into.Fields {
				v := &b.Row(i)[f]
				if into.Columns[j].Kind == schema.Bytes && v.Type == value.Text {
					args = append(args, []byte(v.S))
					continue
				}
				args = append(args, bound(v, into.Columns[j]))
			}
		}
	}
	return "INSERT INTO " + table + " (" + strings.Join(
		setwise.Names(d, "", columns),
		", ",
	) + ") VALUES " + strings.Join(
		groups,
		", ",
	), args
}
