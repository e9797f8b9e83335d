// Package trial writes the same rows into a table of a database in several ways, and
// measures them. The ways that programs commonly have stand beside this program's own.
package trial

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
	"evensprout/internal/value"
)

// Prefix begins the names of the tables that trials make.
const Prefix = "evensprout_trial_"

// lock is that of all trials in a database: while one goes on, its tables are not removed.
const lock = "trial"

// Database is what a trial needs of a store.
type Database interface {
	store.Store
	setwise.Engine
	// CreateLike makes a table with the columns and keys of another, without its
	// references.
	CreateLike(ctx context.Context, like *schema.Table, name string) error
	// Sent is how many bytes went to the server so far; 0 if there is none.
	Sent() int64
	// Bulk is what the engine's bulk path is called.
	Bulk() string
}

// Job is what is done to the table.
type Job string

// The jobs.
const (
	Add    Job = "add"    // rows to an empty table
	Change Job = "change" // one column of rows that are there
)

// Options say what is tried.
type Options struct {
	Counts []int         // of rows, ascending
	Repeat int           // how often each way is measured
	Limit  time.Duration // a measurement ends after so long, and counts what was written until then
	// RebuildFrom is the number of rows from which load rebuilds indexes; 0: it never does.
	RebuildFrom int
	// Again opens another connection: an interruption may cost the first.
	Again func(context.Context) (store.Store, error)
	// Progress, if set, is told what is measured next.
	Progress func(done, all int, what string)
}

// Measure is what a way took for a number of rows: the one in the middle of its
// measurements.
type Measure struct {
	Way        string        `json:"way"`
	Job        Job           `json:"job"`
	Rows       int           `json:"rows"`
	Written    int           `json:"written"` // fewer than rows if the limit ended it
	Elapsed    time.Duration `json:"elapsed_ns"`
	Rate       float64       `json:"rows_per_second"`
	Slower     float64       `json:"slower"` // than the best way for as many rows, as a factor
	Statements int64         `json:"statements"`
	Bytes      int64         `json:"bytes"` // sent to the server; of files, those of statements and values
	Least      float64       `json:"least"` // rate of the slowest measurement
	Most       float64       `json:"most"`  // rate of the fastest
	Own        bool          `json:"own"`   // this is how load writes
}

// Result is a trial.
type Result struct {
	Entity   string    `json:"entity"`
	Table    string    `json:"table"`
	Engine   string    `json:"engine"`
	Bulk     string    `json:"bulk"`
	Columns  int       `json:"columns"`
	Counts   []int     `json:"counts"`
	Repeat   int       `json:"repeat"`
	Changed  string    `json:"changed,omitempty"`   // the column that is changed
	Unchosen string    `json:"not_tried,omitempty"` // why no rows were changed
	Measures []Measure `json:"measures"`            // by job, way and rows
	Chosen   []Choice  `json:"chosen"`
}

// Choice is the way that load takes for a job, and how it came out for the most rows.
type Choice struct {
	Job     Job     `json:"job"`
	Way     string  `json:"way"`
	Fastest string  `json:"fastest"`
	Slowest string  `json:"slowest"`
	Slower  float64 `json:"slower"` // than the fastest, as a factor
	Faster  float64 `json:"faster"` // than the slowest
	Why     string  `json:"why"`
}

// runner is a trial that goes on.
type runner struct {
	db      Database
	o       Options
	table   *schema.Table
	into    store.Into
	key     int // the place of the key among the columns; -1 if it has several
	change  int // the place of the column that is changed; -1 if there is none
	rows    *grow.Batch
	other   []value.Value // of the changed column, for each row: what it holds before
	probe   int           // a row for which that differs from what it holds afterwards
	written int
	bytes   int64 // of statements and values
	until   time.Time

	rebuilds bool // load would rebuild indexes of the table for the most rows
}

