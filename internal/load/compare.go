package load

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"

	"github.com/zeebo/xxh3"
)

// CompareOptions say how to compare.
type CompareOptions struct {
	Jobs int
	// OnlyMissing looks only whether rows are there.
	OnlyMissing bool
}

// Difference is what the tables hold otherwise than a load wrote it.
type Difference struct {
	Load     int64              `json:"load,omitempty"`
	Entities []EntityDifference `json:"entities"`
	Missing  int64              `json:"missing"`
	Changed  int64              `json:"changed"` // rows
	Extra    int64              `json:"extra"`
	// Meaning are the columns whose values the database rewrites, so that they are
	// compared by what they mean.
	Meaning []string `json:"by_meaning,omitempty"`
}

// Same tells that there is no difference.
func (d *Difference) Same() bool { return d.Missing+d.Changed+d.Extra == 0 }

// EntityDifference is the difference of one entity.
type EntityDifference struct {
	Entity  string `json:"entity"`
	Table   string `json:"table"`
	Planned int64  `json:"planned"` // rows that the load wrote
	Rows    int64  `json:"rows"`    // that the table has
	Missing int64  `json:"missing"`
	Changed int64  `json:"changed"`
	Extra   int64  `json:"extra"`  // rows of a table that the load found empty
	Others  int64  `json:"others"` // rows of a table that had rows before, which are not the plan's
	// Fingerprint tells that the rows were found the same by their fingerprint alone.
	Fingerprint bool `json:"by_fingerprint"`

	MissingRows []RowDifference `json:"missing_rows,omitempty"` // the first of them
	ChangedRows []RowDifference `json:"changed_rows,omitempty"`
	ExtraRows   []RowDifference `json:"extra_rows,omitempty"`
}

// RowDifference is a row that differs.
type RowDifference struct {
	Row   string           `json:"row,omitempty"` // of the plan
	Key   string           `json:"key,omitempty"`
	Cells []CellDifference `json:"cells,omitempty"`
}

// CellDifference is a cell that differs.
type CellDifference struct {
	Field string `json:"field"`
	Is    string `json:"is"`
	Plan  string `json:"plan"`
}

// maxCompared bounds the rows of each kind that a difference tells one by one.
const maxCompared = 1000

// Compare holds the rows that a load wrote against the tables. It writes nothing but
// temporary tables.
func (p *Past) Compare(ctx context.Context, s store.Store, o CompareOptions) (*Difference, error) {
	w := &writer{loader: p.l, store: s}
	defer w.close()
	d := &Difference{Load: p.Entry.Number}
	for _, t := range p.l.list {
		if t.skipped || t.Grow.Total() == 0 {
			continue
		}
		e := EntityDifference{Entity: t.Plan.Name, Table: t.Table.Name}
		var err error
		if e.Rows, err = s.Count(ctx, t.Table); err != nil {
			return nil, err
		}
		d.Meaning = append(d.Meaning, meanings(t)...)
		if e.Planned, e.Fingerprint, err = p.sameByFingerprint(ctx, w, t, e.Rows); err != nil {
			return nil, err
		}
		if !e.Fingerprint {
			if err := p.compareRows(ctx, w, t, o, &e); err != nil {
				return nil, err
			}
		}
		d.Entities = append(d.Entities, e)
		d.Missing += e.Missing
		d.Changed += e.Changed
	}
	if !o.OnlyMissing {
		if err := p.strangers(ctx, w, d); err != nil {
			return nil, err
		}
	}
	return d, w.rollback()
}

