package replay

import (
	"context"
	"fmt"
	"runtime"
	"slices"

	"evensprout/internal/journal"
	"evensprout/internal/load"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"

	"github.com/zeebo/xxh3"
)

// CompareOptions say how to compare.
type CompareOptions struct {
	// OnlyMissing looks only whether rows are there.
	OnlyMissing bool
}

// Difference is what the tables hold otherwise than a load wrote it.
type Difference struct {
	Lost     []string                `json:"lost,omitempty"` // fields whose columns are gone since, as Port.label
	Loads    []int64                 `json:"loads,omitempty"`
	Entities []load.EntityDifference `json:"entities"`
	Missing  int64                   `json:"missing"`
	Changed  int64                   `json:"changed"` // rows
	Extra    int64                   `json:"extra"`
	// Meaning are the columns whose values the database rewrites, so that they are
	// compared by what they mean.
	Meaning []Meaning `json:"by_meaning,omitempty"`
	// Broken are the plan's invariants that do not hold.
	Broken []load.BrokenRule `json:"broken,omitempty"`
}

// Same tells that there is no difference.
func (d *Difference) Same() bool { return d.Missing+d.Changed+d.Extra == 0 && len(d.Broken) == 0 }

// MaxCompared bounds the rows of each kind that a difference tells one by one.
const MaxCompared = 1000

// part is an entity of one of the loads that are compared.
type part struct {
	*load.PastLoad
	t *load.Target
	w *load.Writer
	e load.EntityDifference
}

// Compare holds the rows that loads of one plan wrote against the tables. It writes
// nothing but temporary tables.
func Compare(ctx context.Context, s store.Store, pasts []*load.PastLoad, o CompareOptions) (*Difference, error) {
	c, err := newComparison(ctx, s, pasts)
	if err != nil {
		return nil, err
	}
	defer c.close()
	return c.run(ctx, o)
}

// comparison is the parts of loads of one plan, by table.
type comparison struct {
	store  store.Store
	pasts  []*load.PastLoad
	parts  []*part // in load order
	tables []*schema.Table
	byName map[string][]*part
	counts map[string]int64 // rows of tables
	same   map[string]bool  // tables that are as planned, by their fingerprint
	loads  []*journal.Entry // of the whole journal; nil until they are read
	fates  unitEffects      // nil until they are read
}

// newComparison finds the parts of loads that share tables.
func newComparison(ctx context.Context, s store.Store, pasts []*load.PastLoad) (*comparison, error) {
	c := &comparison{
		store:  s,
		pasts:  pasts,
		byName: map[string][]*part{},
		counts: map[string]int64{},
		same:   map[string]bool{},
	}
	for _, p := range pasts {
		w := &load.Writer{Session: p.Session, Store: s}
		for _, t := range p.Session.List {
			if t.LeftOut || t.Grow.Total() == 0 {
				continue
			}
			x := &part{p, t, w, load.EntityDifference{Entity: t.Plan.Name, Table: t.Table.Name}}
			if c.byName[t.Table.Name] == nil {
				c.tables = append(c.tables, t.Table)
				n, err := s.Count(ctx, t.Table)
				if err != nil {
					return nil, err
				}
				c.counts[t.Table.Name] = n
			}
			x.e.Rows = c.counts[t.Table.Name]
			c.parts = append(c.parts, x)
			c.byName[t.Table.Name] = append(c.byName[t.Table.Name], x)
		}
	}
	return c, nil
}

// begin opens the transaction for temporary tables, once for all loads.
func (c *comparison) begin(ctx context.Context, begin func(*load.Writer, context.Context) error) error {
	for _, p := range c.parts {
		if p.w.Tx == nil {
			p.w.Tx = c.tx()
		}
		if p.w.Tx == nil {
			if err := begin(p.w, ctx); err != nil {
				return err
			}
		}
	}
	return nil
}

// tx is the open transaction; nil if there is none.
func (c *comparison) tx() store.Tx {
	for _, p := range c.parts {
		if p.w.Tx != nil {
			return p.w.Tx
		}
	}
	return nil
}

// close rolls back what is open.
func (c *comparison) close() error {
	tx := c.tx()
	for _, p := range c.parts {
		p.w.Tx = nil
		p.w.Close()
	}
	if tx == nil {
		return nil
	}
	return tx.Rollback()
}

