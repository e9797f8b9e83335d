package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"evensprout/internal/addition"
	"evensprout/internal/app"
	"evensprout/internal/archive"
	"evensprout/internal/diag"
	"evensprout/internal/draft"
	"evensprout/internal/grow"
	"evensprout/internal/habits"
	"evensprout/internal/journal"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

func (a *program) add() *cobra.Command {
	var f addFlags
	c := &cobra.Command{
		Use:   "add [PLAN] ENTITY [FIELD=VALUE ...]",
		Short: "Add a row and what it needs",
		Long: `add writes one more row of an entity. Name only the fields that matter: the others get
values as the plan says. What the row refers to is found in the database: name it by its
label, by a unique value or as the plan does (booking=NJ600469, passenger=Passenger.ada);
a reference that is not named leads to a row of the plan that is in the database, or to
one that is added as well. A reference that may be NULL is NULL.

All is written in one transaction and kept in the journal: withdraw undoes it like a load.
The third addition to a plan generates the same row in every database. Without a plan, add
drafts one from the tables.`,
		Example: `  evensprout add Passenger status=barred card=LW001042
  evensprout add Booking passenger=Passenger.ada --with Ticket:2
  evensprout add larkwater/evensprout.yaml Ticket booking=NJ600469 --json
  evensprout add passengers family_name=Quill --count 20 --db sqlite:app.db`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error { return a.addRows(cmd.Context(), args, &f) },
	}
	a.allowFlag(c)
	c.Flags().Uint64Var(&f.count, "count", 1, "how many rows to add")
	c.Flags().StringVar(&f.profile, "profile", "", "add rows of this profile of the entity")
	c.Flags().StringArrayVar(&f.below, "with", nil, "add rows of a child as well, such as 'Ticket:3'; repeatable")
	c.Flags().StringVar(&f.under, "in", "", "add below this row, such as Passenger.ada")
	c.Flags().StringVar(&f.keep, "keep", "", "write the row into the plan, too, under this name")
	c.Flags().BoolVar(&f.ask, "ask", false, "ask for the fields, on a terminal")
	c.Flags().BoolVar(&f.dryRun, "dry-run", false, "show what would be added, and roll it back")
	return c
}

// addFlags are the flags of add.
type addFlags struct {
	count   uint64
	profile string
	below   []string
	under   string
	keep    string
	ask     bool
	dryRun  bool
}

// mostAdded bounds the rows of one addition.
const mostAdded = 1000

// request is what the arguments ask for.
func (f *addFlags) request(args []string) (addition.Request, error) {
	r := addition.Request{Entity: args[0], Rows: f.count, Profile: f.profile}
	if f.count < 1 || f.count > mostAdded {
		return r, diag.Usagef("--count must be between 1 and %d, got %d; use load for more", mostAdded, f.count)
	}
	for _, arg := range args[1:] {
		field, text, ok := strings.Cut(arg, "=")
		if !ok || field == "" {
			return r, diag.Usagef("%s is not FIELD=VALUE", arg)
		}
		if slices.ContainsFunc(r.Values, func(v addition.Value) bool { return v.Field == field }) {
			return r, diag.Usagef("%s is set twice", field)
		}
		r.Values = append(r.Values, addition.Value{Field: field, Text: text})
	}
	if f.under != "" {
		if !strings.Contains(f.under, ".") {
			return r, diag.Usagef("--in must be an entity and a row, such as Passenger.ada, got %s", f.under)
		}
		r.Values = append(r.Values, addition.Value{Text: f.under})
	}
	for _, x := range f.below {
		entity, count, _ := strings.Cut(x, ":")
		n, err := strconv.ParseUint(count, 10, 32)
		if err != nil || n < 1 || n > mostAdded {
			return r, diag.Usagef(
				"--with must be an entity and a number between 1 and %d, such as 'Ticket:3', got %s",
				mostAdded,
				x,
			)
		}
		r.Below = append(r.Below, addition.Below{Entity: entity, Rows: n})
	}
	return r, nil
}