// Run tries the ways with rows of an entity. The tables that it makes are gone afterwards,
// and so are those of trials that were killed.
func Run(ctx context.Context, db Database, t *plan.Target, set *grow.Set, o Options) (r *Result, err error) {
	holder, err := db.Lock(ctx, lock)
	if err == nil && holder != "" {
		err = &store.Fault{
			Kind:    store.Locked,
			Message: fmt.Sprintf("another trial is running in this database (%s)", holder),
			Hint:    "two trials at the same time would disturb each other",
		}
	}
	if err != nil {
		return nil, err
	}
	defer func() {
		if ctx.Err() != nil {
			err = errors.Join(context.Cause(ctx), left(err))
		}
		db.Unlock(context.WithoutCancel(ctx), lock) // where that fails, the connection's end does it
	}()
	if err := sweep(ctx, db); err != nil {
		return nil, err
	}
	x, err := newRunner(ctx, db, t, set, o)
	if x != nil {
		defer func() {
			if gone := x.drop(context.WithoutCancel(ctx)); gone != nil {
				err = errors.Join(err, &leftover{x.table.Name, gone})
			}
		}()
	}
	if err != nil {
		return nil, err
	}
	return x.run(ctx, t)
}

// sweep removes what trials that were killed have left.
func sweep(ctx context.Context, db Database) error {
	all, err := db.Survey(ctx)
	if err != nil {
		return err
	}
	for _, t := range all.Tables {
		if strings.HasPrefix(t.LocalName(), Prefix) {
			if _, err := db.Exec(ctx, "DROP TABLE "+db.Table(t)); err != nil {
				return err
			}
		}
	}
	return nil
}

// newRunner grows the rows that are tried.
func newRunner(ctx context.Context, db Database, t *plan.Target, set *grow.Set, o Options) (*runner, error) {
	most := slices.Max(o.Counts)
	x := &runner{db: db, o: o, key: -1, change: -1, rows: &grow.Batch{}}
	g := grow.NewGrower(set)
	defer g.Close()
	first := grow.Row{}
	if uint64(most) > t.Grow.Rows {
		return nil, fmt.Errorf("%s has %d generated rows, and the trial needs %d", t.Plan.Name, t.Grow.Rows, most)
	}
	g.Grow(t.Grow, first, most, x.rows)
	if err := g.Err(); err != nil {
		return nil, err
	}
	var random [4]byte
	rand.Read(random[:])
	name := Prefix + hex.EncodeToString(random[:])
	if err := db.CreateLike(ctx, t.Table, name); err != nil {
		return nil, err
	}
	all, err := db.Survey(ctx)
	if err != nil {
		return nil, err
	}
	if x.table = all.Table(name); x.table == nil {
		return nil, fmt.Errorf("the table %s was created, but does not exist", name)
	}
	x.into.Table = x.table
	for i, c := range t.Columns {
		if c == nil || c.Generated || t.Grow.Fields[i].Inner {
			continue
		}
		own := x.table.Column(c.Name)
		if len(x.table.PrimaryKey) == 1 && x.table.PrimaryKey[0] == own.Name {
			x.key = len(x.into.Columns)
		}
		x.into.Columns, x.into.Fields = append(x.into.Columns, own), append(x.into.Fields, i)
	}

	x.chooseColumn()
	x.rebuilds, err = x.hasIndexesToRebuild(ctx)
	return x, err
}

// chooseColumn finds a column whose values may be changed without meeting a key.
func (x *runner) chooseColumn() {
	if x.key < 0 {
		return
	}
	for i, c := range x.into.Columns {
		keyed := i == x.key || c.Restamps || c.Kind == schema.JSON || c.Kind == schema.Any
		for _, k := range x.table.Keys() {
			keyed = keyed || slices.Contains(k.Columns, c.Name) || len(k.Expressions) > 0
		}
		for _, check := range x.table.Checks {
			keyed = keyed || setwise.Mentions(check.Expression, c.Name)
		}
		if keyed {
			continue
		}
		// Each row begins with the value of another: those that happen to be equal are few
		// where there are many values.
		different := map[string]bool{}
		for r := range min(x.rows.Len, 200) {
			different[x.value(r, i).String()] = true
		}
		if len(different) < 20 {
			continue
		}
		x.change = i
		for r := range x.rows.Len {
			x.other = append(x.other, *x.value((r+1)%x.rows.Len, i))
		}
		for x.other[x.probe].String() == x.value(x.probe, i).String() { // there are twenty values and more
			x.probe++
		}
		return
	}
}

