package export

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/files"
	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Limits on one statement of a script.
const (
	statementRows  = 500
	statementBytes = 256 << 10
)

// scripter writes SQL.
type scripter struct {
	*exporter
	sql  store.Script
	sink sink
	late map[*plan.Target][]int // fields that are NULL at first, and written at the end
	put  bool                   // references are put off to the end of the transaction
	buf  []byte
	rows int // of the statement that is open

	numbers map[*plan.Target]int64 // the greatest keys of columns that number themselves

	only map[*plan.Target]map[string]bool // the rows that are written, by their keys; nil: all
}

// writes reports whether a row is one of those that are written.
func (s *scripter) writes(t *plan.Target, values []value.Value) bool {
	return s.only == nil || s.only[t][keyText(t, values)]
}

// keyText is what tells a row of a table.
func keyText(t *plan.Target, values []value.Value) string {
	var b []byte
	for _, i := range key(t) {
		b = values[i].AppendCanonical(b)
	}
	return string(b)
}

// sink takes the statements of a script, and what is said about them.
type sink struct {
	statement func(t *plan.Target, sql []byte) error // t is nil for what is about no entity
	remark    func(text string)
}

// text is a sink that writes a script.
func text(out *bufio.Writer) sink {
	return sink{
		statement: func(t *plan.Target, sql []byte) error {
			if err := refuseNUL(t, sql); err != nil {
				return err
			}
			if _, err := out.Write(sql); err != nil {
				return err
			}
			_, err := out.WriteString(";\n")
			return err
		},
		remark: func(text string) { fmt.Fprintf(out, "%s\n", text) },
	}
}

// refuseNUL refuses a statement with a NUL character. Clients cut the line off there: the quote stays open, and what
// another row holds is taken for SQL.
func refuseNUL(t *plan.Target, sql []byte) error {
	if bytes.IndexByte(sql, 0) < 0 {
		return nil
	}
	of := "a name"
	if t != nil {
		of = "a text of " + t.Plan.Name
	}
	return fmt.Errorf("%s holds a NUL character, which no script can hold: load these rows instead, or write the field as bytes", of)
}

// newScripter checks that the dialect can write the plan.
func newScripter(c *plan.Compiled, o Options, sql store.Script) (*scripter, error) {
	for _, t := range c.Targets {
		if t.Table == nil {
			return nil, &store.Fault{
				Kind:    store.Missing,
				Message: "SQL needs the tables' columns, keys and types",
				Hint:    "name the database with --db URL",
			}
		}
	}

	o.Format, o.Names = "sql", Columns
	if o.Local {
		sql = &localScript{sql}
	}
	x := newExporter(c, o)
	s := &scripter{exporter: x, sql: sql, late: map[*plan.Target][]int{}, numbers: map[*plan.Target]int64{}}
	of := order.Of(c)
	for _, l := range of.Late {
		col := l.Target.Columns[l.Field]
		if col == nil || !slices.Contains(x.targets, l.Target) {
			continue
		}
		r := l.Target.Table.Reference(col.Name)
		switch {
		case r == nil:
		case sql.DefersAll() || r.Deferrable:
			s.put = true
		case !col.NotNull:
			s.late[l.Target] = append(s.late[l.Target], l.Field)
		default:
			p := c.Problem(
				l.Target.Plan,
				"%s.%s closes a circle of references, and %s is NOT NULL and not deferrable: no order of "+
					"statements can write it",
				l.Target.Plan.Name,
				l.Target.Grow.Fields[l.Field].Name,
				col.Name,
			)
			p.Hint = "allow NULL in the column, or make the reference DEFERRABLE"
			x.close()
			return nil, diag.Problems{p}
		}
	}
	return s, nil
}

// Script writes the rows as SQL for an engine's own client: statements of several rows,
// what is referred to first, in one transaction.
func Script(
	ctx context.Context,
	c *plan.Compiled,
	o Options,
	sql store.Script,
	out io.Writer,
) (*files.Manifest, error) {
	s, err := newScripter(c, o, sql)
	if err != nil {
		return nil, err
	}
	defer s.close()
	return s.manifest, s.script(ctx, out, "Rows", s.insert)
}

