package load

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/journal"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Present tells that planned rows, or their keys, are in the tables already.
type Present struct {
	Tables []PresentTable `json:"tables"`
}

// PresentTable is a table that holds what the plan would load.
type PresentTable struct {
	Entity string `json:"entity"`
	Table  string `json:"table"`
	Rows   int64  `json:"rows"`
	Found  string `json:"found"`
}

func (p *Present) Error() string {
	var b strings.Builder
	b.WriteString("the plan's rows already exist:")
	for _, t := range p.Tables {
		rows := "rows"
		if t.Rows == 1 {
			rows = "row"
		}
		fmt.Fprintf(&b, "\n  %s holds %d %s: %s", t.Table, t.Rows, rows, t.Found)
	}
	return b.String()
}

// Refusal puts a violation of which only the table is known, and maybe a key, into the
// plan's words; other errors pass.
func (l *Session) Refusal(t *Target, p *Pass, err error) error {
	var v *store.Violation
	if !errors.As(err, &v) {
		return err
	}
	if t == nil {
		for _, x := range l.List {
			if x.Table.Name == v.Table {
				t = x
			}
		}
	}

	if t == nil {
		return &journal.Refusal{
			Kind: v.Kind, Table: v.Table, Constraint: v.Constraint, Columns: v.Columns, Refers: v.Refers,
			Code: v.Code, Message: v.Message, Fields: v.Columns,
		}
	}

	r := l.worded(t, v)
	if p != nil && v.Row >= 0 {
		r.Row = t.Grow.Label(p.Row(v.Row))
	} else if len(v.Key) > 0 {
		r.Row = t.rowOf(v.Key)
	}
	return r
}

// RefusalOf puts a violation of a row into the plan's words.
func (l *Session) RefusalOf(t *Target, row grow.Row, v *store.Violation) *journal.Refusal {
	if len(v.Values) == 0 && len(v.Columns) > 0 {
		v.Values = l.valuesOf(t, row, v.Columns) // the engine names the columns alone
	}
	r := l.worded(t, v)
	r.Row = t.Grow.Label(row)
	if !row.Side {
		if file, line := t.Line(row.N); line > 0 {
			r.Place = fmt.Sprintf("%s:%d", file, line)
		}
	}
	own := v.HasTwin
	switch {
	case len(v.Other) > 0:
		r.Other, own = l.other(t, row, v)
	case v.HasTwin:
		r.Other = v.TwinLabel + wroteEarlier
	}
	if r.Hint = t.hint(r, own); l.isElsewhere(t, v) {
		r.Hint = fmt.Sprintf("a trigger of %s writes to %s: give it what it expects, or leave %s out of the plan",
			t.Table.Name, v.Table, t.Plan.Name)
	}
	return r
}

// isElsewhere reports whether a row violates what another table asks for: a trigger writes to it.
func (l *Session) isElsewhere(t *Target, v *store.Violation) bool {
	if v.Table == "" || l.Plan.Database == nil {
		return false
	}
	of := l.Plan.Database.Table(v.Table)
	return of != nil && of != t.Table
}

// valuesOf grows what a row holds in some columns; nil if one is not the plan's.
func (l *Session) valuesOf(t *Target, row grow.Row, columns []string) []value.Value {
	g := grow.NewGrower(l.Plan.Set)
	defer g.Close()
	var b grow.Batch
	g.Grow(t.Grow, row, 1, &b)
	var values []value.Value
	for _, name := range columns {
		i := slices.IndexFunc(t.Columns, func(c *schema.Column) bool { return c != nil && c.Name == name })
		if i < 0 {
			return nil
		}
		values = append(values, b.Row(0)[i])
	}
	return values
}

// worded says a violation by the plan's names.
func (l *Session) worded(t *Target, v *store.Violation) *journal.Refusal {
	r := &journal.Refusal{
		Kind: v.Kind, Table: v.Table, Constraint: v.Constraint, Columns: v.Columns, Refers: v.Refers, Code: v.Code,
		Message: v.Message, Entity: t.Plan.Name,
	}
	if r.Table == "" {
		r.Table = t.Table.Name
	}
	for i, name := range v.Columns {
		r.Fields = append(r.Fields, t.FieldOf(name))
		if i < len(v.Values) {
			r.Values = append(r.Values, v.Values[i].String())
		}
	}
	r.Hint = t.hint(r, false)
	return r
}

// FieldOf is the plan's name for a column.
func (t *Target) FieldOf(column string) string {
	for i, c := range t.Columns {
		if c != nil && c.Name == column {
			return t.Grow.Fields[i].Name
		}
	}
	return column
}

// rowOf names a row by its key: as a planned row if the key is counted.
func (t *Target) rowOf(key []store.Pair) string {
	if row, ok := t.planned(key); ok {
		return t.Grow.Label(row)
	}
	return t.Plan.Name + " with " + KeyText(key)
}

