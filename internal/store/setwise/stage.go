package setwise

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/dialect"
	"evensprout/internal/value"
)

// stage is rows in a temporary table.
type stage struct {
	tx    *Tx
	w     *store.Write
	name  string // quoted
	table string // the target, quoted
	rows  int64
	on    string // t is the row that s matches

	analyze string // what is still to be done before joins
	locked  bool   // the matches are
}

// Stage lays rows aside.
func (tx *Tx) Stage(ctx context.Context, w *store.Write, rows store.Rows) (store.Stage, error) {
	name := stageName(w)
	s := &stage{tx: tx, w: w, name: tx.Engine.Temporary(name), table: tx.Engine.Table(w.Table)}
	var on []string
	for _, c := range w.Match {
		name := tx.Engine.Quote(c.Name)
		if !w.Alike || c.NotNull && hasEquality(c) {
			on = append(on, tx.Engine.Equal("t."+name, "s."+name, c))
		}
		if w.Alike {
			on = append(on, "NOT ("+tx.Engine.Differs("t."+name, "s."+name, c)+")")
		}
	}

	s.on = strings.Join(on, " AND ")

	// It may be there from before, or gone with a savepoint.
	for _, sql := range []string{tx.Engine.CreateTemporary(name, append([]*schema.Column{Ordinal}, w.Columns...)),
		tx.Engine.Empty(name)} {
		if _, err := tx.Engine.Exec(ctx, sql); err != nil {
			return nil, err
		}
	}
	var err error
	if s.rows, err = tx.Engine.Fill(ctx, s.name, w.Into, rows); err != nil {
		return nil, Named(err, w.Table)
	}
	s.analyze = tx.Engine.Analyze(name)
	return s, nil
}

// counted lets the engine count the stage before it is joined with tables.
func (s *stage) counted(ctx context.Context) error {
	if s.analyze == "" {
		return nil
	}
	_, err := s.tx.Engine.Exec(ctx, s.analyze)
	s.analyze = ""
	return err
}

// stageName is a name for the columns of a write, which no engine finds too long.
func stageName(w *store.Write) string {
	h := fnv.New64a()
	for _, c := range w.Columns {
		fmt.Fprintf(h, "%s.%s %s\x00", w.Table.Name, c.Name, c.Base)
	}
	return fmt.Sprintf("evensprout_%016x", h.Sum64())
}

func (s *stage) Rows() int64 { return s.rows }

func (s *stage) ordinal() string { return "s." + s.tx.Engine.Quote(Ordinal.Name) }

// Drop takes rows away.
func (s *stage) Drop(ctx context.Context, rows []int64) error {
	const most = 1000
	for part := range slices.Chunk(rows, most) {
		var list []string
		for _, n := range part {
			list = append(list, fmt.Sprint(n))
		}
		if _, err := s.tx.Engine.Exec(ctx,
			"DELETE FROM "+s.name+" WHERE "+s.tx.Engine.Quote(Ordinal.Name)+" IN ("+strings.Join(list,
				", ")+")"); err != nil {
			return err
		}
	}
	return nil
}

// exists is the condition that some row of the target matches s.
func (s *stage) exists() string {
	return "EXISTS (SELECT 1 FROM " + s.table + " AS t WHERE " + s.on + s.fresh() + ")"
}

// fresh ends a query of rows that are locked: as they are now, even if the transaction began before.
func (s *stage) fresh() string {
	if s.locked {
		return s.tx.Engine.Fresh()
	}
	return ""
}

// written is the condition that s is added to the table or may change it.
func (s *stage) written() string {
	switch s.w.Mode {
	case store.Keep:
		return "NOT " + s.exists()
	case store.Update:
		return s.exists()
	}
	return ""
}

