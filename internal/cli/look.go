package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"evensprout/internal/diag"
	"evensprout/internal/lookup"
	"evensprout/internal/plan"
	"evensprout/internal/predicate"
	"evensprout/internal/report"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// lookFlags say which rows are shown.
type lookFlags struct {
	limit, skip int
	where       string
	counts      bool
	spread      []string // the columns whose values are counted
}

func (f lookFlags) check(table, row string) error {
	if row != "" && (f.where != "" || f.counts || len(f.spread) > 0) {
		return diag.Usagef("one row is shown without --where, --counts and --spread")
	}
	if err := f.checkSpread(table); err != nil {
		return err
	}
	if f.limit < 1 || f.limit > 100_000 || f.skip < 0 {
		return diag.Usagef("--limit must be between 1 and 100000, --skip from 0 up")
	}
	if f.where != "" {
		if _, err := predicate.Parse(f.where); err != nil {
			return diag.Usagef("--where must be one condition in SQL: %s", err)
		}
		if what := predicate.Plain(f.where); what != "" {
			return diag.Usagef("--where contains %s, which databases read in different ways", what)
		}
		if table == "" {
			return diag.Usagef("--where needs a table")
		}
	}
	return nil
}

func (f lookFlags) checkSpread(table string) error {
	switch {
	case len(f.spread) == 0:
	case table == "":
		return diag.Usagef("--spread needs a table")
	case f.where != "" || f.counts:
		return diag.Usagef("--spread counts all rows of the table, without --where and --counts")
	}
	return nil
}

// lookArgs are the plan, if one is named, and the table.
func lookArgs(args []string) (planArgs []string, table, row string, err error) {
	for _, arg := range args {
		switch {
		case isPlanName(arg) && planArgs == nil:
			planArgs = []string{arg}
		case table == "":
			table = arg
		case row == "":
			row = arg
		default:
			return nil, "", "", diag.Usagef("look shows one row, got %s and %s", row, arg)
		}
	}
	return planArgs, table, row, nil
}

// lookFor shows rows of a table, or all tables.
func (a *program) lookFor(ctx context.Context, args []string, f lookFlags) error {
	planArgs, table, row, err := lookArgs(args)
	if err != nil {
		return err
	}
	if err := f.check(table, row); err != nil {
		return err
	}
	s, p, name, err := a.ws.OpenAlone(ctx, planArgs)
	if err != nil {
		return err
	}
	defer s.Close()
	db, err := s.Survey(ctx)
	if err != nil {
		return err
	}
	if p != nil {
		p.LabelRows(db)
	}
	if table == "" {
		return a.lookAll(ctx, s, db, p, name)
	}
	t, err := findTable(db, p, table)
	if err != nil {
		return err
	}
	switch {
	case row != "":
		return a.lookAtRow(ctx, &lookup.Finder{Store: s, Tables: db}, t, table, row)
	case f.counts:
		return a.lookCounts(ctx, s, t)
	case len(f.spread) > 0:
		columns, err := columnsNamed(db, p, t, f.spread)
		if err != nil {
			return err
		}
		return a.lookSpread(ctx, s, db, t, columns)
	}
	return a.lookAt(
		ctx,
		s,
		db,
		store.Query{Table: t, Columns: t.Columns, Also: f.where, Skip: int64(f.skip), Limit: int64(f.limit)},
	)
}