// addRows adds rows.
func (a *program) addRows(ctx context.Context, args []string, f *addFlags) error {
	planArgs, args := planBefore(args)
	if len(args) == 0 {
		return diag.Usagef("name the entity to add")
	}
	r, err := f.request(args)
	if err != nil {
		return err
	}
	a.dryRun(f.dryRun)
	a.ws.Writes = true
	c, s, name, err := a.planOrDraft(ctx, planArgs)
	if err != nil {
		return err
	}
	defer s.Close()
	defer c.Close()
	r.Greatest = greatest(s)
	add := &adding{c, s, f, name}
	if !f.ask {
		return a.addAndShow(ctx, add, r)
	}
	for {
		more, err := a.askRow(ctx, c, s, r, func(r addition.Request) error { return a.addAndShow(ctx, add, r) })
		if err != nil || !more {
			return err
		}
	}
}

// adding is where rows are added.
type adding struct {
	plan  *plan.Compiled
	store store.Store
	flags *addFlags
	name  string // of the database
}

// addAndShow adds rows, and prints them.
func (a *program) addAndShow(ctx context.Context, x *adding, r addition.Request) error {
	c, s, f, name := x.plan, x.store, x.flags, x.name
	if !f.dryRun {
		h, err := lockAdditions(ctx, s, c.Plan.Name)
		if err != nil {
			return err
		}
		defer h.Release(ctx)
	}
	var err error
	if r.Number, err = additions(ctx, s, c.Plan.Name); err != nil {
		return err
	}
	var k *keptRow
	if f.keep != "" {
		if k, err = a.keepRow(ctx, c, s, r, f); err != nil {
			return err
		}
	}
	began := time.Now()
	out, err := a.addUntilFree(ctx, c, s, r, f.dryRun)
	if err != nil {
		return err
	}
	out.elapsed, out.kept = time.Since(began), k
	if k != nil && !f.dryRun {
		if err := k.save(); err != nil {
			return fmt.Errorf("the row is added, but it is not in the plan: %w", err)
		}
	}
	if a.json {
		return a.writeJSON(out.object())
	}
	if !a.quiet {
		a.printAdded(out, name)
	}
	return nil
}

// planBefore splits arguments at a plan: a name that ends in .yaml or .yml.
func planBefore(args []string) (planArgs, rest []string) {
	if isPlanName(args[0]) {
		return args[:1], args[1:]
	}
	return nil, args
}

// planOrDraft compiles the plan, or a draft for the tables if there is no plan.
func (a *program) planOrDraft(
	ctx context.Context, planArgs []string,
) (*plan.Compiled, store.Store, string, error) {
	_, err := os.Stat(app.DefaultPlan)
	if planArgs != nil || err == nil || a.ws.URL(nil, "") == "" {
		return a.ws.Compile(ctx, planArgs, true)
	}
	s, name, err := a.ws.Open(ctx, nil, nil)
	if err != nil {
		return nil, nil, "", err
	}
	c, err := a.draftedPlan(ctx, s)
	if err != nil {
		return nil, nil, "", errors.Join(err, s.Close())
	}
	return c, s, name, nil
}

// draftedPlan is a draft for the tables of a database.
func (a *program) draftedPlan(ctx context.Context, s store.Store) (*plan.Compiled, error) {
	db, err := s.Survey(ctx)
	if err != nil {
		return nil, err
	}
	o := draft.Options{Name: store.Describe(a.ws.Drivers, a.ws.Opened).Name, Probe: s.Passes,
		Held: map[*schema.Table]*habits.Contents{}}
	d, err := draft.Make(ctx, db, o)
	if err != nil {
		return nil, err
	}
	p, err := plan.Read("draft.yaml", []byte(d.Write(o)))
	if err != nil {
		return nil, err
	}
	return p.Compile(plan.Options{Database: db, WithoutUnits: true, Existing: existingRows(ctx, s)})
}

// existingRows reads the rows of tables whose entities are those that are there.
func existingRows(ctx context.Context, s store.Store) func(*schema.Table) (grow.Table, error) {
	return func(t *schema.Table) (grow.Table, error) { return archive.Existing(ctx, s, t) }
}

// addWait is how long an addition waits for others to the same plan.
const addWait = time.Minute

