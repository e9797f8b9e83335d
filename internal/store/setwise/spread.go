package setwise

import (
	"context"
	"fmt"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Spread counts the values of a column.
func Spread(ctx context.Context, e Engine, t *schema.Table, c *schema.Column) (*store.Spread, error) {
	s := &spreader{engine: e, table: t, column: c, name: e.Quote(c.Name), out: &store.Spread{Distinct: -1}}
	err := e.ReadOnly(ctx, func() error { return e.Qualified(ctx, func() error { return s.run(ctx) }) })
	return s.out, err
}

// spreader asks for the spread of one column.
type spreader struct {
	engine Engine
	table  *schema.Table
	column *schema.Column
	name   string // quoted
	out    *store.Spread
}

// isComparable reports whether values can be told apart by the engine's own equality: another one is code that
// somebody else may have written.
func (s *spreader) isComparable() bool {
	return !s.column.Custom() && s.column.Kind != schema.JSON && s.column.Kind != schema.Any
}

func (s *spreader) run(ctx context.Context) error {
	if err := s.overall(ctx); err != nil {
		return err
	}
	var err error
	c := s.column
	s.out.Starts = value.Steps(s.out.Least, s.out.Most, store.SpreadSteps)
	if s.out.Starts != nil {
		if s.out.Counts, err = s.steps(ctx, s.name, s.out.Starts, c); err != nil {
			return err
		}
	}
	lengths := value.Steps(value.Int(s.out.Shortest), value.Int(s.out.Longest), store.SpreadSteps)
	if lengths != nil {
		if s.out.Lengths, err = s.steps(ctx, s.engine.Length(s.name, c), lengths, countColumn); err != nil {
			return err
		}
		for _, v := range lengths {
			s.out.LengthStarts = append(s.out.LengthStarts, v.N)
		}
	}
	if s.out.Distinct > 0 && s.out.Distinct < s.out.Rows-s.out.Nulls && s.out.Longest <= store.SpreadLong {
		return s.common(ctx)
	}
	return nil
}

// overall counts rows, NULLs and different values, and finds the extremes.
func (s *spreader) overall(ctx context.Context) error {
	list, columns := []string{"count(*)", "count(" + s.name + ")"}, []*schema.Column{countColumn, countColumn}
	add := func(expression string, c *schema.Column) int {
		list, columns = append(list, expression), append(columns, c)
		return len(list) - 1
	}
	distinct, least, shortest := 0, 0, 0
	if s.isComparable() {
		distinct = add("count(DISTINCT "+s.name+")", countColumn)
		if store.HasSteps(s.column) {
			least = add("min("+s.name+")", s.column)
			add("max("+s.name+")", s.column)
		}
	}
	if length := s.engine.Length(s.name, s.column); length != "" {
		shortest = add("coalesce(min("+length+"), 0)", countColumn)
		add("coalesce(max("+length+"), 0)", countColumn)
	}
	sql := "SELECT " + strings.Join(list, ", ") + " FROM " + s.engine.Table(s.table)
	return s.engine.Query(ctx, sql, nil, columns, func(row []value.Value) error {
		s.out.Rows = row[0].N
		s.out.Nulls = row[0].N - row[1].N
		if distinct > 0 {
			s.out.Distinct = row[distinct].N
		}
		if least > 0 {
			s.out.Least, s.out.Most = row[least], row[least+1]
		}
		if shortest > 0 {
			s.out.Shortest, s.out.Longest = row[shortest].N, row[shortest+1].N
		}
		return nil
	})
}

// steps counts rows by the steps in which an expression's values are; c is what the values are like.
func (s *spreader) steps(
	ctx context.Context, expression string, starts []value.Value, c *schema.Column,
) ([]int64, error) {
	plain := *c
	plain.Identity = schema.NoIdentity // a value is of the type alone
	var b strings.Builder
	var args []Arg
	for i, v := range starts[1:] {
		args = append(args, Arg{Value: v, Column: c})
		fmt.Fprintf(&b, " WHEN %s < %s THEN %d", expression, s.engine.Typed(s.engine.Param(i+1, &plain), &plain), i)
	}
	if len(args) == 0 { // one step holds all
		return []int64{s.out.Rows - s.out.Nulls}, nil
	}
	out := make([]int64, len(starts))
	sql := fmt.Sprintf("SELECT step, count(*) FROM (SELECT CASE%s ELSE %d END AS step FROM %s WHERE %s IS NOT NULL) "+
		"AS x GROUP BY step", b.String(), len(args), s.engine.Table(s.table), s.name)
	err := s.engine.Query(ctx, sql, args, []*schema.Column{countColumn, countColumn}, func(row []value.Value) error {
		if i := row[0].N; i >= 0 && i < int64(len(out)) {
			out[i] = row[1].N
		}
		return nil
	})
	return out, err
}

// common finds the most frequent values.
func (s *spreader) common(ctx context.Context) error {
	sql := fmt.Sprintf("SELECT %s, count(*) AS n FROM %s WHERE %s IS NOT NULL GROUP BY %s ORDER BY n DESC, %s LIMIT %d",
		s.name, s.engine.Table(s.table), s.name, s.name, s.name, store.SpreadValues)
	return s.engine.Query(ctx, sql, nil, []*schema.Column{s.column, countColumn}, func(row []value.Value) error {
		s.out.Common = append(s.out.Common, store.Frequency{Value: row[0], Rows: row[1].N})
		return nil
	})
}