func (s *stage) Guilty(ctx context.Context) ([]*store.Violation, error) {
	if err := s.counted(ctx); err != nil {
		return nil, err
	}
	var found []*store.Violation
	guilty := map[int64]bool{}
	add := func(v *store.Violation) {
		if !guilty[v.Row] { // one reason for each row
			guilty[v.Row] = true
			found = append(found, v)
		}
	}
	twins, err := s.Duplicates(ctx)
	if err != nil {
		return nil, err
	}
	for _, v := range twins {
		add(v)
	}
	for _, key := range s.w.Table.Keys() {
		if err := s.collisions(ctx, key, add); err != nil {
			return nil, err
		}
	}
	for i := range s.w.Table.References {
		if err := s.orphans(ctx, &s.w.Table.References[i], add); err != nil {
			return nil, err
		}
	}
	for _, c := range s.w.Table.Checks {
		if err := s.broken(ctx, c, add); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(found, func(a, b *store.Violation) int { return cmp.Compare(a.Row, b.Row) })
	return found, nil
}

// Duplicates finds rows that have the match values of an earlier row.
func (s *stage) Duplicates(ctx context.Context) ([]*store.Violation, error) {
	if len(s.w.Match) == 0 || s.w.Distinct {
		return nil, nil
	}
	var found []*store.Violation
	err := s.twice(
		ctx,
		s.w.Match,
		"match ("+strings.Join(schema.NamesOf(s.w.Match), ", ")+")",
		false,
		func(v *store.Violation) { found = append(found, v) },
	)
	return found, err
}

// staged returns columns by name, or false if some are not written.
func (s *stage) staged(names []string) ([]*schema.Column, bool) {
	var columns []*schema.Column
	for _, n := range names {
		i := slices.IndexFunc(s.w.Columns, func(c *schema.Column) bool { return strings.EqualFold(c.Name, n) })
		if i < 0 {
			return nil, false
		}
		columns = append(columns, s.w.Columns[i])
	}
	return columns, len(columns) > 0
}

// changes reports whether an update may change one of the columns.
func (s *stage) changes(columns []*schema.Column) bool {
	return slices.ContainsFunc(columns, func(c *schema.Column) bool { return slices.Contains(s.w.Set, c) })
}

func where(conditions ...string) string {
	conditions = slices.DeleteFunc(conditions, func(c string) bool { return c == "" })
	if len(conditions) == 0 {
		return ""
	}
	return " WHERE " + strings.Join(conditions, " AND ")
}

func notNull(names []string) string {
	list := make([]string, len(names))
	for i, n := range names {
		list[i] = n + " IS NOT NULL"
	}
	return strings.Join(list, " AND ")
}

func (s *stage) violation(v store.Violation, columns []*schema.Column, values []value.Value) *store.Violation {
	v.Table, v.Columns, v.Values = s.w.Table.Name, schema.NamesOf(columns), slices.Clone(values)
	return &v
}

// twice finds rows whose values another staged row has before them.
func (s *stage) twice(
	ctx context.Context,
	columns []*schema.Column,
	constraint string,
	nullsEqual bool,
	add func(*store.Violation),
) error {
	names := Names(s.tx.Engine, "s.", columns)
	present := notNull(names)
	if nullsEqual {
		present = ""
	}
	n := s.ordinal()
	inner := "SELECT " + n + " AS n, MIN(" + n + ") OVER (PARTITION BY " + strings.Join(names, ", ") + ") AS first, " +
		strings.Join(names, ", ") + " FROM " + s.name + " AS s" + where(present, s.written())
	sql := "SELECT d.n, d.first, " + strings.Join(
		Names(s.tx.Engine, "d.", columns),
		", ",
	) + " FROM (" + inner + ") AS d WHERE d.n > d.first ORDER BY d.n"
	return s.tx.Engine.Query(
		ctx,
		sql,
		nil,
		append([]*schema.Column{Ordinal, Ordinal}, columns...),
		func(row []value.Value) error {
			same := store.Violation{
				Kind: store.Unique, Row: row[0].N, Constraint: constraint,
				Message: "another row of this load has the same values",
			}
			v := s.violation(same, columns, row[2:])
			v.Twin, v.HasTwin = row[1].N, true
			add(v)
			return nil
		},
	)
}

// collisions finds rows that a unique key refuses.
func (s *stage) collisions(ctx context.Context, key schema.Unique, add func(*store.Violation)) error {
	columns, ok := s.staged(key.Columns)
	if !ok || key.Partial {
		return nil
	}
	isMatch := len(columns) == len(s.w.Match) &&
		!slices.ContainsFunc(columns, func(c *schema.Column) bool { return !slices.Contains(s.w.Match, c) })
	update := s.w.Mode == store.Update || s.w.Mode == store.Upsert
	if isMatch && s.w.Mode != store.Insert && s.w.Mode != store.Replace {
		return nil // told as twice; rows that are there are meant
	}
	if s.w.Mode == store.Update && !s.changes(columns) {
		return nil
	}
	name := s.w.Table.KeyName(key.Columns)
	if !update || s.changes(columns) {
		if err := s.twice(ctx, columns, name, key.NullsEqual, add); err != nil {
			return err
		}
	}
	var same []string
	for _, c := range columns {
		same = append(same, s.tx.Engine.Equal("o."+s.tx.Engine.Quote(c.Name), "s."+s.tx.Engine.Quote(c.Name), c))
	}
	condition := s.written()
	if update {
		condition = s.anotherRow(columns)
	}
	primary := columnsOf(s.w.Table, s.w.Table.PrimaryKey)
	selected := append([]string{s.ordinal()}, Names(s.tx.Engine, "s.", columns)...)
	selected = append(selected, Names(s.tx.Engine, "o.", primary)...)
	sql := "SELECT " + strings.Join(selected, ", ") +
		" FROM " + s.name + " AS s JOIN " + s.table + " AS o ON " + strings.Join(same, " AND ") +
		where(condition) + " ORDER BY 1"
	return s.tx.Engine.Query(
		ctx,
		sql,
		nil,
		slices.Concat([]*schema.Column{Ordinal}, columns, primary),
		func(row []value.Value) error {
			there := store.Violation{
				Kind: store.Unique, Row: row[0].N, Constraint: name, Message: "a row of the table has the same values",
			}
			v := s.violation(there, columns, row[1:1+len(columns)])
			for i, c := range primary {
				v.Other = append(v.Other, store.Pair{Column: c.Name, Value: row[1+len(columns)+i]})
			}
			add(v)
			return nil
		},
	)
}

// anotherRow is the condition that a row o of the table, which has the values of a unique key, is not
// the one that the staged row s changes.
func (s *stage) anotherRow(key []*schema.Column) string {
	var other []string
	for _, c := range s.w.Match {
		name := s.tx.Engine.Quote(c.Name)
		other = append(other, "NOT "+s.tx.Engine.Equal("o."+name, "s."+name, c))
	}
	condition := "(" + strings.Join(other, " OR ") + ")"
	switch {
	case !s.changes(key):
		condition += " AND NOT " + s.exists()
	case s.w.Mode == store.Update:
		condition += " AND " + s.exists()
	}
	return condition
}

// orphans finds rows that refer to nothing.
func (s *stage) orphans(ctx context.Context, r *schema.Reference, add func(*store.Violation)) error {
	columns, ok := s.staged(r.Columns)
	if !ok || strings.EqualFold(r.Table, s.w.Table.Name) || r.To == nil || r.Deferrable && s.tx.Late {
		return nil // a row of the same write may be referred to: the engine tells
	}
	if s.w.Mode == store.Update && !s.changes(columns) {
		return nil
	}
	names := Names(s.tx.Engine, "s.", columns)
	var same []string
	for i, c := range columns {
		same = append(same, s.tx.Engine.Equal("p."+s.tx.Engine.Quote(r.Targets[i]), "s."+s.tx.Engine.Quote(c.Name), c))
	}
	sql := "SELECT " + s.ordinal() + ", " + strings.Join(names, ", ") + " FROM " + s.name + " AS s" +
		where(
			notNull(names),
			"NOT EXISTS (SELECT 1 FROM "+s.tx.Engine.Table(r.To)+" AS p WHERE "+strings.Join(same, " AND ")+")",
			s.written(),
		) + " ORDER BY 1"
	return s.tx.Engine.Query(
		ctx,
		sql,
		nil,
		append([]*schema.Column{Ordinal}, columns...),
		func(row []value.Value) error {
			orphan := store.Violation{
				Kind: store.ForeignKey, Row: row[0].N, Constraint: r.Name, Message: "no row of " + r.Table +
					" has these " +
					"values",
			}
			v := s.violation(orphan, columns, row[1:])
			v.Refers = r.Table
			add(v)
			return nil
		},
	)
}

// broken finds rows for which a check does not hold, as far as its expression can be
// held against a stage.
func (s *stage) broken(ctx context.Context, c schema.Check, add func(*store.Violation)) error {
	var columns []*schema.Column
	for _, col := range s.w.Columns {
		if Mentions(c.Expression, col.Name) {
			columns = append(columns, col)
		}
	}
	if len(columns) == 0 || s.w.Mode == store.Update && !s.changes(columns) {
		return nil
	}
	for _, col := range s.w.Table.Columns {
		if !slices.Contains(s.w.Columns, col) && Mentions(c.Expression, col.Name) {
			return nil // the stage does not have it
		}
	}
	sql := "SELECT " + s.ordinal() + ", " + strings.Join(
		Names(s.tx.Engine, "s.", columns),
		", ",
	) + " FROM " + s.name + " AS s" +
		where(
			"NOT ("+c.Expression+")",
			s.written(),
		) + " ORDER BY 1"
	var found []*store.Violation

	// The text of a check is whole: what it calls is named with its schema.
	err := s.tx.try(ctx, func() error {
		return s.tx.Engine.Qualified(ctx, func() error {
			return s.tx.Engine.Query(
				ctx,
				sql,
				nil,
				append([]*schema.Column{Ordinal}, columns...),
				func(row []value.Value) error {
					v := store.Violation{
						Kind: store.Check, Row: row[0].N, Constraint: CheckName(c), Message: "the check does not hold",
					}
					found = append(found, s.violation(v, columns, row[1:]))
					return nil
				},
			)
		})
	})
	if err != nil {
		var fault *store.Fault
		if errors.As(err, &fault) || ctx.Err() != nil {
			return err
		}
		return nil // the engine tells when the rows are written
	}

	for _, v := range found {
		add(v)
	}
	return nil
}

// CheckName is what messages call a check.
func CheckName(c schema.Check) string {
	return strings.TrimSpace(c.Name + " CHECK (" + strings.Join(strings.Fields(c.Expression), " ") + ")")
}

// Mentions reports whether an expression has a word in it.
func Mentions(expression, word string) bool {
	letter := func(c byte) bool {
		return c == '_' || c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z' || c >= 0x80
	}
	for at := 0; at+len(word) <= len(expression); at++ {
		end := at + len(word)
		if strings.EqualFold(expression[at:end], word) && (at == 0 || !letter(expression[at-1])) &&
			(end == len(expression) || !letter(expression[end])) {
			return true
		}
	}
	return false
}

func (s *stage) ranged() string {
	return s.ordinal() + " >= " + s.tx.Engine.Param(
		1,
		Ordinal,
	) + " AND " + s.ordinal() + " < " + s.tx.Engine.Param(
		2,
		Ordinal,
	)
}

// Apply writes rows in the mode of the write.
func (s *stage) Apply(ctx context.Context, lo, hi int64) (store.Outcome, error) {
	o, err := s.apply(ctx, lo, hi)
	return o, Named(err, s.w.Table)
}

func (s *stage) apply(ctx context.Context, lo, hi int64) (store.Outcome, error) {
	var o store.Outcome
	bounds := []Arg{{value.Int(lo), Ordinal}, {value.Int(hi), Ordinal}}
	staged, err := Number(ctx, s.tx.Engine, "SELECT count(*) FROM "+s.name+" AS s"+where(s.ranged()), bounds...)
	if err != nil || staged == 0 {
		return o, err
	}
	query := func(condition string) string {
		return "SELECT " + strings.Join(Names(s.tx.Engine, "s.", s.w.Columns), ", ") +
			" FROM " + s.name + " AS s" + where(s.ranged(), condition)
	}
	if s.w.Mode == store.Upsert && len(s.w.Set) > 0 {
		if sql := s.tx.Engine.Upsert(s.w, query(""), s.differing); sql != "" {
			err := s.tx.Engine.Query(
				ctx,
				sql,
				bounds,
				[]*schema.Column{countColumn, countColumn},
				func(row []value.Value) error {
					o.Inserted, o.Updated = row[0].N, row[1].N
					return nil
				},
			)
			o.Unchanged = staged - o.Inserted - o.Updated
			return o, err
		}
	}
	if err := s.counted(ctx); err != nil {
		return o, err
	}
	if (s.w.Mode == store.Upsert || s.w.Mode == store.Update) && len(s.w.Set) > 0 {
		if o.Updated, err = s.update(ctx, bounds); err != nil {
			return o, err
		}
	}
	if s.w.Mode != store.Update {
		absent := ""
		if s.w.Mode == store.Keep || s.w.Mode == store.Upsert {
			absent = "NOT " + s.exists()
		}
		if o.Inserted, err = s.tx.Engine.Exec(ctx,
			InsertFrom(s.tx.Engine, s.w.Into, query(absent)+" ORDER BY "+s.ordinal()), bounds...); err != nil {
			return o, err
		}
	}
	return s.counts(o, staged)
}

// update changes the rows of the table that staged rows match and that differ from them.
func (s *stage) update(ctx context.Context, bounds []Arg) (int64, error) {
	var set []dialect.Assignment
	for _, c := range Names(s.tx.Engine, "", slices.Concat(s.w.Set, s.w.Stamp)) {
		set = append(set, dialect.Assignment{Column: c, Expression: "s." + c})
	}
	sql := s.tx.Engine.UpdateFrom(s.table, s.name, set, s.on, s.ranged()+" AND ("+s.differing("t.", "s.")+")")
	return s.tx.Engine.Exec(ctx, sql, bounds...)
}

// counts completes an outcome: of the staged rows, those that are neither added nor changed were
// there already. An insert must have added all.
func (s *stage) counts(o store.Outcome, staged int64) (store.Outcome, error) {
	switch s.w.Mode {
	case store.Insert, store.Replace:
		if o.Inserted != staged {
			return o, store.LeftOut(staged, o.Inserted)
		}
	case store.Keep:
		o.Kept = staged - o.Inserted
	case store.Upsert, store.Update:
		o.Unchanged = staged - o.Inserted - o.Updated
	}
	return o, nil
}

// differing is the condition that a column to be set differs; the prefixes say where
// from.
func (s *stage) differing(target, staged string) string {
	var list []string
	for _, c := range s.w.Set {
		name := s.tx.Engine.Quote(c.Name)
		list = append(list, s.tx.Engine.Differs(target+name, staged+name, c))
	}
	return strings.Join(list, " OR ")
}

// Unmatched are the rows that no row of the table matches.
func (s *stage) Unmatched(ctx context.Context, first int64) ([]int64, error) {
	among := ""
	if first > 0 {
		among = fmt.Sprintf("%s < %d", s.ordinal(), first)
	}
	return s.ordinals(ctx, "", among, "NOT "+s.exists())
}

// Keys shows the keys that matched rows have in the table.
func (s *stage) Keys(
	ctx context.Context,
	key *schema.Column,
	differing bool,
	show func(int64, value.Value) error,
) error {
	if err := s.counted(ctx); err != nil {
		return err
	}
	name, condition := s.tx.Engine.Quote(key.Name), ""
	if differing {
		condition = "s." + name + " <> t." + name
	}
	sql := "SELECT " + s.ordinal() + ", t." + name + " FROM " + s.name + " AS s JOIN " + s.table + " AS t ON " +
		s.on + where(
		condition,
	) + " ORDER BY 1"
	return s.tx.Engine.Query(ctx, sql, nil, []*schema.Column{Ordinal, key}, func(row []value.Value) error {
		return show(row[0].N, row[1])
	})
}

// Changes shows what an update would change.
func (s *stage) Changes(ctx context.Context, show func(store.Change) error) error {
	if err := s.counted(ctx); err != nil {
		return err
	}
	if len(s.w.Set) == 0 {
		return nil
	}
	selected := append([]string{s.ordinal()}, Names(s.tx.Engine, "s.", s.w.Match)...)
	columns := append([]*schema.Column{Ordinal}, s.w.Match...)
	for _, c := range s.w.Set {
		name := s.tx.Engine.Quote(c.Name)
		differs := "CASE WHEN " + s.tx.Engine.Differs("t."+name, "s."+name, c) + " THEN 1 ELSE 0 END"
		selected = append(selected, "t."+name, "s."+name, differs)
		columns = append(columns, c, c, countColumn)
	}

	sql := "SELECT " + strings.Join(
		selected,
		", ",
	) + " FROM " + s.name + " AS s JOIN " + s.table + " AS t ON " + s.on + where(
		"("+s.differing("t.", "s.")+")",
	) + " ORDER BY 1"
	at := 1 + len(s.w.Match)
	return s.tx.Engine.Query(ctx, sql, nil, columns, func(row []value.Value) error {
		for i, c := range s.w.Set {
			if row[at+3*i+2].N == 0 {
				continue
			}
			change := store.Change{
				Row:    row[0].N,
				Match:  slices.Clone(row[1:at]),
				Column: c,
				From:   row[at+3*i],
				To:     row[at+3*i+1],
			}
			if err := show(change); err != nil {
				return err
			}
		}
		return nil
	})
}