// lockAdditions takes the lock under which additions to a plan are numbered and written, one after another.
func lockAdditions(ctx context.Context, s store.Store, name string) (h *journal.Held, err error) {
	err = journal.WhileLocked(ctx, addWait, nil, func() error {
		h, err = journal.LockShare(ctx, s, name+"-add", "a row is being added to "+name)
		return err
	})
	return h, err
}

// additions counts the additions to a plan that the journal knows, whatever became of them.
func additions(ctx context.Context, s store.Store, name string) (uint64, error) {
	all, err := journal.Unlocked(s).Entries(ctx, "")
	if err != nil {
		return 0, err
	}
	next := uint64(0)
	for _, e := range all {
		if text, ok := strings.CutPrefix(e.Plan, name+"-add-"); ok {
			if n, err := strconv.ParseUint(text, 10, 64); err == nil {
				next = max(next, n)
			}
		}
	}
	return next, nil
}

// greatest looks for the greatest number in a column.
func greatest(s store.Store) func(context.Context, *schema.Table, *schema.Column) (int64, error) {
	return func(ctx context.Context, t *schema.Table, c *schema.Column) (n int64, err error) {
		tx, err := s.Begin(ctx, store.TxOptions{Reads: true})
		if err != nil {
			return 0, err
		}
		n, err = tx.Greatest(ctx, t, c)
		return n, errors.Join(err, tx.Rollback())
	}
}

// added is what was added.
type added struct {
	plan    *addition.Plan
	name    string
	result  *journal.Result
	rows    []addedRow
	elapsed time.Duration
	labels  *labels
	kept    *keptRow // nil if the plan stays as it is
}

// addedRow is a row as it is in the database.
type addedRow struct {
	entity string
	table  *schema.Table
	values []value.Value
	labels []string
}

// mostAttempts bounds how often other values are drawn where those of a row are taken.
const mostAttempts = 20

// addUntilFree adds rows; where a value that is drawn is taken, it draws others.
func (a *program) addUntilFree(
	ctx context.Context, c *plan.Compiled, s store.Store, r addition.Request, dryRun bool,
) (*added, error) {
	for ; ; r.Attempt++ {
		out, err := a.addOnce(ctx, c, s, r, dryRun)
		// On a cluster, another node has locks of its own: then its addition may have the number by now.
		var altered *load.Altered
		if errors.As(err, &altered) || err == nil && out.result.Earlier > 0 {
			r.Number++
			continue
		}
		var refused *journal.Refusal
		if errors.As(err, &refused) && refused.Kind == store.Unique && r.Attempt < mostAttempts &&
			!names(r, refused) {
			continue
		}
		return out, err
	}
}

// names reports whether a refusal is about values all of which the request names.
func names(r addition.Request, refused *journal.Refusal) bool {
	return !slices.ContainsFunc(refused.Fields, func(name string) bool {
		return !slices.ContainsFunc(r.Values, func(v addition.Value) bool {
			return schema.Plain(name) == schema.Plain(v.Field)
		})
	})
}

