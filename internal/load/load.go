// Package load writes a compiled plan into a database: families whole, all in one
// transaction.
package load

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// Options say how to load; they do not change what is loaded.
type Options struct {
	Chunk  uint64 // upper bound of rows in a chunk; 0 means DefaultChunk
	Jobs   int    // growers; 0 means 1
	Folder string // where placeholder files go; empty means the current folder
	// Progress, if set, is told now and then how many rows are written.
	Progress func(done, total uint64)
}

// DefaultChunk is the upper bound of rows in a chunk unless said otherwise.
const DefaultChunk = 10_000

// Result is what a load did, with row counts from the database itself.
type Result struct {
	Entities     []Entity      `json:"entities"` // in load order
	Rows         int64         `json:"rows"`     // inserted
	Chunks       int           `json:"chunks"`
	Transactions int           `json:"transactions"`
	Elapsed      time.Duration `json:"elapsed_ns"`
}

// Entity is what a load did with one entity.
type Entity struct {
	Entity      string           `json:"entity"`
	Table       string           `json:"table"`
	Before      int64            `json:"rows_before"`
	Inserted    int64            `json:"inserted"`
	After       int64            `json:"rows_after"`
	Skipped     bool             `json:"skipped"` // its table was not empty, and the plan says when: empty
	Fingerprint grow.Fingerprint `json:"fingerprint"`
}

// target is an entity while it is loaded.
type target struct {
	*plan.Target
	into store.Into
	out  Entity
}

// loader is one load.
type loader struct {
	plan    *plan.Compiled
	tx      store.Tx
	o       Options
	order   order.Order
	targets map[*plan.Target]*target
	list    []*target // in load order
	chunks  int
	total   uint64
	done    uint64
	files   *placeholders // nil if no field names files
}

// Run loads a plan that was compiled with the store's schema, in one transaction.
// If anything is refused, nothing is written, and the error tells why: a *Refusal, a
// *Present, a *store.Fault, or a *grow.RowError.
func Run(ctx context.Context, c *plan.Compiled, s store.Store, o Options) (*Result, error) {
	started := time.Now()
	if o.Chunk == 0 {
		o.Chunk = DefaultChunk
	}
	o.Jobs = max(o.Jobs, 1)
	l := &loader{plan: c, o: o, order: order.Of(c), targets: map[*plan.Target]*target{}}
	for _, t := range l.order.Targets() {
		into := store.Into{Table: t.Table}
		for i, col := range t.Columns {
			if col != nil {
				into.Columns, into.Fields = append(into.Columns, col), append(into.Fields, i)
			}
		}
		l.targets[t] = &target{Target: t, into: into, out: Entity{Entity: t.Plan.Name, Table: t.Table.Name}}
		l.list = append(l.list, l.targets[t])
	}
	tx, err := s.Begin(ctx, l.order.Circular)
	if err != nil {
		return nil, err
	}
	l.tx = tx
	err = l.openFiles()
	if err == nil {
		err = l.write(ctx)
	}
	if l.files != nil {
		err = errors.Join(err, l.files.end(err == nil))
	}
	if err != nil {
		if back := tx.Rollback(); back != nil {
			err = errors.Join(err, fmt.Errorf("taking the rows back failed as well: %w", back))
		}
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		return nil, err
	}
	r := &Result{Chunks: l.chunks, Transactions: 1, Elapsed: time.Since(started)}
	for _, t := range l.list {
		r.Entities = append(r.Entities, t.out)
		r.Rows += t.out.Inserted
	}
	return r, nil
}

