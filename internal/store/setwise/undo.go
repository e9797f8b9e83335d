package setwise

import (
	"context"
	"errors"
	"slices"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/dialect"
	"evensprout/internal/value"
)

// exactly reads columns so that their texts say all of their values.
func exactly(e dialect.Dialect, prefix string, columns []*schema.Column) []string {
	names := Names(e, prefix, columns)
	for i, c := range columns {
		names[i] = e.Exact(names[i], c)
	}
	return names
}

// Prior shows the rows that Apply would change.
func (s *stage) Prior(ctx context.Context, show func(int64, []value.Value) error) error {
	if err := s.counted(ctx); err != nil {
		return err
	}
	if len(s.w.Set) == 0 {
		return nil
	}
	columns := s.w.Table.Columns
	sql := "SELECT " + strings.Join(
		append([]string{s.ordinal()}, exactly(s.tx.Engine, "t.", columns)...),
		", ",
	) + " FROM " + s.name + " AS s JOIN " + s.table + " AS t ON " + s.on +
		where(
			"("+s.differing("t.", "s.")+")",
		) + " ORDER BY 1" + s.tx.Engine.Locking(
		false,
	)
	return s.tx.Engine.Query(
		ctx,
		sql,
		nil,
		append([]*schema.Column{Ordinal}, columns...),
		func(row []value.Value) error {
			return show(row[0].N, row[1:])
		},
	)
}

func (s *stage) ordinals(ctx context.Context, from string, conditions ...string) ([]int64, error) {
	if err := s.counted(ctx); err != nil {
		return nil, err
	}
	var rows []int64
	err := s.tx.Engine.Query(
		ctx,
		"SELECT "+s.ordinal()+" FROM "+s.name+" AS s"+from+where(conditions...)+" ORDER BY 1"+s.fresh(),
		nil,
		[]*schema.Column{Ordinal},
		func(row []value.Value) error {
			rows = append(rows, row[0].N)
			return nil
		},
	)
	return rows, err
}

// Differing are the rows whose match has other values in the columns of Set.
func (s *stage) Differing(ctx context.Context) ([]int64, error) {
	if len(s.w.Set) == 0 {
		return nil, nil
	}
	return s.ordinals(ctx, " JOIN "+s.table+" AS t ON "+s.on, "("+s.differing("t.", "s.")+")")
}

// referrer is a reference to some table, and the table that it is in.
type referrer struct {
	table     *schema.Table
	reference *schema.Reference
}

// referrersOf are the references to a table.
func (tx *Tx) referrersOf(db *schema.Database, to *schema.Table) []referrer {
	if tx.referringOf != db {
		tx.referrers, tx.referringOf = map[string][]referrer{}, db
		for _, t := range db.Referring() {
			for i := range t.References {
				if r := &t.References[i]; r.To != nil {
					tx.referrers[r.To.Name] = append(tx.referrers[r.To.Name], referrer{t, r})
				}
			}
		}
	}
	return tx.referrers[to.Name]
}

// Referred are the rows whose match is referred to.
func (s *stage) Referred(ctx context.Context, db *schema.Database, except []*schema.Column) ([]store.Referral, error) {
	if len(s.tx.referrersOf(db, s.w.Table)) == 0 {
		return nil, nil
	}
	if err := s.Lock(ctx); err != nil {
		return nil, err
	}
	var found []store.Referral
	for _, by := range s.tx.referrersOf(db, s.w.Table) {
		other, r := by.table, by.reference
		if len(r.Columns) == 1 && slices.Contains(except, other.Column(r.Columns[0])) {
			continue
		}
		if other.Hidden != "" {
			if err := s.hidden(ctx, by, other.Hidden, &found); err != nil {
				return nil, err
			}
			continue
		}
		rows, err := s.referredFrom(ctx, other, r)
		var fault *store.Fault
		if errors.As(err, &fault) && fault.Kind == store.Denied { // where the catalogue does not say so before
			if err := s.hidden(ctx, by, "this user may not read them (GRANT SELECT)", &found); err != nil {
				return nil, err
			}
			continue
		}
		if err != nil {
			return nil, err
		}
		for _, n := range rows {
			found = append(found, store.Referral{Row: n, Table: other.Name})
		}
	}

	slices.SortStableFunc(found, func(a, b store.Referral) int { return int(a.Row - b.Row) })
	return found, nil
}