// Statements hands over the statements that insert the rows, without those that begin and
// end the transaction. The target is that whose rows they are about.
func Statements(
	ctx context.Context,
	c *plan.Compiled,
	sql store.Script,
	do func(t *plan.Target, statement string) error,
) error {
	s, err := newScripter(c, Options{}, sql)
	if err != nil {
		return err
	}
	defer s.close()
	s.sink = sink{func(t *plan.Target, sql []byte) error {
		if err := refuseNUL(t, sql); err != nil {
			return err
		}
		return do(t, string(sql))
	}, func(string) {}}
	if s.put {
		for _, line := range s.sql.Late() {
			if err := do(nil, line); err != nil {
				return err
			}
		}
	}
	return s.insert(ctx)
}

// Pair takes the two scripts of a migration.
type Pair struct{ Insert, Remove io.Writer }

// Migration writes two scripts: one inserts the rows, with their keys; the other removes
// exactly these.
func Migration(
	ctx context.Context,
	c *plan.Compiled,
	o Options,
	sql store.Script,
	out Pair,
) (*files.Manifest, error) {
	s, err := newScripter(c, o, sql)
	if err != nil {
		return nil, err
	}
	defer s.close()
	if err := s.script(ctx, out.Insert, "Rows", s.insert); err != nil {
		return nil, err
	}
	return s.manifest, s.script(ctx, out.Remove, "What removes the rows", s.remove)
}

// script writes a script: its head, what a function makes, its end.
func (s *scripter) script(ctx context.Context, out io.Writer, what string, make func(context.Context) error) error {
	w := bufio.NewWriterSize(out, statementBytes)
	s.sink = text(w)
	if s.o.Bare {
		s.sink.remark("-- For a program that begins and commits the transaction itself.")
	}
	part := ""
	if p := s.manifest.Part; p != nil {
		part = fmt.Sprintf(", part %s", p)
	}
	s.sink.remark(
		fmt.Sprintf(
			"-- %s of %s%s, for %s. Seed %q, edition %s.",
			what,
			comment(s.plan.Plan.Name),
			part,
			s.sql.Name(),
			comment(s.plan.Set.Seed),
			s.plan.Set.Edition,
		),
	)
	exec := func(sql string) error { return s.sink.statement(nil, []byte(sql)) }
	begin, after := s.sql.InUTC()
	if !s.o.Bare {
		begin = s.sql.Begin()
	}
	if s.put {
		begin = append(begin, s.sql.Late()...)
	}
	for _, line := range begin {
		if err := exec(line); err != nil {
			return err
		}
	}
	if s.o.Bare {
		if err := s.sql.Quoting(exec, func() error { return make(ctx) }); err != nil {
			return err
		}
		for _, line := range after {
			if err := exec(line); err != nil {
				return err
			}
		}
		return w.Flush()
	}
	if err := make(ctx); err != nil {
		return err
	}
	if err := exec("COMMIT"); err != nil {
		return err
	}
	return w.Flush()
}

// comment makes one line of a text.
func comment(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' {
			return ' '
		}
		return r
	}, text)
}