// run compares table by table: first by fingerprint, then row by row.
func (c *comparison) run(ctx context.Context, o CompareOptions) (*Difference, error) {
	d := &Difference{Lost: lostBy(c.pasts)}
	for _, p := range c.pasts {
		d.Loads = append(d.Loads, p.Entry.Number)
	}
	for _, t := range c.tables {
		same, err := c.sameByFingerprint(ctx, t)
		if err != nil {
			return nil, err
		}
		c.same[t.Name] = same
		for _, p := range c.byName[t.Name] {
			p.e.Fingerprint = same
			if !same {
				if err := c.begin(ctx, (*load.Writer).BeginReading); err != nil {
					return nil, err
				}
				f, err := c.unitEffectsOf(ctx)
				if err == nil {
					err = p.compareRows(ctx, f, o)
				}
				if err != nil {
					return nil, err
				}
			}
			d.noteMeanings(p.t)
		}
	}

	if !o.OnlyMissing {
		for _, t := range c.tables {
			if err := c.strangers(ctx, t); err != nil {
				return nil, err
			}
		}
	}

	for _, p := range c.parts {
		d.Missing += p.e.Missing
		d.Changed += p.e.Changed
		d.Extra += p.e.Extra
		if i := slices.IndexFunc(d.Entities,
			func(e load.EntityDifference) bool { return e.Entity == p.e.Entity }); i >= 0 {
			d.Entities[i].Add(p.e)
			continue
		}
		d.Entities = append(d.Entities, p.e)
	}
	return d, nil
}

// sameByFingerprint counts the rows that the loads wrote into a table, and reports whether
// it holds just these. Where it holds others as well, or rows that were only changed,
// it cannot be told in this way.
func (c *comparison) sameByFingerprint(ctx context.Context, table *schema.Table) (bool, error) {
	parts := c.byName[table.Name]
	columns := parts[0].t.Into().Columns
	for _, p := range parts {
		if p.IgnoresAny(p.t) || p.t.Writes.Mode != store.Insert && p.t.Writes.Mode != store.Replace ||
			!slices.Equal(schema.NamesOf(p.t.Into().Columns), schema.NamesOf(columns)) {
			c.plan(table)
			return false, nil
		}
	}

	if c.plan(table) != c.counts[table.Name] {
		return false, nil
	}

	// Rows are many small things that are soon forgotten. This block, which takes no memory because nothing touches it,
	// lets the heap grow by its size before the collector runs, and saves a sixth of the time.
	headroom := make([]byte, 24<<20)
	defer runtime.KeepAlive(&headroom)

	// The planned rows are grown while those of the table are read.
	planned, found := NewRowSet(columns), NewRowSet(columns)
	grown := make(chan error, 1)
	within, stop := context.WithCancel(ctx)
	defer stop()
	go func() {
		var err error
		for _, p := range parts {
			if err == nil {
				err = p.addTo(within, planned)
			}
		}
		grown <- err
	}()
	err := c.store.Select(ctx, store.Query{Table: table, Columns: columns, AsIs: true}, func(row []value.Value) error {
		found.Add(row, nil)
		return nil
	})
	if err != nil {
		stop()
	}
	if failed := <-grown; err == nil {
		err = failed
	}
	return found.Same(planned), err
}

// plan counts the rows that the loads wrote into a table.
func (c *comparison) plan(table *schema.Table) int64 {
	n := int64(0)
	for _, p := range c.byName[table.Name] {
		p.e.Planned = p.count()
		n += p.e.Planned
	}
	return n
}

// count is how many rows the load wrote.
func (p *part) count() int64 {
	n := int64(0)
	for run := range p.Runs(p.w, p.t, order.SliceRows) {
		n += int64(run.Rows)
		if !p.w.Session.Record.AnyRejected(p.t.Grow) {
			continue
		}
		for i := range run.Rows {
			if p.w.Session.Record.Rejected(p.t.Grow, grow.Row{N: run.First.N + i, Side: run.First.Side}) {
				n--
			}
		}
	}
	return n
}