// value is a value of a row, by its place among the columns.
func (x *runner) value(row, column int) *value.Value { return &x.rows.Row(row)[x.into.Fields[column]] }

// drop removes the tables of a trial.
func (x *runner) drop(ctx context.Context) error {
	if x.table == nil {
		return sweep(ctx, x.db)
	}
	drop := "DROP TABLE " + x.db.Table(x.table)
	_, err := x.db.Exec(ctx, drop)
	if err == nil || x.o.Again == nil {
		return err
	}
	s, fresh := x.o.Again(ctx)
	if fresh != nil {
		return errors.Join(err, fresh)
	}
	_, err = s.(Database).Exec(ctx, drop)
	return errors.Join(err, s.Close())
}

// leftover tells that a table could not be dropped.
type leftover struct {
	table string
	err   error
}

func (e *leftover) Error() string {
	return fmt.Sprintf("the table %s is still there, and the next trial drops it: %v", e.table, e.err)
}

// left is what an error tells of tables that are still there.
func left(err error) error {
	var l *leftover
	if errors.As(err, &l) {
		return l
	}
	return nil
}

// prepare brings the table to what a job begins with.
func (x *runner) prepare(ctx context.Context, job Job, count int) error {
	tx, err := x.db.Begin(ctx, store.TxOptions{})
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.Clear(ctx, x.table); err != nil {
		return err
	}
	if job == Change {
		before := &value.Batch{Len: count, Width: x.rows.Width, Values: slices.Clone(x.rows.Slice(0, count).Values)}
		for r := range count {
			before.Row(r)[x.into.Fields[x.change]] = x.other[r]
		}
		if _, err := tx.Insert(ctx, x.into, slices.Values([]*value.Batch{before})); err != nil {
			return err
		}
	}
	return tx.Commit(ctx)
}

// measure runs a way once.
func (x *runner) measure(ctx context.Context, w way, count int) (Measure, error) {
	m := Measure{Way: w.name, Job: w.job, Rows: count, Own: w.own}
	if err := x.prepare(ctx, w.job, count); err != nil {
		return m, err
	}
	before, err := x.cell(ctx, w.job)
	if err != nil {
		return m, err
	}
	sent, statements := x.db.Sent(), x.statements()
	x.written, x.bytes = 0, 0
	began := time.Now()
	x.until = began.Add(x.o.Limit)
	err = w.run(ctx, x, count)
	m.Elapsed, m.Written = time.Since(began), x.written
	m.Statements, m.Bytes = x.statements()-statements, x.db.Sent()-sent
	if m.Bytes == 0 {
		m.Bytes = x.bytes
	}
	m.Rate = float64(m.Written) / m.Elapsed.Seconds()
	if err != nil {
		return m, fmt.Errorf("%s: %w", w.name, err)
	}
	return m, x.verify(ctx, w, m, before)
}

// verify sees that the way did its work: a fast way to do nothing is no way.
func (x *runner) verify(ctx context.Context, w way, m Measure, before string) error {
	n, err := x.db.Count(ctx, x.table)
	want := int64(m.Written)
	if w.job == Change {
		want = int64(m.Rows)
	}
	if err == nil && n != want {
		err = fmt.Errorf("%s: %d rows were written, but the table has %d", w.name, want, n)
	}
	if err != nil || w.job == Add || m.Written <= x.probe {
		return err
	}
	after, err := x.cell(ctx, w.job)
	if err == nil && after == before {
		err = fmt.Errorf("%s: a row was not changed", w.name)
	}
	return err
}

// cell is what the database shows of the changed column in one row. That is held against
// what it shows later, and not against what was planned: blanks and zeros at an end are the
// database's to show.
func (x *runner) cell(ctx context.Context, job Job) (shown string, err error) {
	if job != Change {
		return "", nil
	}
	key := store.Cell{Column: x.into.Columns[x.key], Value: *x.value(x.probe, x.key)}
	err = x.db.Select(
		ctx,
		store.Query{Table: x.table, Columns: []*schema.Column{x.into.Columns[x.change]}, Where: []store.Cell{key}},
		func(row []value.Value) error {
			shown = row[0].String()
			return nil
		},
	)
	return shown, err
}