func (a *program) look() *cobra.Command {
	var f lookFlags
	var watch bool
	c := &cobra.Command{
		Use:   "look [PLAN] [TABLE [ROW]]",
		Short: "Show rows that are in the database now",
		Long: `look shows the rows of a table, by the name of the table or of its entity. A reference
shows the label of the row that it points to (its name, title or code) beside the key.
Without a table, look lists all tables with their row counts and sizes.

With ROW, the key, a unique value or the label of a row, look shows that row as a tree:
the rows that it refers to, and those that refer to it. --counts shows how often each
value of small columns occurs, such as a status. --spread shows how the values of a
column, or of several, are distributed over all rows; the database counts them.

--where takes a condition in SQL over the columns of the table; the database computes it.

On a terminal, output with more lines than the terminal has is shown by $PAGER (default: less);
PAGER= turns that off.

A name that ends in .yaml or .yml is a plan; it only says where the database is.`,
		Example: `  evensprout look --db sqlite:app.db
  evensprout look passengers --limit 20
  evensprout look Booking --where "status = 'open' AND total > 50"
  evensprout look Booking NJ600469
  evensprout look Booking --counts
  evensprout look Booking --spread booked_at
  evensprout look passengers --spread all
  evensprout look --watch                        # while a load runs
  evensprout look larkwater/evensprout.yaml Booking`,
		Args: cobra.MaximumNArgs(3),
		RunE: func(cmd *cobra.Command, args []string) error {
			look := func() error { return a.lookFor(cmd.Context(), args, f) }
			if watch {
				return a.lookAgain(cmd.Context(), look)
			}
			return a.paged(cmd.Context(), look)
		},
	}
	c.Flags().IntVar(&f.limit, "limit", 10, "how many rows to show")
	c.Flags().StringVar(&f.where, "where", "", "show only rows that meet this condition in SQL")
	c.Flags().BoolVar(&f.counts, "counts", false, "count the rows by the values of small columns")
	c.Flags().
		StringSliceVar(&f.spread, "spread", nil, "show how the values of these `COLUMNS` are distributed, or of all")
	c.Flags().IntVar(&f.skip, "skip", 0, "how many rows to skip first")
	c.Flags().BoolVar(&watch, "watch", false, "look again each second, until Ctrl-C")
	return c
}

// lookAgain looks each second, on a terminal always at the same place, until the person ends it.
func (a *program) lookAgain(ctx context.Context, look func() error) error {
	for {
		if a.page.Height > 0 {
			fmt.Fprint(a.exact, "\x1b[H\x1b[2J") // to the first line, and clear
		}
		if err := look(); err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(time.Second):
		}
	}
}

// findTable finds a table by its name or its entity's.
func findTable(db *schema.Database, p *plan.Plan, name string) (*schema.Table, error) {
	if t := db.Table(name); t != nil {
		return t, nil
	}
	names := db.TableNames()
	if p != nil {
		for _, e := range p.Entities {
			names = append(names, e.Name)
			if schema.Plain(e.Name) == schema.Plain(name) && db.Table(e.Table) != nil {
				return db.Table(e.Table), nil
			}
		}
	}

	for _, t := range db.Tables {
		if schema.Plain(t.Name) == schema.Plain(name) || schema.Plain(plan.EntityName(t.Name)) == schema.Plain(name) {
			return t, nil
		}
	}
	hint := "evensprout look lists the tables"
	if near := diag.Nearest(name, names); near != "" {
		hint = fmt.Sprintf("did you mean %s?", near)
	}
	return nil, &store.Fault{
		Kind:    store.Missing,
		Message: fmt.Sprintf("the database has no table %s", name),
		Hint:    hint,
	}
}

// notReached stands for the number of rows of a table whose rows are stored elsewhere, and cannot be read now.
const notReached = "not reached"

func (a *program) lookAll(ctx context.Context, s store.Store, db *schema.Database, p *plan.Plan, name string) error {
	entities := map[string]string{}
	if p != nil {
		for _, e := range p.Entities {
			if t := db.Table(e.Table); t != nil {
				entities[t.Name] = e.Name
			}
		}
	}

	t := report.Table{
		Columns: []report.Column{
			{Name: "Table"},
			{Name: "Rows", Number: true},
			{Name: "Size", Number: true},
			{Name: "Entity"},
			{Name: "Columns"},
		},
	}
	sizes, err := s.Sizes(ctx)
	if err != nil {
		return err
	}
	list := []any{}
	total := int64(0)
	for _, table := range db.Tables {
		n, why, err := store.CountReached(ctx, s, table)
		if err != nil {
			return err
		}
		total += n
		rows := diag.Number(n)
		if why != nil {
			rows = notReached
		}
		t.Rows = append(
			t.Rows,
			[]string{
				table.Name,
				rows,
				report.Size(sizes[table.Name]),
				entities[table.Name],
				strings.Join(table.ColumnNames(), ", "),
			},
		)
		o := &report.Object{}
		o.Set("table", table.Name)
		if why == nil {
			o.Set("rows", n)
		}
		if size, ok := sizes[table.Name]; ok {
			o.Set("bytes", size)
		}
		if e := entities[table.Name]; e != "" {
			o.Set("entity", e)
		}
		list = append(list, o)
	}

	if a.json {
		return a.writeJSON(map[string]any{"database": name, "tables": list})
	}
	if len(list) == 0 {
		fmt.Fprintf(a.out, "%s has no tables.\n", name)
		return nil
	}
	fmt.Fprintln(a.out, a.page.Draw(t))
	fmt.Fprintf(
		a.out,
		"\n%s in %s of %s\n",
		diag.Count(total, "row", "rows"),
		diag.Count(len(list), "table", "tables"),
		name,
	)
	return nil
}