// sameByFingerprint counts the rows that the load wrote, and tells whether the table
// holds just these. Where it holds others as well, or the load changed rows that were
// there, it cannot be told in this way.
func (p *Past) sameByFingerprint(ctx context.Context, w *writer, t *target, rows int64) (int64, bool, error) {
	into := t.into()
	var planned grow.Fingerprint
	n := int64(0)
	whole := t.write.Mode == store.Insert || t.write.Mode == store.Replace
	var buf []byte
	for run := range p.runs(w, t, sliceRows) {
		for b := range p.written(w, t, run, nil) {
			n += int64(b.Len)
			if !whole {
				continue
			}
			for i := range b.Len {
				buf = buf[:0]
				for j, f := range into.Fields {
					buf = appendMeaning(buf, into.Columns[j], &b.Row(i)[f])
				}
				h := xxh3.Hash128(buf)
				planned.Add(grow.Fingerprint{Hi: h.Hi, Lo: h.Lo})
			}
		}
		if w.growth != nil {
			return n, false, w.growth
		}
		if err := ctx.Err(); err != nil {
			return n, false, err
		}
	}
	if !whole || n != rows {
		return n, false, nil
	}
	var found grow.Fingerprint
	err := w.store.Select(ctx, store.Query{Table: t.Table, Columns: into.Columns, AsIs: true}, func(row []grow.Value) error {
		buf = buf[:0]
		for j := range row {
			buf = appendMeaning(buf, into.Columns[j], &row[j])
		}
		h := xxh3.Hash128(buf)
		found.Add(grow.Fingerprint{Hi: h.Hi, Lo: h.Lo})
		return nil
	})
	return n, found == planned, err
}

// appendMeaning appends what a value means in a column, without what databases rewrite:
// trailing zeros, the order of keys in JSON, the blanks behind a CHAR.
func appendMeaning(b []byte, c *schema.Column, v *grow.Value) []byte {
	x := *v
	switch {
	case x.IsNull():
	case c.Kind == schema.Boolean && x.Type == grow.Integer:
		x.Type = grow.Boolean
	case c.Kind == schema.Integer && x.Type == grow.Boolean:
		x.Type = grow.Integer
	case c.Kind == schema.Timestamp && x.Type == grow.Date:
		const day = 24 * 60 * 60 * 1_000_000 // microseconds
		x.Type, x.N = grow.Timestamp, x.N*day
	case c.Kind == schema.JSON:
		x = grow.String(sortedJSON(x.S))
	case c.Kind == schema.Bytes:
		x.Type = grow.Bytes
	case c.Kind == schema.Real:
		if f, err := strconv.ParseFloat(x.String(), 64); err == nil {
			x = grow.String(strconv.FormatFloat(f, 'g', -1, 64))
		}
	case c.Kind == schema.Text && padded(c):
		x = grow.String(strings.TrimRight(x.String(), " "))
	case c.Kind == schema.Text || c.Kind == schema.Any:
		x = grow.String(x.String())
	}
	return x.AppendCanonical(b)
}

// padded tells whether a column is filled up with blanks.
func padded(c *schema.Column) bool {
	d := strings.ToLower(c.Declared)
	return strings.HasPrefix(d, "char(") || strings.HasPrefix(d, "character(") || d == "char" || d == "character"
}

// sortedJSON is a JSON text with its keys in order and without blanks.
func sortedJSON(text string) string {
	d := json.NewDecoder(strings.NewReader(text))
	d.UseNumber()
	var v any
	if d.Decode(&v) != nil {
		return text
	}
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if e.Encode(v) != nil {
		return text
	}
	return strings.TrimSpace(b.String())
}

// meanings are columns that are compared by meaning, with the reason.
func meanings(t *target) []string {
	var out []string
	for _, c := range t.write.Columns {
		why := ""
		switch {
		case c.Kind == schema.JSON:
			why = "keys of JSON in any order"
		case c.Kind == schema.Decimal:
			why = "numbers, whatever zeros end them"
		case c.Kind == schema.Real:
			why = "floating-point numbers"
		case c.Kind == schema.Timestamp:
			why = "moments in UTC"
		case c.Kind == schema.Text && padded(c):
			why = "without the blanks at the end"
		default:
			continue
		}
		out = append(out, fmt.Sprintf("%s.%s: %s", t.Table.Name, c.Name, why))
	}
	return out
}

// begin opens the transaction for temporary tables, once.
func (w *writer) beginOnce(ctx context.Context) error {
	if w.tx != nil {
		return nil
	}
	return w.begin(ctx)
}

// compared is a write by which staged rows are held against the table: of rows that the
// load added all columns, else those that it set.
func (p *Past) compared(t *target, added bool) *store.Write {
	write := &store.Write{Into: t.into(), Mode: store.Update, Distinct: true}
	write.Match, write.Alike = t.identity()
	set := t.write.Set
	if added {
		set = write.Columns
	}
	for _, c := range set {
		if !slices.Contains(write.Match, c) {
			write.Set = append(write.Set, c)
		}
	}
	return write
}

