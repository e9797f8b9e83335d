package setwise

import (
	"context"
	"fmt"
	"hash/fnv"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/dialect"
	"evensprout/internal/value"
)

// occasions are values for steps: of one occasion they are bound to each statement, of
// several they stand in a temporary table.
type occasions struct {
	tx     *Tx
	inputs []*schema.Column
	one    []value.Value // nil if they are laid aside
	name   string        // of the temporary table, quoted
}

// StageInputs makes values of occasions ready for steps. The columns say of which types they
// are; one without a Base is of the widest type of its kind.
func (tx *Tx) StageInputs(ctx context.Context, inputs []*schema.Column, rows [][]value.Value) (store.Occasions, error) {
	o := &occasions{tx: tx, inputs: inputs}
	if len(rows) == 1 {
		o.one = rows[0]
		return o, nil
	}
	h := fnv.New64a()
	into := store.Into{Table: &schema.Table{Name: "occasions"}}
	columns := []*schema.Column{Ordinal}
	for i, c := range inputs {
		x := *c
		x.Name, x.NotNull = laid(i), false
		if x.Base == "" {
			x.Base = tx.Engine.Declare(&x)
			x.Type, _, _ = strings.Cut(x.Base, "(")
		}
		fmt.Fprintf(h, "%s\x00", x.Base)
		columns = append(columns, &x)
		into.Fields = append(into.Fields, i)
	}

	into.Columns = columns[1:]
	name := fmt.Sprintf("evensprout_o%016x", h.Sum64())
	o.name = tx.Engine.Temporary(name)
	for _, sql := range []string{tx.Engine.CreateTemporary(name, columns), tx.Engine.Empty(name)} {
		if _, err := tx.Engine.Exec(ctx, sql); err != nil {
			return nil, err
		}
	}
	_, err := tx.Engine.Fill(ctx, o.name, into, func(yield func(*value.Batch) bool) {
		for _, row := range rows {
			if !yield(&value.Batch{Len: 1, Width: len(inputs), Values: row}) {
				return
			}
		}
	})
	if err == nil {
		if sql := tx.Engine.Analyze(name); sql != "" && len(rows) >= analyzed {
			_, err = tx.Engine.Exec(ctx, sql)
		}
	}
	return o, err
}

// analyzed is from how many rows on an engine had better count a temporary table.
const analyzed = 100

// laid is the name of the column of a value that is laid aside.
func laid(input int) string { return fmt.Sprintf("v%d", input) }

// statement collects the places of the values of a statement while it is written.
type statement struct {
	o     *occasions
	order []int
}

// value is a value of the occasion, in the form in which a column of its type takes it.
func (s *statement) value(input int) string {
	if s.o.one == nil {
		return "s." + s.o.tx.Engine.Quote(laid(input))
	}
	s.order = append(s.order, input)
	return s.o.tx.Engine.Param(len(s.order), s.o.inputs[input])
}

// on is the condition that a row, whose columns have a prefix, matches.
func (s *statement) on(prefix string, match []store.Matched) string {
	var list []string
	for _, m := range match {
		list = append(list, s.o.tx.Engine.Equal(prefix+s.o.tx.Engine.Quote(m.Column.Name), s.value(m.Input), m.Column))
	}
	if len(list) == 0 {
		return "1 = 1"
	}
	return strings.Join(list, " AND ")
}

// expression writes an expression over a row called t.
func (s *statement) expression(e *schema.Expr, top bool) string {
	switch e.Op {
	case schema.OpColumn:
		return "t." + s.o.tx.Engine.Quote(e.Column.Name)
	case schema.OpInput:
		if top || s.o.one == nil {
			return s.value(e.Input)
		}
		return s.o.tx.Engine.Typed(s.value(e.Input), s.o.inputs[e.Input]) // nothing around it says what it is
	}

	var args []string
	for _, a := range e.Args {
		args = append(args, s.expression(a, false))
	}
	switch e.Op {
	case schema.OpNegate:
		return "(- " + args[0] + ")"
	case schema.OpNot:
		return "(NOT " + args[0] + ")"
	case schema.OpJoin:
		return s.o.tx.Engine.Join(args[0], args[1])
	case schema.OpIf:
		return "(CASE WHEN " + args[0] + " THEN " + args[1] + " ELSE " + args[2] + " END)"
	}

	if e.Op == schema.OpAnd || e.Op == schema.OpOr {
		return "(" + strings.Join(args, " "+string(e.Op)+" ") + ")"
	}
	return "(" + strings.Join(args, " "+s.o.tx.Engine.Operator(string(e.Op))+" ") + ")"
}

// stepText is a step and what is done with it.
type stepText struct {
	step *store.Step
	verb string
}

// written is a statement of a step, and the places of the values that it takes.
type written struct {
	text  string
	order []int
}

// text returns the statement of a step. Those of single occasions come again and again,
// so they are written once in a transaction.
func (o *occasions) text(s *store.Step, verb string, write func(*statement) string) (string, []Arg) {
	if o.one == nil {
		return write(&statement{o: o}), nil
	}
	w := o.tx.texts[stepText{s, verb}]
	if w == nil {
		st := &statement{o: o}
		w = &written{text: write(st)}
		w.order = st.order
		if o.tx.texts == nil {
			o.tx.texts = map[stepText]*written{}
		}
		o.tx.texts[stepText{s, verb}] = w
	}
	args := make([]Arg, len(w.order))
	for i, input := range w.order {
		args[i] = Arg{o.one[input], o.inputs[input]}
	}
	return w.text, args
}

