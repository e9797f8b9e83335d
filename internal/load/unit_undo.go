package load

import (
	"bufio"
	"bytes"
	"cmp"
	"compress/flate"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// contentUnit are the rows that transactions of a unit have added, changed and removed,
// and familyUnit stands for a family in their keys.
const (
	contentUnit       = "unit"
	familyUnit  int64 = -3
)

// undoKind is what was done to rows.
type undoKind string

const (
	undoAdded   undoKind = "added"
	undoChanged undoKind = "changed"
	undoRemoved undoKind = "removed"
)

// undoSection is rows of one table to which a step did the same. The columns are those
// of the key, then, of added rows, the others that were written, of changed ones what
// was kept, twice (before, after), and of removed rows all columns of the table.
type undoSection struct {
	Step    int      `json:"step"`
	Kind    undoKind `json:"kind"`
	Table   string   `json:"table"`
	Key     []string `json:"key,omitempty"`
	Columns []string `json:"columns,omitempty"`
	values  [][]grow.Value
}

// alike tells whether another section is about the same columns in the same way.
func (s *undoSection) alike(o undoSection) bool {
	return s.Step == o.Step && s.Kind == o.Kind && s.Table == o.Table && slices.Equal(s.Key, o.Key) && slices.Equal(s.Columns, o.Columns)
}

// undoLog is what a transaction did, in order.
type undoLog struct{ sections []undoSection }

// add adds rows; those of the same step and table go into one section.
func (u *undoLog) add(s undoSection) {
	if len(s.values) > 0 {
		u.sections = append(u.sections, s)
	}
}

// added notes rows that a step added; without a key they cannot be found again.
func (u *undoLog) added(s *unitStep, values [][]grow.Value, keys []grow.Value) {
	var columns []*schema.Column
	var places []int
	for _, k := range s.rowKey {
		if k == s.key {
			continue
		}
		i := slices.Index(s.into.Columns, k)
		if i < 0 {
			return
		}
		columns, places = append(columns, k), append(places, s.into.Fields[i])
	}
	if len(s.rowKey) == 0 {
		return
	}
	section := undoSection{Step: s.index, Kind: undoAdded, Table: s.Table.Name, Key: namesOf(s.rowKey)}
	for i, c := range s.into.Columns {
		if !slices.Contains(columns, c) {
			section.Columns, places = append(section.Columns, c.Name), append(places, s.into.Fields[i])
		}
	}
	for i, row := range values {
		var out []grow.Value
		if s.key != nil {
			out = append(out, keys[i])
		}
		for _, at := range places {
			out = append(out, row[at])
		}
		section.values = append(section.values, out)
	}
	u.add(section)
}

func (u *undoLog) changed(s *unitStep, before, after [][]grow.Value) {
	k := len(s.rowKey)
	section := undoSection{Step: s.index, Kind: undoChanged, Table: s.Table.Name, Key: namesOf(s.rowKey), Columns: namesOf(s.kept)}
	for i := range before {
		section.values = append(section.values, slices.Concat(before[i], after[i][k:]))
	}
	u.add(section)
}

func (u *undoLog) removed(step int, t *schema.Table, rows [][]grow.Value) {
	u.add(undoSection{Step: step, Kind: undoRemoved, Table: t.Name, Columns: t.ColumnNames(), values: rows})
}

// pack makes packets of the log. Each can be read on its own.
func (u *undoLog) pack() ([]packet, error) {
	var packets []packet
	var buf bytes.Buffer
	var w *flate.Writer
	rows := int64(0)
	var heads []undoSection
	var b []byte
	end := func() error {
		if rows == 0 {
			return nil
		}
		err := w.Close()
		packets = append(packets, packet{rows, bytes.Clone(buf.Bytes())})
		rows = 0
		return err
	}
	const part = 2000 // rows of a section that are packed together
	for _, s := range u.sections {
		for values := range slices.Chunk(s.values, part) {
			if rows == 0 {
				heads = nil
				buf.Reset()
				if w == nil {
					w, _ = flate.NewWriter(&buf, flate.BestSpeed) // the level is valid
				}
				w.Reset(&buf)
			}
			// A head that stood before is known by its number, from 1.
			at := slices.IndexFunc(heads, s.alike)
			if b = binary.AppendUvarint(b[:0], uint64(at+1)); at < 0 {
				head, err := json.Marshal(s)
				if err != nil {
					return nil, err
				}
				heads = append(heads, s)
				b = append(binary.AppendUvarint(b, uint64(len(head))), head...)
			}
			b = binary.AppendUvarint(b, uint64(len(values)))
			for _, row := range values {
				for i := range row {
					b = appendPacked(b, &row[i])
				}
			}
			if _, err := w.Write(b); err != nil {
				return nil, err
			}
			if rows += int64(len(values)); buf.Len() >= packedBytes {
				if err := end(); err != nil {
					return nil, err
				}
			}
		}
	}
	return packets, end()
}

// unpackUndo reads the sections of a packet.
func unpackUndo(body []byte) ([]undoSection, error) {
	r := bufio.NewReader(flate.NewReader(bytes.NewReader(body)))
	var out, heads []undoSection
	for {
		if _, err := r.Peek(1); errors.Is(err, io.EOF) {
			return out, nil
		}
		at, err := binary.ReadUvarint(r)
		if err == nil && at == 0 {
			var head string
			var s undoSection
			if head, err = readText(r); err == nil {
				err = json.Unmarshal([]byte(head), &s)
			}
			heads = append(heads, s)
			at = uint64(len(heads))
		}
		if err != nil || at > uint64(len(heads)) {
			return nil, errors.Join(errPacket, err)
		}
		s := heads[at-1]
		rows, err := binary.ReadUvarint(r)
		if err != nil {
			return nil, errors.Join(errPacket, err)
		}
		width := len(s.Key) + len(s.Columns)
		if s.Kind == undoChanged {
			width += len(s.Columns)
		}
		if width == 0 {
			return nil, errPacket // rows of nothing would have no end
		}
		for range rows {
			row := make([]grow.Value, width)
			for i := range row {
				if row[i], err = readPacked(r); err != nil {
					return nil, errors.Join(errPacket, err)
				}
			}
			s.values = append(s.values, row)
		}
		out = append(out, s)
	}
}

// undoPackets shows the sections of a run of a unit, last ones first, or in the order in
// which they were done.
func undoPackets(ctx context.Context, s store.Store, j *store.Journal, load int64, backward bool, show func(undoSection) error) error {
	of := j.Contents
	var list [][]store.Cell
	key := of.Columns[:5] // load, family, side, first, seq
	err := s.Select(ctx, store.Query{Table: of, Columns: key, Where: cells(of, "load", load, "what", contentUnit)}, func(row []grow.Value) error {
		var where []store.Cell
		for i, c := range key {
			where = append(where, store.Cell{Column: c, Value: row[i]})
		}
		list = append(list, where)
		return nil
	})
	if err != nil {
		return err
	}
	slices.SortFunc(list, func(a, b []store.Cell) int {
		return cmp.Or(cmp.Compare(a[3].Value.N, b[3].Value.N), cmp.Compare(a[4].Value.N, b[4].Value.N))
	})
	if backward {
		slices.Reverse(list)
	}
	for _, where := range list { // one packet in memory at a time
		var body []byte
		err := s.Select(ctx, store.Query{Table: of, Columns: []*schema.Column{of.Column("body")}, Where: where}, func(row []grow.Value) error {
			body = []byte(row[0].S)
			return nil
		})
		if err != nil {
			return err
		}
		sections, err := unpackUndo(body)
		if err != nil {
			return err
		}
		if backward {
			slices.Reverse(sections)
		}
		for _, x := range sections {
			if err := show(x); err != nil {
				return err
			}
		}
	}
	return nil
}

// unitWithdrawal is the taking back of a run of a unit.
type unitWithdrawal struct {
	o      WithdrawOptions
	entry  *Entry
	db     *schema.Database
	tables *store.Journal
	store  store.Store
	tx     store.Tx
	out    Withdrawal

	pending []*undoSection  // to be done together, last steps first
	rows    int             // of these
	keys    map[string]bool // of these rows
}

// withdrawUnit takes a run of a unit back, in one transaction: last steps first, added
// rows go, changed ones get their former contents, and removed ones come back.
func withdrawUnit(ctx context.Context, s store.Store, e *Entry, o WithdrawOptions) (*Withdrawal, error) {
	if e.State == StateWithdrawn {
		return nil, &store.Fault{Kind: store.Refused, Message: fmt.Sprintf("load %d is withdrawn already", e.Number), Hint: "evensprout history lists the loads"}
	}
	began := time.Now()
	db, err := s.Survey(ctx)
	if err != nil {
		return nil, err
	}
	tables, err := s.Journal(ctx, false)
	if err != nil {
		return nil, err
	}
	l := &loader{o: Options{Again: o.Again}, traits: s.Traits()}
	w := &writer{loader: l, store: s}
	defer w.close()
	v := &unitWithdrawal{o: o, entry: e, db: db, tables: tables}
	err = l.repeat(ctx, w, func() error {
		if err := w.begin(ctx); err != nil {
			return err
		}
		v.store, v.tx = w.store, w.tx
		v.out = Withdrawal{Load: e.Number, Plan: e.Plan, Unit: e.About.Unit, DryRun: o.DryRun, byEntity: map[string]int{}}
		if err := v.run(ctx); err != nil {
			return err
		}
		if o.DryRun {
			return w.rollback()
		}
		return w.commit(ctx)
	})
	if err != nil {
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		return nil, err
	}
	v.out.Elapsed = time.Since(began)
	return &v.out, nil
}

func (v *unitWithdrawal) run(ctx context.Context) error {
	of := v.tables.Loads
	n, err := v.tx.Set(ctx, of, cells(of, "state", string(StateWithdrawn)), cells(of, "number", v.entry.Number, "state", string(v.entry.State)))
	if err != nil {
		return err
	}
	if n != 1 {
		return &store.Fault{Kind: store.Refused, Message: fmt.Sprintf("load %d is no longer %s: somebody else works on it", v.entry.Number, v.entry.State)}
	}
	if !v.entry.About.Undo {
		return &store.Fault{Kind: store.Refused, Message: fmt.Sprintf("load %d was run with --no-undo, so it is not known what its steps have changed", v.entry.Number)}
	}
	v.pending, v.rows, v.keys = nil, 0, map[string]bool{}
	err = undoPackets(ctx, v.store, v.tables, v.entry.Number, true, func(s undoSection) error { return v.gather(ctx, s) })
	if err == nil {
		err = v.flush(ctx)
	}
	if err != nil {
		return err
	}
	if err := v.tx.Settle(ctx); err != nil {
		return err
	}
	if _, err := v.tx.Delete(ctx, v.tables.Contents, cells(v.tables.Contents, "load", v.entry.Number)); err != nil {
		return err
	}
	_, err = v.tx.Delete(ctx, v.tables.Occasions, cells(v.tables.Occasions, "load", v.entry.Number))
	return err
}

// maxPending bounds the rows that are taken back together.
const maxPending = 2000

// gather puts sections of many occasions together, as long as no two of them are about
// the same row, and none needs to be done before another in a way that the order of
// steps does not tell.
func (v *unitWithdrawal) gather(ctx context.Context, s undoSection) error {
	keys := make([]string, len(s.values))
	alone := v.rows+len(s.values) > maxPending
	for i, row := range s.values {
		key := row
		if s.Kind != undoRemoved {
			key = row[:len(s.Key)]
		} else if t := v.db.Table(s.Table); t != nil {
			key = nil
			for _, name := range t.PrimaryKey {
				if at := slices.Index(s.Columns, name); at >= 0 {
					key = append(key, row[at])
				}
			}
		}
		keys[i] = s.Table + "\x00" + keyOfValues(key)
		alone = alone || v.keys[keys[i]]
	}
	for _, p := range v.pending {
		alone = alone || v.ordered(p, &s) || v.ordered(&s, p)
	}
	if alone {
		if err := v.flush(ctx); err != nil {
			return err
		}
	}
	for _, k := range keys {
		v.keys[k] = true
	}
	v.rows += len(s.values)
	for _, p := range v.pending {
		if p.alike(s) {
			p.values = append(p.values, s.values...)
			return nil
		}
	}
	v.pending = append(v.pending, &s)
	return nil
}

// ordered tells whether rows of one section may refer to rows of another that is not
// later done back anyway.
func (v *unitWithdrawal) ordered(from, to *undoSection) bool {
	if from.Kind == undoChanged && to.Kind == undoChanged {
		return false
	}
	t := v.db.Table(from.Table)
	if t == nil {
		return false
	}
	for _, r := range t.References {
		if r.To == nil || r.To.Name != to.Table {
			continue
		}
		// A row goes before what it refers to, and comes back after it.
		if !(from.Kind == undoAdded && from.Step > to.Step) && !(from.Kind == undoRemoved && from.Step < to.Step) {
			return true
		}
	}
	return false
}

// flush takes back what was gathered.
func (v *unitWithdrawal) flush(ctx context.Context) error {
	slices.SortStableFunc(v.pending, func(a, b *undoSection) int { return cmp.Compare(b.Step, a.Step) })
	for _, s := range v.pending {
		if err := v.section(ctx, *s); err != nil {
			return err
		}
	}
	v.pending, v.rows, v.keys = nil, 0, map[string]bool{}
	return nil
}

// of is what is told of a table.
func (v *unitWithdrawal) of(table string) *WithdrawnEntity {
	i, ok := v.out.byEntity[table]
	if !ok {
		i = len(v.out.Entities)
		v.out.byEntity[table] = i
		v.out.Entities = append(v.out.Entities, WithdrawnEntity{Entity: v.entry.About.Unit, Table: table})
	}
	return &v.out.Entities[i]
}

func (v *unitWithdrawal) leave(t *schema.Table, key []*schema.Column, row []grow.Value, why string) {
	v.out.Left++
	v.of(t.Name).Left++
	if len(v.out.LeftRows) < maxCompared {
		v.out.LeftRows = append(v.out.LeftRows, LeftRow{Entity: t.Name, Key: pairs(key, row[:len(key)]), Why: why})
	}
}

// section takes back what a step did to rows of one table.
func (v *unitWithdrawal) section(ctx context.Context, s undoSection) error {
	t := v.db.Table(s.Table)
	if t == nil {
		v.out.Left += int64(len(s.values))
		return nil
	}
	var columns []*schema.Column
	for _, name := range slices.Concat(s.Key, s.Columns) {
		c := t.Column(name)
		if c == nil {
			return &store.Fault{Kind: store.Refused, Message: fmt.Sprintf("the table %s has no column %s any more, which load %d wrote", s.Table, name, v.entry.Number)}
		}
		columns = append(columns, c)
	}
	if s.Kind == undoRemoved {
		return v.giveBack(ctx, t, columns, s.values)
	}
	k := len(s.Key)
	key := columns[:k]
	written := make([][]grow.Value, len(s.values)) // as the step left them
	for i, row := range s.values {
		if written[i] = row; s.Kind == undoChanged {
			written[i] = slices.Concat(row[:k], row[len(columns):])
		}
	}
	st, err := v.stage(ctx, t, columns, key, written)
	if err != nil {
		return err
	}
	skip := make([]bool, len(s.values))
	gone, err := st.Unmatched(ctx, 0)
	if err != nil {
		return err
	}
	for _, n := range gone {
		skip[n] = true
		v.of(t.Name).Gone++
	}
	if !v.o.Changed {
		differing, err := st.Differing(ctx)
		if err != nil {
			return err
		}
		for _, n := range differing {
			skip[n] = true
			v.leave(t, key, s.values[n], "it was changed since")
		}
	}
	if s.Kind == undoAdded {
		referred, err := st.Referred(ctx, v.db, nil)
		if err != nil {
			return err
		}
		for _, x := range referred {
			if !skip[x.Row] {
				skip[x.Row] = true
				v.leave(t, key, s.values[x.Row], "rows of "+x.Table+" refer to it")
			}
		}
	}
	var rows [][]grow.Value
	for i, row := range s.values {
		if !skip[i] {
			rows = append(rows, row[:len(columns)])
		}
	}
	if len(rows) == 0 {
		return nil
	}
	laid, err := v.tx.Lay(ctx, columns, rows)
	if err != nil {
		return err
	}
	step := &store.Step{Table: t}
	for i := range columns {
		if i < k {
			step.Match = append(step.Match, store.Matched{Column: columns[i], Input: i})
		} else {
			step.Set = append(step.Set, store.Assigned{Column: columns[i], Expr: schema.Given(i)})
		}
	}
	if s.Kind == undoAdded {
		v.of(t.Name).Removed += int64(len(rows))
		return v.told(t, laid.Remove(ctx, step))
	}
	v.of(t.Name).Restored += int64(len(rows))
	_, _, err = laid.Change(ctx, step, nil)
	return v.told(t, err)
}

// stage lays rows aside to be held against a table.
func (v *unitWithdrawal) stage(ctx context.Context, t *schema.Table, columns, key []*schema.Column, rows [][]grow.Value) (store.Stage, error) {
	write := &store.Write{Into: store.Into{Table: t, Columns: columns}, Mode: store.Update, Match: key, Set: columns[len(key):], Distinct: true}
	for i := range columns {
		write.Fields = append(write.Fields, i)
	}
	return v.tx.Stage(ctx, write, batches(rows, len(columns)))
}

// batches are rows as a store reads them.
func batches(rows [][]grow.Value, width int) store.Rows {
	return func(yield func(*grow.Batch) bool) {
		for _, row := range rows {
			if !yield(&grow.Batch{Len: 1, Width: width, Values: row}) {
				return
			}
		}
	}
}

// giveBack adds removed rows again, but for those whose key somebody has used since.
func (v *unitWithdrawal) giveBack(ctx context.Context, t *schema.Table, columns []*schema.Column, rows [][]grow.Value) error {
	into := store.Into{Table: t}
	for i, c := range columns {
		if !c.Generated {
			into.Columns, into.Fields = append(into.Columns, c), append(into.Fields, i)
		}
	}
	st, err := v.tx.Stage(ctx, &store.Write{Into: into, Mode: store.Insert}, batches(rows, len(columns)))
	if err != nil {
		return err
	}
	var key []*schema.Column
	for _, name := range t.PrimaryKey {
		key = append(key, t.Column(name))
	}
	keyOf := func(row []grow.Value) []grow.Value {
		var out []grow.Value
		for _, c := range key {
			out = append(out, row[slices.Index(columns, c)])
		}
		return out
	}
	guilty, err := st.Guilty(ctx)
	if err != nil {
		return err
	}
	var drop []int64
	for _, x := range guilty {
		drop = append(drop, x.Row)
		v.leave(t, key, keyOf(rows[x.Row]), fmt.Sprintf("it cannot come back: %s", x.Message))
	}
	if err := st.Drop(ctx, drop); err != nil {
		return err
	}
	o, err := st.Apply(ctx, 0, int64(len(rows)))
	v.of(t.Name).Returned += o.Inserted
	return v.told(t, err)
}

// told says of which table a refusal is.
func (v *unitWithdrawal) told(t *schema.Table, err error) error {
	var x *store.Violation
	if !errors.As(err, &x) {
		return err
	}
	return &Refusal{Kind: x.Kind, Entity: v.entry.About.Unit, Table: t.Name, Constraint: x.Constraint, Columns: x.Columns, Fields: x.Columns, Refers: x.Refers, Code: x.Code, Message: x.Message,
		Hint: "other rows stand in the way: nothing was withdrawn"}
}