func (l *loader) write(ctx context.Context) error {
	if err := l.before(ctx); err != nil {
		return err
	}
	if err := l.insert(ctx); err != nil {
		return err
	}
	if err := l.after(ctx); err != nil {
		return err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	if l.files != nil {
		if err := l.files.place(); err != nil {
			return err
		}
	}
	if err := l.tx.Commit(ctx); err != nil {
		return l.refusal(nil, nil, err)
	}
	return nil
}

// openFiles makes ready for placeholder files, if any field names some.
func (l *loader) openFiles() error {
	for _, t := range l.list {
		for _, f := range t.Grow.Fields {
			if _, ok := f.File(); ok {
				var err error
				l.files, err = newPlaceholders(cmp.Or(l.o.Folder, "."), l.plan.Set)
				return err
			}
		}
	}
	return nil
}

// before counts the rows that are there, and stops where the plan's own are.
func (l *loader) before(ctx context.Context) error {
	g := grow.NewGrower(l.plan.Set)
	defer g.Close()
	present := &Present{}
	for _, t := range l.list {
		var err error
		if t.out.Before, err = l.tx.Count(ctx, t.Table); err != nil {
			return err
		}
		if t.out.Before > 0 && t.Plan.WhenEmpty {
			t.out.Skipped = true
			continue
		}
		l.total += t.Grow.Total()
		if t.out.Before == 0 || t.Grow.Total() == 0 {
			continue
		}
		found, err := l.present(ctx, g, t)
		if err != nil {
			return err
		}
		if found != "" {
			present.Tables = append(present.Tables, PresentTable{t.Plan.Name, t.Table.Name, t.out.Before, found})
		}
	}
	if len(present.Tables) > 0 {
		return present
	}
	return nil
}

// present looks for the first planned row in a table that is not empty: whole, or
// its key alone.
func (l *loader) present(ctx context.Context, g *grow.Grower, t *target) (string, error) {
	first := grow.Row{Side: len(t.Grow.Side) > 0}
	var b grow.Batch
	g.Grow(t.Grow, first, 1, &b)
	values := make([]grow.Value, len(t.into.Columns))
	var key []*schema.Column
	var keyValues []grow.Value
	for i, f := range t.into.Fields {
		values[i] = b.Row(0)[f]
		if slices.Contains(t.Table.PrimaryKey, t.into.Columns[i].Name) {
			key, keyValues = append(key, t.into.Columns[i]), append(keyValues, values[i])
		}
	}
	label := t.Grow.Label(first)
	n, err := l.tx.Find(ctx, t.Table, t.into.Columns, values)
	if err != nil {
		return "", err
	}
	if n > 0 {
		return label + ", field for field", nil
	}
	if len(key) == 0 || len(key) < len(t.Table.PrimaryKey) {
		return "", nil
	}
	if n, err = l.tx.Find(ctx, t.Table, key, keyValues); err != nil || n == 0 {
		return "", err
	}
	return fmt.Sprintf("the key of %s (%s), at another row", label, pairs(key, keyValues)), nil
}

func pairs(columns []*schema.Column, values []grow.Value) string {
	var out []string
	for i, c := range columns {
		out = append(out, c.Name+" "+values[i].String())
	}
	return strings.Join(out, ", ")
}

// insert grows the rows with several growers and writes them in order.
func (l *loader) insert(ctx context.Context) error {
	p := newPipe(l.plan.Set, l.o.Jobs)
	defer p.stop()
	g := grow.NewGrower(l.plan.Set)
	defer g.Close()
	take := func(b *grow.Batch, t *plan.Target) error { return l.take(ctx, t, b) }
	skip := func(t *plan.Target) bool { return l.targets[t].out.Skipped }
	for _, f := range l.order.Families {
		for chunk := range f.Chunks(g, l.o.Chunk, skip) {
			l.chunks++
			for _, run := range chunk {
				for at := uint64(0); at < run.Rows; at += sliceRows {
					part := order.Run{Target: run.Target, First: run.First, Rows: min(sliceRows, run.Rows-at)}
					part.First.N += at
					if err := p.put(part, take); err != nil {
						return err
					}
				}
			}
		}
	}
	return p.drain(take)
}

// take writes one batch.
func (l *loader) take(ctx context.Context, of *plan.Target, b *grow.Batch) error {
	t := l.targets[of]
	if err := l.tx.Insert(ctx, t.into, b); err != nil {
		return l.refusal(t, b, err)
	}
	if l.files != nil {
		if err := l.files.add(b); err != nil {
			return err
		}
	}
	t.out.Inserted += int64(b.Len)
	t.out.Fingerprint.Add(b.Print)
	l.done += uint64(b.Len)
	if l.o.Progress != nil {
		l.o.Progress(l.done, l.total)
	}
	return nil
}

// after counts again: what the database says must be what we think.
func (l *loader) after(ctx context.Context) error {
	for _, t := range l.list {
		var err error
		if t.out.After, err = l.tx.Count(ctx, t.Table); err != nil {
			return err
		}
		if t.out.After != t.out.Before+t.out.Inserted {
			return &Refusal{
				Kind: "row_count", Entity: t.Plan.Name, Table: t.Table.Name,
				Message: fmt.Sprintf("%d rows before and %d inserted, but the table holds %d: something in the database, such as a trigger, adds or removes rows",
					t.out.Before, t.out.Inserted, t.out.After),
			}
		}
	}
	return nil
}