// own names the row of this load that has a key; false if it wrote none that is known to
// have it.
func (l *Session) own(t *Target, key []store.Pair) (grow.Row, bool) {
	if !t.Unkeyed {
		return t.planned(key)
	}
	if t.Grow.Key == nil || len(key) != 1 {
		return grow.Row{}, false
	}
	if !l.mu.TryLock() { // whoever asks may hold it
		return grow.Row{}, false
	}
	defer l.mu.Unlock()
	for planned, real := range l.real[t.Grow] { // only of a refusal
		if real == key[0].Value {
			return t.Grow.Key.RowOf(planned.N)
		}
	}
	return grow.Row{}, false
}

// planned is the row of the plan that has a key, if keys are counted.
func (t *Target) planned(key []store.Pair) (grow.Row, bool) {
	if k := t.Grow.Key; k != nil && len(key) == 1 && key[0].Value.Type == value.Integer {
		return k.RowOf(key[0].Value.N)
	}
	return grow.Row{}, false
}

// KeyText shows a key, columns and values.
func KeyText(key []store.Pair) string {
	var parts []string
	for _, p := range key {
		parts = append(parts, p.Column+" "+p.Value.String())
	}
	return strings.Join(parts, ", ")
}

// wroteEarlier says of a row that it is one of the same load.
const wroteEarlier = ", which this load wrote earlier"

// other says which row was collided with: one that this load wrote, its own, or one that was there before.
func (l *Session) other(t *Target, row grow.Row, v *store.Violation) (text string, own bool) {
	key := KeyText(v.Other)
	at, ok := l.own(t, v.Other)
	switch {
	case ok && t.Unkeyed: // the key goes when all is rolled back
		return t.Grow.Label(at) + wroteEarlier, true
	case t.Out.Before == 0 && ok:
		return fmt.Sprintf("%s (%s)", t.Grow.Label(at), key) + wroteEarlier, true
	case t.Out.Before == 0:
		return key + wroteEarlier, true
	case ok && (at.Side || !row.Side && at.N < row.N):
		return fmt.Sprintf("%s; planned as %s", key, t.Grow.Label(at)), false
	case t.Unkeyed && t.greatest > 0 && len(v.Other) == 1 && v.Other[0].Value.Type == value.Integer &&
		v.Other[0].Value.N > t.greatest:
		return "a row that this load wrote earlier", true
	}
	return key + ", which existed before this load", false
}

// redraws reports whether another value can be drawn for one of some columns.
func (t *Target) redraws(columns []string) bool {
	for i, c := range t.Columns {
		if c != nil && slices.Contains(columns, c.Name) && len(t.Grow.Fields[i].Redrawn()) > 0 {
			return true
		}
	}
	return false
}

// uniqueHint says what to do about a value that is there already; own: in a row of the same load.
func (t *Target) uniqueHint(r *journal.Refusal, field string, own bool) string {
	if own && t.redraws(r.Columns) {
		if len(r.Fields) == 1 {
			return fmt.Sprintf("add unique: true to %s in the plan", field)
		}
		return fmt.Sprintf("add unique: [[%s]] to %s in the plan", field, r.Entity)
	}
	var ways []string
	if _, why := t.Table.Backing(r.Columns); why == "" && t.Write.Mode == plan.Insert {
		ways = append(
			ways,
			fmt.Sprintf(
				"write: {mode: keep, match: [%s]} at %s keeps the existing row, and mode upsert changes it",
				field,
				r.Entity,
			),
		)
	}
	if t.redraws(r.Columns) {
		ways = append(ways, "--on-violation unique=redraw generates another "+field)
	}
	return strings.Join(append(ways, "--on-violation unique=skip leaves the row out"), ";\n")
}

// hint says what to do about a violation; own: a value that is there already is the load's own.
func (t *Target) hint(r *journal.Refusal, own bool) string {
	field := strings.Join(r.Fields, ", ")
	if field == "" &&
		(r.Kind == store.TooLong || r.Kind == store.OutOfRange || r.Kind == store.BadValue || r.Kind == store.NotNull) {
		return "change the source of the field to what its column can hold"
	}
	switch r.Kind {
	case store.Unique:
		return t.uniqueHint(r, field, own)
	case store.ForeignKey:
		return fmt.Sprintf("let %s pick an existing row with {pick: ENTITY}", field)
	case store.NotNull:
		return fmt.Sprintf("give %s a source without nulls", field)
	case store.Check:
		return "narrow the sources of these fields to what the constraint allows"
	case store.TooLong:
		return fmt.Sprintf("make %s shorter, such as with the filter trim:N of a text", field)
	case store.OutOfRange, store.BadValue:
		return fmt.Sprintf("narrow %s to what the column can hold", field)
	}
	return ""
}