// statements is how many were sent so far.
func (x *runner) statements() int64 {
	n := int64(0)
	for _, s := range x.db.Statements() {
		n += s.Times
	}
	return n
}

// late tells that a measurement has taken long enough.
func (x *runner) late() bool { return time.Now().After(x.until) }

// run measures all ways, each as often as asked for, one after the other, so that what else
// the machine does meets them alike.
func (x *runner) run(ctx context.Context, t *plan.Target) (*Result, error) {
	r := &Result{
		Entity:  t.Plan.Name,
		Table:   t.Table.Name,
		Engine:  x.db.Traits().Engine,
		Bulk:    x.db.Bulk(),
		Columns: len(x.into.Columns),
		Counts:  x.o.Counts,
		Repeat:  x.o.Repeat,
	}
	ways := x.addingWays()
	switch {
	case x.key < 0:
		r.Unchosen = "the table has no single-column key"
	case x.change < 0:
		r.Unchosen = "the table has no column outside keys and checks that can hold many values"
	default:
		r.Changed = x.into.Columns[x.change].Name
		ways = append(ways, changingWays(x.db)...)
	}

	all := map[string][]Measure{}
	key := func(m Measure) string { return fmt.Sprintf("%s %s %d", m.Job, m.Way, m.Rows) }
	done, total := 0, len(ways)*len(x.o.Counts)*x.o.Repeat
	for n := range x.o.Repeat {
		for _, count := range x.o.Counts {
			for i := range ways {
				w := ways[(i+n)%len(ways)] // in another order each time
				if err := ctx.Err(); err != nil {
					return nil, context.Cause(ctx)
				}
				if x.o.Progress != nil {
					x.o.Progress(done, total, fmt.Sprintf("%s, %d rows", w.name, count))
				}
				m, err := x.measure(ctx, w, count)
				if err != nil {
					return nil, err
				}
				all[key(m)] = append(all[key(m)], m)
				done++
			}
		}
	}

	for _, w := range ways {
		for _, count := range x.o.Counts {
			list := all[key(Measure{Way: w.name, Job: w.job, Rows: count})]
			slices.SortFunc(list, func(a, b Measure) int { return cmp.Compare(a.Rate, b.Rate) })
			m := list[len(list)/2]
			m.Least, m.Most = list[0].Rate, list[len(list)-1].Rate
			r.Measures = append(r.Measures, m)
		}
	}

	r.compare(x.o.RebuildFrom)
	return r, nil
}

// compare works out how much slower than the best each way is, and says what load does.
func (r *Result) compare(rebuildFrom int) {
	best := map[string]float64{}
	at := func(m Measure) string { return fmt.Sprintf("%s %d", m.Job, m.Rows) }
	for _, m := range r.Measures {
		best[at(m)] = math.Max(best[at(m)], m.Rate)
	}
	for i := range r.Measures {
		r.Measures[i].Slower = best[at(r.Measures[i])] / r.Measures[i].Rate
	}
	most := slices.Max(r.Counts)
	for _, job := range []Job{Add, Change} {
		var own, fastest, slowest *Measure
		for i := range r.Measures {
			m := &r.Measures[i]
			if m.Job != job || m.Rows != most {
				continue
			}
			if m.Own {
				own = m
			}
			if fastest == nil || m.Rate > fastest.Rate {
				fastest = m
			}
			if slowest == nil || m.Rate < slowest.Rate {
				slowest = m
			}
		}
		if own == nil {
			continue
		}
		because := why[job]
		if strings.HasSuffix(own.Way, rebuilt) {
			because += fmt.Sprintf(" It rebuilds indexes behind %s rows or more.", diag.Number(int64(rebuildFrom)))
		}
		r.Chosen = append(
			r.Chosen,
			Choice{job, own.Way, fastest.Way, slowest.Way, own.Slower, own.Rate / slowest.Rate, because},
		)
	}
}

// why is why load takes its way, whatever this trial found.
var why = map[Job]string{
	Add: "It streams any number of rows without holding them in memory, and reports refused rows one by one.",
	Change: "It checks all rows against keys and references at once, leaves equal rows untouched, and counts " +
		"exactly.",
}