// insert writes the rows as INSERT statements of many rows.
func (s *scripter) insert(ctx context.Context) error {
	var (
		t       *plan.Target
		columns []column
		about   *files.ManifestRows
		first   string // of a statement
	)
	begin := func(of *plan.Target) (err error) {
		t, columns = of, s.columnsOf(of)
		if about, err = s.describe(of, columns); err != nil {
			return err
		}
		names := make([]string, len(columns))
		over := ""
		for i, c := range columns {
			names[i] = s.sql.Quote(c.of.Name)
			if c.of.Identity == schema.Always {
				over = " " + s.sql.Overriding()
			}
		}
		first = fmt.Sprintf(
			"INSERT INTO %s (%s)%s VALUES\n",
			s.sql.Table(of.Table),
			strings.Join(names, ", "),
			strings.TrimRight(over, " "),
		)
		if s.only != nil {
			about.Rows = uint64(len(s.only[of]))
		}
		if about.Rows > 0 || s.only == nil {
			s.sink.remark(fmt.Sprintf("\n-- %s: %d rows", comment(of.Plan.Name), about.Rows))
		}
		return nil
	}
	row := func(_ grow.Row, values []value.Value) error {
		if !s.writes(t, values) {
			return nil
		}
		if s.rows == 0 {
			s.buf = append(s.buf, first...)
		} else {
			s.buf = append(s.buf, ",\n"...)
		}
		for i, c := range columns {
			v := &values[c.field]
			if c.of.Identity != schema.NoIdentity && v.Type == value.Integer {
				s.numbers[t] = max(s.numbers[t], v.N)
			}
			s.buf = append(s.buf, map[bool]string{true: "(", false: ", "}[i == 0]...)
			if slices.Contains(s.late[t], c.field) {
				v = &value.Value{}
			}
			s.buf = s.sql.AppendLiteral(s.buf, v, c.of)
		}
		s.buf = append(s.buf, ')')
		if s.rows++; s.rows == statementRows || len(s.buf) > statementBytes {
			return s.end(t)
		}
		return nil
	}
	end := func(print grow.Fingerprint) error {
		about.Fingerprint = print
		return s.end(t)
	}
	if err := s.each(ctx, begin, row, end); err != nil {
		return err
	}
	if err := s.closeCircles(ctx); err != nil {
		return err
	}
	for _, t := range s.targets {
		for _, c := range s.columnsOf(t) {
			if c.of.Identity == schema.NoIdentity || s.numbers[t] == 0 {
				continue
			}
			if text := s.sql.Advance(t.Table, c.of, s.numbers[t]); text != "" {
				if err := s.sink.statement(t, []byte(text)); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// end ends the statement that is open.
func (s *scripter) end(t *plan.Target) error {
	if s.rows == 0 {
		return nil
	}
	err := s.sink.statement(t, s.buf)
	s.buf, s.rows = s.buf[:0], 0
	return err
}

// closeCircles writes references that were NULL at first.
func (s *scripter) closeCircles(ctx context.Context) error {
	for _, t := range s.targets {
		for _, field := range s.late[t] {
			s.sink.remark(fmt.Sprintf("\n-- %s: references that close a circle", comment(t.Plan.Name)))
			err := s.walk(ctx, t, false, func(values []value.Value) error {
				if values[field].IsNull() || !s.writes(t, values) {
					return nil
				}
				b := append(
					s.buf[:0],
					"UPDATE "+s.sql.Table(t.Table)+" SET "+s.sql.Quote(t.Columns[field].Name)+" = "...)
				b = s.sql.AppendLiteral(b, &values[field], t.Columns[field])
				s.buf = s.appendWhere(append(b, " WHERE "...), t, values)
				return s.sink.statement(t, s.buf)
			})
			s.buf = s.buf[:0]
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// walk grows an entity's rows of the part one by one, also from the last to the first.
func (s *scripter) walk(ctx context.Context, t *plan.Target, backwards bool, show func([]value.Value) error) error {
	runs := order.Runs(s.grower, t, s.o.Part)
	if backwards {
		slices.Reverse(runs)
	}
	var b grow.Batch
	for _, run := range runs {
		for done := uint64(0); done < run.Rows; {
			if err := ctx.Err(); err != nil {
				return context.Cause(ctx)
			}
			n := min(order.SliceRows, run.Rows-done)
			for whole := false; !whole; { // rows may be large: then they are fewer
				first := run.First
				first.N += done
				if backwards {
					first.N = run.First.N + run.Rows - done - n
				}
				s.grower.GrowSome(t.Grow, first, int(n), &b)
				if err := s.grower.Err(); err != nil {
					return err
				}
				whole = !backwards || uint64(b.Len) == n
				n = uint64(b.Len)
			}
			for i := range b.Len {
				at := i
				if backwards {
					at = b.Len - 1 - i
				}
				if err := show(b.Row(at)); err != nil {
					return err
				}
			}
			done += n
		}
	}
	return nil
}

// key is the fields that tell a row in its table: a primary key, or a unique key without
// NULLs; else all that are written.
func key(t *plan.Target) []int {
	for _, k := range t.Table.Keys() {
		var fields []int
		for _, name := range k.Columns {
			i := slices.IndexFunc(
				t.Columns,
				func(c *schema.Column) bool { return c != nil && strings.EqualFold(c.Name, name) },
			)
			if i < 0 || !t.Columns[i].NotNull && !slices.Contains(t.Table.PrimaryKey, name) {
				fields = nil
				break
			}
			fields = append(fields, i)
		}
		if fields != nil && !k.Partial {
			return fields
		}
	}

	var all []int
	for i, c := range t.Columns {
		if c != nil && !c.Generated && !t.Grow.Fields[i].Inner {
			all = append(all, i)
		}
	}
	return all
}

// appendWhere appends the condition that a row is this one.
func (s *scripter) appendWhere(b []byte, t *plan.Target, values []value.Value) []byte {
	for n, i := range key(t) {
		if n > 0 {
			b = append(b, " AND "...)
		}
		b = append(b, s.sql.Quote(t.Columns[i].Name)...)
		if values[i].IsNull() {
			b = append(b, " IS NULL"...)
			continue
		}
		b = s.sql.AppendLiteral(append(b, " = "...), &values[i], t.Columns[i])
	}
	return b
}

// remove writes the script that takes the rows out again: those that refer to others
// first, the last ones first.
func (s *scripter) remove(ctx context.Context) error {
	for _, t := range s.targets {
		for _, field := range s.loose(t) {
			set := "UPDATE " + s.sql.Table(t.Table) + " SET " + s.sql.Quote(t.Columns[field].Name) + " = NULL"
			s.sink.remark(fmt.Sprintf("\n-- %s: references among what goes", comment(t.Plan.Name)))
			if err := s.these(ctx, t, set, ""); err != nil {
				return err
			}
		}
	}
	for _, t := range slices.Backward(s.targets) {
		if s.only == nil {
			s.sink.remark(fmt.Sprintf("\n-- %s: %d rows", comment(t.Plan.Name), s.manifest.Entity(t.Plan.Name).Rows))
		} else if n := len(s.only[t]); n > 0 {
			s.sink.remark(fmt.Sprintf("\n-- %s: %d removed rows", comment(t.Plan.Name), n))
		}
		behind := ""
		if k := key(t); s.sql.Inverse() && refersToItself(t) && len(k) == 1 {
			behind = " ORDER BY " + s.sql.Quote(t.Columns[k[0]].Name) + " DESC"
		}
		if err := s.these(ctx, t, "DELETE FROM "+s.sql.Table(t.Table), behind); err != nil {
			return err
		}
	}
	return nil
}

// loose are fields whose references are set to NULL before rows go.
func (s *scripter) loose(t *plan.Target) []int {
	fields := slices.Clone(s.late[t])
	for i, f := range t.Grow.Fields {
		if c := t.Columns[i]; s.sql.Inverse() && f.Target() == t.Grow && c != nil && !c.NotNull &&
			!slices.Contains(fields, i) {
			fields = append(fields, i)
		}
	}
	return fields
}

// refersToItself reports whether rows refer to others of their table.
func refersToItself(t *plan.Target) bool {
	return slices.ContainsFunc(t.Grow.Fields, func(f *grow.Field) bool { return f.Target() == t.Grow })
}

// these writes statements for all rows of an entity, the last first: for several at once
// where one column tells them.
func (s *scripter) these(ctx context.Context, t *plan.Target, statement, behind string) error {
	k := key(t)
	one := len(k) == 1
	err := s.walk(ctx, t, true, func(values []value.Value) error {
		if !s.writes(t, values) {
			return nil
		}
		if !one {
			s.buf = s.appendWhere(append(s.buf, statement+" WHERE "...), t, values)
			s.rows = 1
			return s.end(t)
		}
		if s.rows == 0 {
			s.buf = append(s.buf, statement+" WHERE "+s.sql.Quote(t.Columns[k[0]].Name)+" IN ("...)
		} else {
			s.buf = append(s.buf, ", "...)
		}
		s.buf = s.sql.AppendLiteral(s.buf, &values[k[0]], t.Columns[k[0]])
		if s.rows++; s.rows == statementRows || len(s.buf) > statementBytes {
			s.buf = append(append(s.buf, ')'), behind...)
			return s.end(t)
		}
		return nil
	})
	if err == nil && s.rows > 0 {
		s.buf = append(append(s.buf, ')'), behind...)
		err = s.end(t)
	}
	return err
}
