package load

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"evensprout/internal/archive"
	"evensprout/internal/journal"
	"evensprout/internal/order"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"

	"github.com/zeebo/xxh3"
)

// A table that has rows is left alone (when: empty), and rows of other tables still refer to
// its planned rows. The planned keys may be those of other people's rows: references go to
// the rows that are found by a natural key.

// maxLeft bounds the rows of a table whose keys are read. Memory: about 100 bytes a row.
const maxLeft = archive.MaxExisting

// Strangers tells that rows would refer to rows that the plan does not mean.
type Strangers struct {
	Row    string `json:"row"`    // that refers
	Field  string `json:"field"`  //
	Entity string `json:"entity"` // whose table is left alone
	Table  string `json:"table"`  //
	To     string `json:"to"`     // its planned row
	// columns and values by which it is not found; empty if there is no key to find it by
	Key      string   `json:"key"`
	Columns  []string `json:"columns"`        // of the key
	Planned  string   `json:"planned"`        // the planned value of the reference
	Stranger string   `json:"row_with_key"`   // the row that has it; empty if there is none
	Rows     uint64   `json:"rows_that_miss"` // how many rows refer to rows that are not found
}

func (e *Strangers) Error() string {
	why := fmt.Sprintf("no row of it has %s", e.Key)
	if e.Key == "" {
		why = "it has no unique key that the plan fills, so the row cannot be found"
	}
	out := fmt.Sprintf(
		"%s.%s refers to %s, and %s is left alone because it has rows: %s",
		e.Row,
		e.Field,
		e.To,
		e.Table,
		why,
	)
	if e.Stranger != "" {
		out += fmt.Sprintf("; %s is the key of another row (%s)", e.Planned, e.Stranger)
	}
	if e.Rows > 1 {
		out += fmt.Sprintf("; %d rows in all refer to rows that do not exist", e.Rows)
	}
	return out
}

// Hint is what to do.
func (e *Strangers) Hint() string {
	if e.Key == "" {
		return fmt.Sprintf(
			"give %s a unique key that the plan fills, or empty it; rows: existing at %s takes the existing rows",
			e.Table,
			e.Entity,
		)
	}
	return fmt.Sprintf(
		"write: {mode: keep, match: [%s]} at %s, instead of when: empty, adds the rows that are missing",
		strings.Join(e.Columns, ", "),
		e.Entity,
	)
}

// leftAlone is a table that is left alone, and what is known of its rows.
type leftAlone struct {
	of      *Target
	columns []*schema.Column // by which rows are found; nil if there are none
	places  []int            // of these, in the entity's fields
	missing map[value.Value]grow.Row
}

// linkLeft finds the rows of tables that are left alone. Before a row is written it
// refuses rows that refer to one that is not there.
func (l *Session) linkLeft(ctx context.Context, s store.Store) error {
	l.links = journal.Log{Keys: l.stepLog.Keys}
	var all []*leftAlone
	for _, t := range l.List {
		if !t.Out.Skipped || t.resumed || !t.referred || t.Key == nil || t.Grow.Total() == 0 || !l.writesReferrers(t) {
			continue
		}
		left := &leftAlone{of: t, missing: map[value.Value]grow.Row{}}
		left.columns, left.places = t.naturalKey()
		if err := l.findLeft(ctx, s, left); err != nil {
			return err
		}
		if len(left.missing) > 0 {
			all = append(all, left)
		}
	}
	for _, left := range all {
		if err := l.refuseStrangers(ctx, s, left); err != nil {
			return err
		}
	}
	return nil
}

// refersTo are the fields by which an entity refers to the key of another.
func (t *Target) refersTo(to *Target) []int {
	var out []int
	for _, f := range t.refs {
		if field := t.Grow.Fields[f]; field.Target() == to.Grow && field.Stored() == to.Grow.Key &&
			t.Columns[f] != nil {
			out = append(out, f)
		}
	}
	return out
}

// writesReferrers reports whether this load writes rows that refer to an entity.
func (l *Session) writesReferrers(to *Target) bool {
	return slices.ContainsFunc(l.List, func(t *Target) bool { return !t.Out.Skipped && len(t.refersTo(to)) > 0 }) ||
		len(l.Plan.Units) > 0
}

// naturalKey is the key by which rows of an entity are recognised whatever their planned
// numbers: that of match, else a unique one that the plan fills.
func (t *Target) naturalKey() (columns []*schema.Column, places []int) {
	place := func(columns []*schema.Column) []int {
		var out []int
		for _, c := range columns {
			i := slices.Index(t.Writes.Columns, c)
			if i < 0 {
				return nil
			}
			out = append(out, t.Writes.Fields[i])
		}
		return out
	}
	numbered := func(columns []*schema.Column) bool {
		return len(columns) == 1 && columns[0] == t.Key &&
			(t.Grow.Key.Counted() || t.Unkeyed || t.Key.Identity != schema.NoIdentity)
	}
	if m := t.Writes.Match; len(m) > 0 && !numbered(m) {
		return m, place(m)
	}
	for _, k := range t.Keys() {
		if !numbered(k.Columns) {
			return k.Columns, k.Places
		}
	}
	return nil, nil
}