// compareRows finds missing and changed rows of an entity.
func (p *Past) compareRows(ctx context.Context, w *writer, t *target, o CompareOptions, e *EntityDifference) error {
	if err := w.beginOnce(ctx); err != nil {
		return err
	}
	for run := range p.runs(w, t, StagedChunk) {
		for _, added := range p.kinds(t) {
			if err := p.compareRun(ctx, w, t, run, added, o, e); err != nil {
				return err
			}
		}
	}
	return nil
}

// kinds are what rows of an entity may be: added by the load, or only changed.
func (p *Past) kinds(t *target) []bool {
	switch t.write.Mode {
	case store.Insert, store.Replace:
		return []bool{true}
	case store.Update:
		return []bool{false}
	}
	return []bool{true, false}
}

// only lets through the rows of a run that the load added, or that it did not.
func (p *Past) only(w *writer, t *target, run order.Run, added bool, into *pass) store.Rows {
	if len(p.kinds(t)) == 1 {
		return p.written(w, t, run, into)
	}
	return func(yield func(*grow.Batch) bool) {
		for b := range p.written(w, t, run, nil) {
			for i := range b.Len {
				if p.added(t, b.At(i)) != added {
					continue
				}
				into.segments = append(into.segments, segment{into.n, b.At(i), 1})
				into.n++
				if !yield(b.Slice(i, i+1)) {
					return
				}
			}
		}
	}
}

func (p *Past) compareRun(ctx context.Context, w *writer, t *target, run order.Run, added bool, o CompareOptions, e *EntityDifference) error {
	rows := &pass{}
	write := p.compared(t, added)
	st, err := w.tx.Stage(ctx, write, p.only(w, t, run, added, rows))
	if err == nil {
		err = w.growth
	}
	if err != nil || rows.n == 0 {
		return err
	}
	missing, err := st.Unmatched(ctx)
	if err != nil {
		return err
	}
	e.Missing += int64(len(missing))
	for _, n := range missing {
		if len(e.MissingRows) == maxCompared {
			break
		}
		e.MissingRows = append(e.MissingRows, RowDifference{Row: t.Grow.Label(rows.row(n)), Key: p.keyText(w, t, rows.row(n), write.Match)})
	}
	if o.OnlyMissing || len(write.Set) == 0 || t.write.Mode == store.Keep && !added {
		return nil
	}
	last := int64(-1)
	return st.Changes(ctx, func(c store.Change) error {
		if c.Row != last {
			last = c.Row
			e.Changed++
			if len(e.ChangedRows) < maxCompared {
				e.ChangedRows = append(e.ChangedRows, RowDifference{Row: t.Grow.Label(rows.row(c.Row)), Key: pairs(write.Match, c.Match)})
			}
		}
		if e.Changed <= maxCompared {
			x := &e.ChangedRows[len(e.ChangedRows)-1]
			x.Cells = append(x.Cells, CellDifference{t.fieldOf(c.Column.Name), c.From.String(), c.To.String()})
		}
		return nil
	})
}

// keyText is the key of a row, for people.
func (p *Past) keyText(w *writer, t *target, row grow.Row, columns []*schema.Column) string {
	if len(columns) > 3 {
		return "" // all that it has: too much to be a key
	}
	for b := range p.written(w, t, order.Run{Target: t.Target, First: row, Rows: 1}, nil) {
		var values []grow.Value
		for _, c := range columns {
			values = append(values, b.Row(0)[slices.Index(t.Columns, c)])
		}
		return pairs(columns, values)
	}
	return ""
}

// strangers counts rows that are not the plan's. They are extra where the load found an
// empty table, and no other load has written into it.
func (p *Past) strangers(ctx context.Context, w *writer, d *Difference) error {
	written := map[string]int64{} // rows of the load that are there, by table
	for _, e := range d.Entities {
		written[e.Table] += e.Planned - e.Missing
	}
	for i := range d.Entities {
		e := &d.Entities[i]
		n := e.Rows - written[e.Table]
		written[e.Table] = e.Rows // once for each table
		if n <= 0 {
			continue
		}
		t := p.l.targetOf(e.Entity)
		foreign, err := p.shared(ctx, w, t)
		if err != nil {
			return err
		}
		if foreign {
			e.Others = n
			continue
		}
		e.Extra = n
		d.Extra += n
		if err := p.showStrangers(ctx, w, t, e); err != nil {
			return err
		}
	}
	return nil
}