// referredFrom finds the rows to which rows of one table refer. That table's references are read once: they need not
// have an index.
func (s *stage) referredFrom(ctx context.Context, other *schema.Table, r *schema.Reference) ([]int64, error) {
	e := s.tx.Engine
	references, targets := Names(e, "o.", columnsOf(other, r.Columns)), Names(e, "t.", columnsOf(s.w.Table, r.Targets))
	present := []string{notNull(references)}
	var same, differs []string
	for j, name := range references {
		c := other.Column(r.Columns[j])
		same = append(same, e.Equal(targets[j], name, c))
		differs = append(differs, "NOT "+e.Equal(name, "o."+e.Quote(r.Targets[j]), c))
	}
	if other.Name == s.w.Table.Name { // a row that refers to itself does not count
		present = append(present, "("+strings.Join(differs, " OR ")+")")
	}
	return s.ordinals(ctx, " JOIN "+s.table+" AS t ON "+s.on, e.Among(targets, references, strings.Join(same, " AND "),
		e.Table(other)+" AS o", strings.Join(present, " AND ")+s.fresh()))
}

// hidden notes that rows which this user does not see may refer to all matches. What the engine refuses needs no look;
// what it takes along may be there.
func (s *stage) hidden(ctx context.Context, by referrer, why string, found *[]store.Referral) error {
	if !by.reference.Takes() {
		return nil
	}
	rows, err := s.ordinals(ctx, " JOIN "+s.table+" AS t ON "+s.on)
	for _, n := range rows {
		*found = append(*found, store.Referral{Row: n, Table: by.table.Name, Hidden: why})
	}
	return err
}

// Strangers shows rows of the table that no staged row matches.
func (s *stage) Strangers(ctx context.Context, columns []*schema.Column, show func([]value.Value) error) error {
	if err := s.counted(ctx); err != nil {
		return err
	}
	absent := "NOT EXISTS (SELECT 1 FROM " + s.name + " AS s WHERE " + s.on + ")"
	if !s.w.Alike {
		absent = s.tx.Engine.NotIn(
			Names(s.tx.Engine, "t.", s.w.Match),
			Names(s.tx.Engine, "s.", s.w.Match),
			s.name,
			s.on,
		)
	}
	return s.tx.Engine.Query(
		ctx,
		"SELECT "+strings.Join(Names(s.tx.Engine, "t.", columns), ", ")+" FROM "+s.table+" AS t WHERE "+absent,
		nil,
		columns,
		show,
	)
}

// Referrers shows the primary keys of the rows that refer to the matches. Rows of tables
// without one are not shown.
func (s *stage) Referrers(
	ctx context.Context,
	db *schema.Database,
	show func(*schema.Table, []value.Value) error,
) error {
	if err := s.Lock(ctx); err != nil {
		return err
	}
	for _, other := range db.Tables {
		keys := columnsOf(other, other.PrimaryKey)
		for i := range other.References {
			r := &other.References[i]
			if r.To == nil || r.To.Name != s.w.Table.Name || len(keys) == 0 || other.Hidden != "" {
				continue
			}
			var same []string
			for j, name := range r.Columns {
				same = append(
					same,
					s.tx.Engine.Equal(
						"o."+s.tx.Engine.Quote(name),
						"t."+s.tx.Engine.Quote(r.Targets[j]),
						other.Column(name),
					),
				)
			}
			sql := "SELECT DISTINCT " + strings.Join(
				Names(s.tx.Engine, "o.", keys),
				", ",
			) + " FROM " + s.name + " AS s JOIN " + s.table + " AS t ON " + s.on +
				" JOIN " + s.tx.Engine.Table(
				other,
			) + " AS o ON " + strings.Join(
				same,
				" AND ",
			) + s.fresh()
			if err := s.tx.Engine.Query(ctx, sql, nil, keys,
				func(row []value.Value) error { return show(other, row) }); err != nil {
				return err
			}
		}
	}
	return nil
}