// findLeft learns which key each planned row has in the table, and which are not there.
func (l *Session) findLeft(ctx context.Context, s store.Store, left *leftAlone) error {
	t := left.of
	there := map[xxh3.Uint128]value.Value{}
	own := map[value.Value]bool{} // keys, of a table that the plan itself has filled
	if left.columns != nil || t.own {
		if t.Out.Before > maxLeft {
			return &store.Fault{
				Kind: store.Refused,
				Message: fmt.Sprintf(
					"%s is left alone and has %d rows; references can be resolved among at most %d",
					t.Table.Name,
					t.Out.Before,
					maxLeft,
				),
			}
		}
		columns := append(slices.Clone(left.columns), t.Key)
		places := make([]int, len(left.columns))
		for i := range places {
			places[i] = i
		}
		err := s.Select(ctx, store.Query{Table: t.Table, Columns: columns}, func(row []value.Value) error {
			if h, ok := HashOf(row, places); ok {
				there[h] = row[len(row)-1]
			}
			if t.own {
				own[row[len(row)-1]] = true
			}
			return nil
		})
		if err != nil {
			return err
		}
	}

	at := slices.Index(t.Grow.Fields, t.Grow.Key)
	var first grow.Row // of consecutive rows that have other keys than the planned ones
	var keys []value.Value
	note := func() {
		if len(keys) > 0 {
			l.links.Key(t.Plan.Name, first, keys)
		}
		keys = nil
	}
	err := l.eachRow(ctx, t, func(row grow.Row, values []value.Value) error {
		planned := values[at]
		if real, _ := l.RealKey(t.Grow, planned); own[real] {
			return nil
		}
		h, ok := HashOf(values, left.places)
		key, found := there[h]
		switch {
		case !ok || !found || left.columns == nil:
			left.missing[planned] = row
		case key != planned:
			if len(keys) > 0 && (row.Side != first.Side || row.N != first.N+uint64(len(keys))) {
				note()
			}
			if len(keys) == 0 {
				first = row
			}
			keys = append(keys, key)
			l.rename(t, planned, key)
		}
		return nil
	})
	note()
	return err
}

// eachRow grows all rows of an entity.
func (l *Session) eachRow(ctx context.Context, t *Target, do func(row grow.Row, values []value.Value) error) error {
	g := grow.NewGrower(l.Plan.Set)
	defer g.Close()
	var room grow.Batch
	each := func(first grow.Row, rows uint64) error {
		for b, err := range (order.Run{Target: t.Target, First: first, Rows: rows}).Grown(g, &room) {
			if err != nil {
				return err
			}
			for i := range b.Len {
				if err := do(b.At(i), b.Row(i)); err != nil {
					return err
				}
			}
			if err := ctx.Err(); err != nil {
				return context.Cause(ctx)
			}
		}
		return nil
	}
	if err := each(grow.Row{Side: true}, uint64(len(t.Grow.Side))); err != nil {
		return err
	}
	return each(grow.Row{}, t.Grow.Rows)
}

// refuseStrangers is an error if rows that are to be written refer to rows that are not
// there.
func (l *Session) refuseStrangers(ctx context.Context, s store.Store, left *leftAlone) error {
	var found *Strangers
	for _, t := range l.List {
		fields := t.refersTo(left.of)
		if t.Out.Skipped || len(fields) == 0 {
			continue
		}
		err := l.eachRow(ctx, t, func(row grow.Row, values []value.Value) error {
			if t.isLoaded(row) {
				return nil
			}
			for _, f := range fields {
				to, missing := left.missing[values[f]]
				if !missing {
					continue
				}
				if found == nil {
					found = &Strangers{
						Row:     t.Grow.Label(row),
						Field:   t.Grow.Fields[f].Name,
						Entity:  left.of.Plan.Name,
						Table:   left.of.Table.Name,
						To:      left.of.Grow.Label(to),
						Planned: values[f].String(),
					}
					if err := l.describeStranger(ctx, s, left, found, planned{to, values[f]}); err != nil {
						return err
					}
				}
				found.Rows++
			}
			return nil
		})
		if err != nil {
			return err
		}
	}

	if found == nil {
		return nil
	}
	return found
}

// planned is a row that the plan refers to, and its key.
type planned struct {
	row grow.Row
	key value.Value
}

// describeStranger says by which key a row is not found, and whose the planned key is.
func (l *Session) describeStranger(
	ctx context.Context,
	s store.Store,
	left *leftAlone,
	x *Strangers,
	to planned,
) error {
	t := left.of
	g := grow.NewGrower(l.Plan.Set)
	defer g.Close()
	var b grow.Batch
	g.Grow(t.Grow, to.row, 1, &b)
	if err := g.Err(); err != nil {
		return err
	}
	var key []string
	for i, c := range left.columns {
		x.Columns = append(x.Columns, c.Name)
		key = append(key, fmt.Sprintf("%s %q", c.Name, b.Row(0)[left.places[i]].String()))
	}
	x.Key = strings.Join(key, ", ")
	q := store.Query{
		Table:   t.Table,
		Columns: t.Table.Columns,
		Where:   []store.Cell{{Column: t.Key, Value: to.key}},
		Limit:   1,
	}
	return s.Select(ctx, q, func(row []value.Value) error {
		var cells []string
		for i, c := range t.Table.Columns {
			if c != t.Key && !row[i].IsNull() && len(cells) < 2 {
				cells = append(cells, fmt.Sprintf("%s %q", c.Name, row[i].String()))
			}
		}
		x.Stranger = strings.Join(cells, ", ")
		return nil
	})
}

// keepLinks writes down which keys the rows of tables that are left alone have.
func (l *Session) keepLinks(ctx context.Context, w *Writer) error {
	record, err := l.links.Pack()
	if err != nil || record == nil || l.Journal == nil || l.Options.DryRun {
		return err
	}
	text, err := json.Marshal(journal.Sum{})
	if err != nil {
		return err
	}
	of := l.Journal.Tables.Chunks
	key := journal.BeforeAll(l.Journal.Number)
	return w.Tx.Add(
		ctx,
		of,
		append(
			key.Cells(of),
			journal.Cells(
				of,
				"state",
				string(journal.StateDone),
				"ended",
				journal.Moment(time.Now()),
				"result",
				string(text),
				"record",
				record,
			)...),
	)
}