// addOnce adds rows.
func (a *program) addOnce(
	ctx context.Context, c *plan.Compiled, s store.Store, r addition.Request, dryRun bool,
) (*added, error) {
	p, err := addition.Build(ctx, c, s, r)
	if err != nil {
		return nil, err
	}
	read, err := plan.Read("addition.yaml", []byte(p.Text))
	if err != nil {
		return nil, err
	}
	one, err := read.Compile(plan.Options{Database: c.Database, Rows: a.ws.OpenRows, Existing: existingRows(ctx, s)})
	if err != nil {
		return nil, err
	}
	defer one.Close()
	out := &added{plan: p, name: read.Name, labels: newLabels(s, c.Database)}
	keys := map[string][][]store.Cell{}
	var order []string
	o := load.Options{DryRun: dryRun, Uncounted: true, Again: a.ws.Again, Jobs: 1,
		Keyed: func(entity string, key []store.Cell) {
			if keys[entity] == nil {
				order = append(order, entity)
			}
			keys[entity] = append(keys[entity], key)
		}}
	if !dryRun {
		o.Journal = a.journal("", false)
	}
	if out.result, err = load.Run(ctx, one, s, o); err != nil {
		return nil, err
	}
	if dryRun {
		return out, nil
	}
	for _, entity := range order {
		if slices.Contains(p.Found, entity) {
			continue
		}
		for _, key := range keys[entity] {
			if err := out.read(ctx, s, one.Target(entity), key); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// read reads a row that was added.
func (x *added) read(ctx context.Context, s store.Store, t *plan.Target, key []store.Cell) error {
	q := store.Query{Table: t.Table, Columns: t.Table.Columns, Where: key, AsIs: true, Limit: 1}
	row := addedRow{entity: t.Plan.Name, table: t.Table}
	err := s.Select(ctx, q, func(values []value.Value) error {
		row.values = slices.Clone(values)
		return nil
	})
	if err != nil || row.values == nil {
		return err
	}
	for i, c := range t.Table.Columns {
		label, err := x.labels.of(ctx, t.Table, c, row.values[i])
		if err != nil {
			return err
		}
		row.labels = append(row.labels, label)
	}
	x.rows = append(x.rows, row)
	return nil
}

// object is what was added, as JSON.
func (x *added) object() *report.Object {
	o := &report.Object{}
	o.Set("plan", x.name)
	o.Set("load", x.result.Load)
	o.Set("dry_run", x.result.DryRun)
	rows, needed := []any{}, []any{}
	for _, r := range x.rows {
		values := &report.Object{}
		for i, c := range r.table.Columns {
			values.Set(c.Name, report.JSON(r.values[i]))
		}
		one := &report.Object{}
		one.Set("entity", r.entity)
		one.Set("table", r.table.Name)
		one.Set("values", values)
		if r.entity == x.plan.Entity {
			rows = append(rows, one)
		} else {
			needed = append(needed, one)
		}
	}
	o.Set("rows", rows)
	o.Set("needed", needed)
	if x.kept != nil {
		kept := &report.Object{}
		kept.Set("row", x.kept.name)
		kept.Set("file", x.kept.file)
		kept.Set("line", x.kept.line)
		o.Set("kept", kept)
	}
	return o
}

// printAdded shows the rows that were added, a field a line.
func (a *program) printAdded(x *added, name string) {
	for _, r := range x.rows {
		if r.entity == x.plan.Entity {
			width := 0
			for _, c := range r.table.Columns {
				width = max(width, len([]rune(c.Name)))
			}
			fmt.Fprintf(a.out, "%s\n", a.page.Bold(r.entity))
			for i, c := range r.table.Columns {
				text := report.Cell(r.values[i])
				if r.labels[i] != "" {
					text += " " + r.labels[i]
				}
				fmt.Fprintf(a.out, "  %-*s  %s\n", width, c.Name, text)
			}
		}
	}
	if len(x.rows) > 0 {
		fmt.Fprintln(a.out)
	}
	counts := map[string]int64{}
	var order []string
	for _, e := range x.result.Entities {
		if e.Inserted > 0 {
			counts[e.Entity] = e.Inserted
			order = append(order, e.Entity)
		}
	}
	var parts []string
	for _, e := range order {
		parts = append(parts, diag.Count(counts[e], "row", "rows")+" of "+e)
	}
	if x.result.DryRun {
		fmt.Fprintf(a.out, "%s %s, all rolled back\n", a.page.Good("dry run:"), strings.Join(parts, ", "))
		return
	}
	fmt.Fprintf(a.out, "%s %s to %s (%d ms)\n", a.page.Good("added:"), strings.Join(parts, ", "), name,
		max(x.elapsed.Milliseconds(), 1))
	if x.result.Load > 0 {
		fmt.Fprintf(a.out, "This is load %d; evensprout withdraw %d undoes it.\n", x.result.Load, x.result.Load)
	}
	if k := x.kept; k != nil {
		fmt.Fprintf(a.out, "%s is in the plan, too (%s:%d). The next load writes it, so withdraw this addition "+
			"first.\n",
			k.name, k.file, k.line)
		if len(k.unsaid) > 0 {
			fmt.Fprintf(a.out, "Not in the plan: %s, which refers to a row that the plan does not name.\n",
				strings.Join(k.unsaid, ", "))
		}
	}
}