// Copies shows how many rows of the table match each staged one.
func (s *stage) Copies(ctx context.Context, show func(row, n int64) error) error {
	if err := s.counted(ctx); err != nil {
		return err
	}
	sql := "SELECT " + s.ordinal() + ", (SELECT count(*) FROM " + s.table + " AS t WHERE " + s.on + ") FROM " +
		s.name + " AS s"
	return s.tx.Engine.Query(
		ctx,
		sql,
		nil,
		[]*schema.Column{Ordinal, countColumn},
		func(row []value.Value) error { return show(row[0].N, row[1].N) },
	)
}

// Remove deletes the matches of all rows.
func (s *stage) Remove(ctx context.Context) (int64, error) {
	if err := s.counted(ctx); err != nil {
		return 0, err
	}
	if err := s.tx.helped(ctx, s.w.Table, s.rows); err != nil {
		return 0, err
	}
	n, err := s.tx.Engine.Exec(ctx, s.tx.Engine.DeleteFrom(s.w.Table, s.name, s.on))
	return n, Named(err, s.w.Table)
}

// RemoveWith deletes the matches of several stages.
func (s *stage) RemoveWith(ctx context.Context, others ...store.Stage) ([]int64, error) {
	all := []*stage{s}
	for _, o := range others {
		all = append(all, o.(*stage))
	}
	var deletions []string
	var counts []*schema.Column
	for _, o := range all {
		if err := o.counted(ctx); err != nil {
			return nil, err
		}
		if err := s.tx.helped(ctx, o.w.Table, o.rows); err != nil {
			return nil, err
		}
		deletions, counts = append(
			deletions,
			o.tx.Engine.DeleteFrom(o.w.Table, o.name, o.on),
		), append(
			counts,
			countColumn,
		)
	}

	var removed []int64
	if sql := s.tx.Engine.Together(deletions); sql != "" {
		err := s.tx.Engine.Query(ctx, sql, nil, counts, func(row []value.Value) error {
			for _, n := range row {
				removed = append(removed, n.N)
			}
			return nil
		})
		return removed, Named(err, s.w.Table)
	}

	for _, o := range all {
		if err := o.leadAstray(ctx, all); err != nil {
			return nil, err
		}
	}
	for _, o := range all {
		n, err := o.Remove(ctx)
		if err != nil {
			return nil, err
		}
		removed = append(removed, n)
	}
	return removed, nil
}

// leadAstray lets references of staged rows to rows of the other stages point to nothing,
// where they would become NULL and must not. They are held against the tables at the commit,
// and the rows that have them go before.
func (s *stage) leadAstray(ctx context.Context, all []*stage) error {
	var set []dialect.Assignment
	for i := range s.w.Table.References {
		r := &s.w.Table.References[i]
		if !r.Blanks || len(r.Columns) != 1 ||
			!slices.ContainsFunc(all, func(o *stage) bool { return o.w.Table == r.To }) {
			continue
		}
		if nowhere := s.tx.Engine.Nowhere(s.w.Table.Column(r.Columns[0])); nowhere != "" {
			set = append(set, dialect.Assignment{Column: s.tx.Engine.Quote(r.Columns[0]), Expression: nowhere})
		}
	}
	if len(set) == 0 {
		return nil
	}
	_, err := s.tx.Engine.Exec(ctx, s.tx.Engine.UpdateFrom(s.table, s.name, set, s.on, "1 = 1"))
	return Named(err, s.w.Table)
}