// addTo adds the rows to a set, as they were written.
func (p *part) addTo(ctx context.Context, set *RowSet) error {
	into := p.t.Into()
	for run := range p.Runs(p.w, p.t, order.SliceRows) {
		for b := range p.Written(p.w, p.t, run, nil) {
			for i := range b.Len {
				set.Add(b.Row(i), into.Fields)
			}
		}
		if p.w.Growth != nil {
			return p.w.Growth
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	return nil
}

// Digest is a digest of a row as it was read.
func Digest(row []value.Value) grow.Fingerprint { return hashed([]byte(load.KeyOfValues(row))) }

// hashed is the 128-bit digest of bytes (XXH3).
func hashed(b []byte) grow.Fingerprint {
	h := xxh3.Hash128(b)
	return grow.Fingerprint{Hi: h.Hi, Lo: h.Lo}
}

// compareRows finds missing and changed rows of an entity.
func (p *part) compareRows(ctx context.Context, f unitEffects, o CompareOptions) error {
	for run := range p.Runs(p.w, p.t, load.StagedChunk) {
		for _, added := range p.Kinds(p.t) {
			if err := p.compareRun(ctx, run, added, f, o); err != nil {
				return err
			}
		}
	}
	return nil
}

// compareRun compares consecutive rows with those of the table.
func (p *part) compareRun(ctx context.Context, run order.Run, added bool, f unitEffects, o CompareOptions) error {
	w, t, e := p.w, p.t, &p.e
	rows := &load.Pass{}
	write := p.Compared(t, added)
	st, err := w.Tx.Stage(ctx, write, p.Only(w, t, run, added, rows))
	if err == nil {
		err = w.Growth
	}
	if err != nil || rows.N == 0 {
		return err
	}
	missing, err := st.Unmatched(ctx, 0)
	if err != nil {
		return err
	}
	look := !o.OnlyMissing && len(write.Set) > 0 && (t.Writes.Mode != store.Keep || added)
	var changed []int64
	units := len(f[t.Table.Name]) > 0
	if look && units {
		if changed, err = st.Differing(ctx); err != nil {
			return err
		}
	}
	found := len(missing)
	wrong, byUnits, err := p.withoutUnitEffects(ctx, f, st, rows, wrongRows{missing, changed})
	if err != nil {
		return err
	}
	missing, changed = wrong.missing, wrong.changed
	e.ByUnits += byUnits
	e.Removed += int64(found - len(missing))
	e.Missing += int64(len(missing))
	for _, n := range missing[:min(len(missing), max(MaxCompared-len(e.MissingRows), 0))] {
		e.MissingRows = append(
			e.MissingRows,
			load.RowDifference{Row: t.Grow.Label(rows.Row(n)), Key: p.KeyText(w, t, rows.Row(n), write.Match)},
		)
	}

	if !look {
		return nil
	}
	differs := map[int64]bool{}
	for _, n := range changed {
		differs[n] = true
	}
	last, ours := int64(-1), (*unitEffect)(nil)
	return st.Changes(ctx, func(c store.Change) error {
		if units && !differs[c.Row] {
			return nil
		}
		if c.Row != last {
			if last, ours = c.Row, nil; units {
				ours = f.of(t.Table.Name, p.primaryKey(rows.Row(c.Row)))
			}
			e.Changed++
			if len(e.ChangedRows) < MaxCompared {
				e.ChangedRows = append(
					e.ChangedRows,
					load.RowDifference{Row: t.Grow.Label(rows.Row(c.Row)), Key: load.Pairs(write.Match, c.Match)},
				)
			}
		}
		if e.Changed <= MaxCompared && !ours.left(c) {
			x := &e.ChangedRows[len(e.ChangedRows)-1]
			x.Cells = append(
				x.Cells,
				load.CellDifference{Field: t.FieldOf(c.Column.Name), Is: c.From.String(), Plan: c.To.String()},
			)
		}
		return nil
	})
}

// strangers counts rows of a table that are not the plan's. They are extra where the
// first load found an empty table, and no other plan's load has written into it.
func (c *comparison) strangers(ctx context.Context, table *schema.Table) error {
	parts := c.byName[table.Name]
	n := c.counts[table.Name]
	for _, p := range parts {
		n -= p.e.Planned - p.e.Missing - p.e.Removed
	}
	if n <= 0 {
		return nil
	}
	p := parts[0]
	f, err := c.unitEffectsOf(ctx)
	if err != nil {
		return err
	}
	if byUnits := int64(0); len(f[table.Name]) > 0 {
		err := c.eachStranger(ctx, table, table.KeyColumns(), func(row []value.Value) error {
			if x := f.of(table.Name, row); x != nil && x.added {
				byUnits++
			}
			return nil
		})
		if err != nil {
			return err
		}
		p.e.ByUnits += byUnits
		if n -= byUnits; n == 0 {
			return nil
		}
	}

	shared, err := c.shared(ctx, table)
	if err != nil {
		return err
	}
	if shared {
		p.e.Others = n
		return nil
	}
	p.e.Extra = n
	columns := table.KeyColumns()
	return c.eachStranger(ctx, table, columns, func(row []value.Value) error {
		if x := f.of(table.Name, row); x != nil && x.added {
			return nil
		}
		if len(p.e.ExtraRows) < MaxCompared {
			p.e.ExtraRows = append(p.e.ExtraRows, load.RowDifference{Key: load.Pairs(columns, row)})
		}
		return nil
	})
}

// shared reports whether a table may hold rows that are not the plan's: it had some
// before, or other loads write into it.
func (c *comparison) shared(ctx context.Context, table *schema.Table) (bool, error) {
	first := c.byName[table.Name][0]
	if first.Entry.Number == 0 || first.t.Before > 0 && first.t.Writes.Mode != store.Replace {
		return true, nil
	}
	if c.loads == nil {
		all, err := c.pasts[0].Session.Read.On(c.store).AllEntries(ctx)
		if err != nil {
			return false, err
		}
		c.loads = all
	}

	for _, e := range c.loads {
		if e.State == journal.StateWithdrawn ||
			slices.ContainsFunc(c.pasts, func(p *load.PastLoad) bool { return p.Entry.Number == e.Number }) {
			continue
		}
		if e.Unreadable != "" { // it may have written there
			return true, nil
		}
		if slices.ContainsFunc(
			e.About.Entities,
			func(x journal.AboutEntity) bool { return x.Table == table.Name && !x.Skipped },
		) {
			return true, nil
		}
	}
	return false, nil
}

// eachStranger shows columns of the rows of a table that no load of the plan wrote: the
// keys of all that they wrote are staged together.
func (c *comparison) eachStranger(
	ctx context.Context,
	table *schema.Table,
	columns []*schema.Column,
	show func([]value.Value) error,
) error {
	if err := c.begin(ctx, (*load.Writer).BeginReading); err != nil {
		return err
	}
	parts := c.byName[table.Name]
	match, alike := parts[0].t.Identity()
	into := store.Into{Table: table, Columns: match}
	for i := range match {
		into.Fields = append(into.Fields, i)
	}
	var failed error
	keys := func(yield func(*value.Batch) bool) {
		for _, p := range parts {
			var places []int
			for _, c := range match {
				i := slices.IndexFunc(p.t.Columns, func(x *schema.Column) bool { return x != nil && x.Name == c.Name })
				if i < 0 {
					failed = fmt.Errorf(
						"%s and %s share the table %s without a common key",
						parts[0].t.Plan.Name,
						p.t.Plan.Name,
						table.Name,
					)
					return
				}
				places = append(places, i)
			}
			for run := range p.Runs(p.w, p.t, order.SliceRows) {
				for b := range p.Written(p.w, p.t, run, nil) {
					out := &value.Batch{Len: b.Len, Width: len(match)}
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
			if failed = p.w.Growth; failed != nil {
				return
			}
		}
	}
	st, err := parts[0].w.Tx.Stage(
		ctx,
		&store.Write{Into: into, Mode: store.Update, Match: match, Alike: alike, Distinct: true},
		keys,
	)
	if failed != nil {
		return failed
	}
	if err != nil {
		return err
	}
	return st.Strangers(ctx, columns, show)
}

// lostBy are the fields of loads whose columns are gone.
func lostBy(pasts []*load.PastLoad) []string {
	var out []string
	for _, p := range pasts {
		for _, f := range p.Plan.Lost {
			if !slices.Contains(out, f) {
				out = append(out, f)
			}
		}
	}
	return out
}