// shownHead is how much of a cell the database sends for a table on a page, which shows less.
const shownHead = 500

func (a *program) lookAt(ctx context.Context, s store.Store, db *schema.Database, q store.Query) error {
	t := q.Table
	total, err := s.Count(ctx, t)
	if err != nil {
		return err
	}
	if !a.json {
		q.Head = shownHead
	}
	var rows [][]value.Value
	err = s.Select(ctx, q, func(row []value.Value) error {
		rows = append(rows, slices.Clone(row))
		return nil
	})
	var fault *store.Fault
	if err != nil && q.Also != "" && !errors.As(err, &fault) && ctx.Err() == nil {
		return diag.Usagef("--where: the database refuses the condition: %w", err)
	}
	if err != nil {
		return err
	}
	names := newLabels(s, db)
	out := report.Table{}
	for _, c := range t.Columns {
		out.Columns = append(out.Columns, shownColumn(t, c))
	}
	list := []any{}
	for _, row := range rows {
		line := make([]string, len(row))
		o := &report.Object{}
		for i, v := range row {
			line[i] = report.Cell(v)
			o.Set(t.Columns[i].Name, report.JSON(v))
			label, err := names.of(ctx, t, t.Columns[i], v)
			if err != nil {
				return err
			}
			if label != "" {
				line[i] += " " + label
				o.Set(t.Columns[i].Name+" label", label)
			}
		}
		out.Rows = append(out.Rows, line)
		list = append(list, o)
	}

	if a.json {
		o := &report.Object{}
		o.Set("table", t.Name)
		o.Set("total", total)
		if q.Also != "" {
			o.Set("where", q.Also)
		}
		o.Set("rows", list)
		return a.writeJSON(o)
	}

	a.showRows(q, out, total, len(rows))
	return nil
}

// shownColumn says how a column of a table is drawn: numbers to the right, moments and UUIDs whole.
func shownColumn(t *schema.Table, c *schema.Column) report.Column {
	out := report.Column{Name: c.Name}
	switch c.Kind {
	case schema.Integer, schema.Decimal, schema.Real:
		out.Number = t.Reference(c.Name) == nil
	case schema.Timestamp, schema.Date, schema.Time, schema.UUID:
		out.Whole = true
	}
	return out
}

// showRows draws rows of a table, and says how many more there are.
func (a *program) showRows(q store.Query, out report.Table, total int64, n int) {
	fmt.Fprintf(a.out, "%s  %s\n", a.page.Bold(q.Table.Name), a.page.Dim(diag.Count(total, "row", "rows")))
	if n > 0 {
		fmt.Fprintln(a.out, a.page.Draw(out))
	}
	if q.Also != "" {
		shown := fmt.Sprintf("  %s where %s, from the %s on, at most %d: --limit and --skip show others",
			diag.Count(n, "row", "rows"), q.Also, diag.Ordinal(q.Skip+1), q.Limit)
		fmt.Fprintln(a.out, a.page.Dim(shown))
	} else if rest := total - q.Skip - int64(n); rest > 0 {
		fmt.Fprintln(a.out, a.page.Dim(fmt.Sprintf("  and %s more: --limit and --skip show others", diag.Number(rest))))
	}
}