func (l *loader) targetOf(entity string) *target {
	i := slices.IndexFunc(l.list, func(t *target) bool { return t.Plan.Name == entity })
	return l.list[i]
}

// shared tells whether a table may hold rows that are not the load's: it had some
// before, or other loads write into it.
func (p *Past) shared(ctx context.Context, w *writer, t *target) (bool, error) {
	if p.Entry.Number == 0 || t.before > 0 && t.write.Mode != store.Replace {
		return true, nil
	}
	all, err := Entries(ctx, w.store, "")
	for _, e := range all {
		if e.Number == p.Entry.Number || e.State == StateWithdrawn {
			continue
		}
		if slices.ContainsFunc(e.About.Entities, func(x AboutEntity) bool { return x.Table == t.Table.Name && !x.Skipped }) {
			return true, err
		}
	}
	return false, err
}

// showStrangers tells the first rows that are not the plan's.
func (p *Past) showStrangers(ctx context.Context, w *writer, t *target, e *EntityDifference) error {
	columns := []*schema.Column{}
	for _, name := range t.Table.PrimaryKey {
		columns = append(columns, t.Table.Column(name))
	}
	if len(columns) == 0 {
		columns = t.Table.Columns
	}
	return p.eachStranger(ctx, w, t, columns, func(row []grow.Value) error {
		if len(e.ExtraRows) < maxCompared {
			e.ExtraRows = append(e.ExtraRows, RowDifference{Key: pairs(columns, row)})
		}
		return nil
	})
}

// eachStranger shows columns of the rows of a table that the load did not write.
func (p *Past) eachStranger(ctx context.Context, w *writer, t *target, columns []*schema.Column, show func([]grow.Value) error) error {
	if err := w.beginOnce(ctx); err != nil {
		return err
	}
	// The rows of all entities that go into the table are staged together, by a key that
	// all of them have.
	match, alike := t.identity()
	into := store.Into{Table: t.Table, Columns: match}
	for i := range match {
		into.Fields = append(into.Fields, i)
	}
	var failed error
	keys := func(yield func(*grow.Batch) bool) {
		for _, o := range p.l.list {
			if o.Table != t.Table || o.skipped {
				continue
			}
			var places []int
			for _, c := range match {
				i := slices.Index(o.Columns, c)
				if i < 0 {
					failed = fmt.Errorf("%s and %s share the table %s, and have no key in common", t.Plan.Name, o.Plan.Name, t.Table.Name)
					return
				}
				places = append(places, i)
			}
			for run := range p.runs(w, o, sliceRows) {
				for b := range p.written(w, o, run, nil) {
					out := &grow.Batch{Entity: b.Entity, First: b.First, Len: b.Len, Width: len(match)}
					for i := range b.Len {
						for _, j := range places {
							out.Values = append(out.Values, b.Row(i)[j])
						}
					}
					if !yield(out) {
						return
					}
				}
			}
		}
	}
	st, err := w.tx.Stage(ctx, &store.Write{Into: into, Mode: store.Update, Match: match, Alike: alike, Distinct: true}, keys)
	if failed != nil {
		return failed
	}
	if err == nil {
		err = w.growth
	}
	if err != nil {
		return err
	}
	return st.Strangers(ctx, columns, show)
}

// Planned makes a past load of a plan that the journal does not have: its rows are
// compared as they are planned.
func Planned(ctx context.Context, c *plan.Compiled, s store.Store) (*Past, error) {
	p := &Past{Entry: &Entry{Plan: c.Plan.Name, State: StateDone, Part: 1, About: About{Commit: plan.CommitLoad}}, Plan: c, memory: newMemory(c), whole: true}
	var err error
	if p.l, err = newLoader(c, s, Options{}); err != nil {
		return nil, err
	}
	p.l.memory = p.memory
	p.l.reset()
	return p, nil
}