// Look shows columns of the rows that match.
func (o *occasions) Look(ctx context.Context, s *store.Step, show func(int64, []value.Value) error) error {
	columns, first := s.Read, 0
	if o.one == nil {
		columns, first = append([]*schema.Column{Ordinal}, columns...), 1
	} else if len(columns) == 0 {
		columns = []*schema.Column{countColumn}
	}
	sql, args := o.text(s, "look", func(st *statement) string {
		names := exactly(o.tx.Engine, "t.", s.Read)
		from := o.tx.Engine.Table(s.Table) + " AS t WHERE " + st.on("t.", s.Match)
		if o.one == nil {
			names = append([]string{"s." + o.tx.Engine.Quote(Ordinal.Name)}, names...)
			from = o.name + " AS s JOIN " + o.tx.Engine.Table(
				s.Table,
			) + " AS t ON " + st.on(
				"t.",
				s.Match,
			) + " ORDER BY 1"
		} else if len(names) == 0 {
			names = []string{"1"}
		}
		if s.Lock != store.NoLock {
			from += o.tx.Engine.Locking(s.Lock == store.ForShare)
		}
		return "SELECT " + strings.Join(names, ", ") + " FROM " + from
	})
	return Named(o.tx.Engine.Query(ctx, sql, args, columns, func(row []value.Value) error {
		if first == 0 {
			return show(0, row[:len(s.Read)])
		}
		return show(row[0].N, row[1:])
	}), s.Table)
}

// Change sets columns of the rows that match.
func (o *occasions) Change(ctx context.Context, s *store.Step, show func([]value.Value) error) (int64, bool, error) {
	shows := o.tx.Engine.Shows() && len(s.Read) > 0
	sql, args := o.text(s, "change", func(st *statement) string {
		var set []dialect.Assignment
		for _, a := range s.Set {
			e := st.expression(a.Expr, true)
			if a.Expr.Op != schema.OpInput {
				e = o.tx.Engine.Fitted(e, a.Column)
			}
			set = append(set, dialect.Assignment{Column: o.tx.Engine.Quote(a.Column.Name), Expression: e})
		}
		sql := ""
		if o.one != nil {
			sql = o.tx.Engine.UpdateFrom(o.tx.Engine.Table(s.Table), "", set, "", st.on("t.", s.Match))
		} else {
			sql = o.tx.Engine.UpdateFrom(o.tx.Engine.Table(s.Table), o.name, set, st.on("t.", s.Match), "1 = 1")
		}
		if shows {
			sql += " RETURNING " + strings.Join(Names(o.tx.Engine, "", s.Read), ", ")
		}
		return sql
	})
	if shows {
		n := int64(0)
		err := o.tx.Engine.Query(ctx, sql, args, s.Read, func(row []value.Value) error {
			n++
			return show(row)
		})
		return n, true, Named(err, s.Table)
	}

	n, err := o.tx.Engine.Exec(ctx, sql, args...)
	return n, false, Named(err, s.Table)
}

// Add adds a row of one occasion.
func (o *occasions) Add(ctx context.Context, s *store.Step, key *schema.Column) (v value.Value, err error) {
	returning := ""
	if key != nil {
		returning = o.tx.Engine.Returning(key)
	}
	sql, args := o.text(s, "add", func(st *statement) string {
		var names, values []string
		for _, a := range s.Set {
			names, values = append(names, o.tx.Engine.Quote(a.Column.Name)), append(values, st.value(a.Expr.Input))
		}
		return "INSERT INTO " + o.tx.Engine.Table(
			s.Table,
		) + " (" + strings.Join(
			names,
			", ",
		) + ") VALUES (" + strings.Join(
			values,
			", ",
		) + ")" + returning
	})
	if returning != "" {
		err = o.tx.Engine.Query(ctx, sql, args, []*schema.Column{key}, func(row []value.Value) error {
			v = row[0]
			return nil
		})
		return v, Named(err, s.Table)
	}

	if _, err = o.tx.Engine.Exec(ctx, sql, args...); err != nil || key == nil {
		return v, Named(err, s.Table)
	}
	return o.tx.Engine.LastKey(ctx)
}

// Remove deletes the rows that match.
func (o *occasions) Remove(ctx context.Context, s *store.Step) error {
	sql, args := o.text(s, "remove", func(st *statement) string {
		if o.one != nil {
			return "DELETE FROM " + o.tx.Engine.Table(s.Table) + " WHERE " + st.on("", s.Match)
		}
		return o.tx.Engine.DeleteFrom(s.Table, o.name, st.on("t.", s.Match))
	})
	_, err := o.tx.Engine.Exec(ctx, sql, args...)
	return Named(err, s.Table)
}

// Holds reports whether a condition in SQL holds; a value stands between every two of its
// pieces. NULL is no.
func (tx *Tx) Holds(ctx context.Context, condition []string, values []store.Cell) (bool, error) {
	var b strings.Builder
	var args []Arg
	for i, text := range condition {
		b.WriteString(text)
		if i < len(values) {
			args = append(args, Arg{values[i].Value, values[i].Column})
			b.WriteString(tx.Engine.Typed(tx.Engine.Param(i+1, values[i].Column), values[i].Column))
		}
	}
	held := false
	err := tx.Engine.ReadOnly(ctx, func() error {
		return tx.Engine.Query(
			ctx,
			"SELECT CASE WHEN ("+b.String()+") THEN 1 ELSE 0 END",
			args,
			[]*schema.Column{countColumn},
			func(row []value.Value) error {
				held = row[0].N == 1
				return nil
			},
		)
	})
	return held, err
}
