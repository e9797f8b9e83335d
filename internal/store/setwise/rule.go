package setwise

import (
	"context"
	"fmt"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// ruleColumns are what Broken shows of a row.
func ruleColumns(r *schema.Rule) []*schema.Column {
	if r.Table == nil {
		return nil
	}
	columns := columnsOf(r.Table, r.Table.PrimaryKey)
	if len(columns) == 0 {
		columns = r.Table.Columns
	}
	if a := r.Aggregate; a != nil && a.To != nil {
		columns = append(columns[:len(columns):len(columns)], a.To)
	}
	if r.Every != nil {
		r.Every.Visit(func(e *schema.Expr) {
			if e.Op == schema.OpColumn {
				columns = append(columns[:len(columns):len(columns)], e.Column)
			}
		})
	}
	return columns
}

// Broken looks whether an invariant holds: it shows at most so many rows for which it
// does not, with the value that was computed over others, if there is one. A condition
// on its own has no rows: then show is called once without columns.
func (tx *Tx) Broken(
	ctx context.Context,
	r *schema.Rule,
	most int,
	show func(columns []*schema.Column, row []value.Value, computed value.Value) error,
) error {
	if r.SQL != "" {
		held, err := tx.Holds(ctx, []string{r.SQL}, nil)
		if err == nil && !held {
			err = show(nil, nil, value.Value{})
		}
		return err
	}
	columns := ruleColumns(r)
	var args []Arg
	sql, result := "", columns
	switch {
	case r.Every != nil:
		s := &statement{o: &occasions{tx: tx, one: r.Values}}
		for _, v := range r.Values {
			s.o.inputs = append(s.o.inputs, store.ColumnFor(v.Type, v.Scale))
		}
		condition := s.expression(r.Every, false)
		for _, input := range s.order {
			args = append(args, Arg{r.Values[input], s.o.inputs[input]})
		}
		sql = "SELECT " + strings.Join(
			Names(tx.Engine, "t.", columns),
			", ",
		) + " FROM " + tx.Engine.Table(
			r.Table,
		) + " AS t WHERE NOT " + condition
	case r.Where != "":
		sql = "SELECT " + strings.Join(
			Names(tx.Engine, "", columns),
			", ",
		) + " FROM " + tx.Engine.Table(
			r.Table,
		) + " WHERE (" + r.Where + ")"
	default:
		a := r.Aggregate
		value, of := "count(*)", countColumn
		if a.Column != nil {
			c := *a.Column
			c.Name = "v"
			value, of = tx.Engine.Fitted(a.Function+"("+tx.Engine.Quote(a.Column.Name)+")", a.Column), &c
		}
		computed := "s." + tx.Engine.Quote("v")
		if a.Function == "count" || a.Function == "sum" {
			computed = "coalesce(" + computed + ", 0)" // rows to which none refer
		}
		by := Names(tx.Engine, "", columnsOf(a.Of, a.By.Columns))
		var on []string
		for i, c := range columnsOf(r.Table, a.By.Targets) {
			on = append(on, tx.Engine.Equal("s."+by[i], "t."+tx.Engine.Quote(c.Name), c))
		}
		against := ""
		if a.To != nil {
			against = "t." + tx.Engine.Quote(a.To.Name)
		} else {
			c := store.ColumnFor(a.Value.Type, a.Value.Scale)
			args = append(args, Arg{a.Value, c})
			against = tx.Engine.Typed(tx.Engine.Param(1, c), c)
		}
		sql = fmt.Sprintf(
			"SELECT %s, %s FROM %s AS t LEFT JOIN (SELECT %s, %s AS %s FROM %s GROUP BY %s) AS s ON %s WHERE NOT "+
				"(%s %s %s)",
			strings.Join(
				Names(tx.Engine, "t.", columns),
				", ",
			),
			computed,
			tx.Engine.Table(r.Table),
			strings.Join(by, ", "),
			value,
			tx.Engine.Quote("v"),
			tx.Engine.Table(a.Of),
			strings.Join(by, ", "),
			strings.Join(on, " AND "),
			computed,
			tx.Engine.Operator(string(a.Op)),
			against,
		)
		result = append(columns[:len(columns):len(columns)], of)
	}
	sql += fmt.Sprintf(" LIMIT %d", most)
	return tx.Engine.ReadOnly(ctx, func() error {
		return tx.Engine.Query(ctx, sql, args, result, func(row []value.Value) error {
			var computed value.Value
			if len(row) > len(columns) {
				computed = row[len(columns)]
			}
			return show(columns, row[:len(columns)], computed)
		})
	})
}
