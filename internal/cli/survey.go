package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"evensprout/internal/archive"
	"evensprout/internal/diag"
	"evensprout/internal/draft"
	"evensprout/internal/during"
	"evensprout/internal/grow"
	"evensprout/internal/habits"
	"evensprout/internal/lexicon"
	"evensprout/internal/mapping"
	"evensprout/internal/merge"
	"evensprout/internal/plan"
	"evensprout/internal/prove"
	"evensprout/internal/safe"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

func (a *program) survey() *cobra.Command {
	var f surveyFlags
	c := &cobra.Command{
		Use:   "survey",
		Short: "Draft a plan from a database",
		Long: `survey reads tables, columns, types, keys and references, and drafts a plan: how many
rows, and where each field gets its values, chosen by type, name and simple conditions.
The draft loads as it is and fills every table; edit it to make the values yours. survey
writes nothing to the database.

Columns that the database computes are left out. Tables that cannot be filled are named
at the head of the draft with the reason. A comment after a field gives the reason for a
choice. Conditions that only the database can compute, such as its own functions, are
tested there with values in a query.

--learn reads existing rows, at most 100,000 of each table, and copies no value that
occurs fewer than 5 times (change that with --least).

--ddl runs a script of CREATE statements in a database of its own, which is dropped
afterwards: in SQLite or, with --db, on that server.

--into adds to a plan what a migration added, marks what is gone, and keeps all other
lines. --dry-run only shows the changes.

--prove loads the draft, or a sample of it, and rolls it back. What the database refuses
is narrowed to what it accepts, or left out with the reason, until the draft loads.
Triggers run; numbers of sequences are used up. Where the user may not write, --prove
uses a copy of the database.

--entities reads the classes that a program maps to tables from a JSON document that it
prints (docs/survey.md), --structs from Go structs with db:"..." tags. They give the
draft names, choices and references; disagreements with the tables are reported.
Without a database, they become the draft.

With --json, survey prints the description of the tables instead.`,
		Example: `  evensprout survey --db sqlite:app.db --out evensprout.yaml
  evensprout survey --db postgres://app@localhost/app --schema sales --tables 'order*,customers' -o orders.yaml
  evensprout survey --db sqlite:app.db --out evensprout.yaml --prove
  evensprout survey --into evensprout.yaml --dry-run
  evensprout survey --ddl schema.sql --out evensprout.yaml
  evensprout survey --db sqlite:app.db --rows 1000 --names camel --learn
  evensprout survey --db postgres://app@localhost/app --structs ./internal/models --tag db
  evensprout survey --db sqlite:app.db --entities entities.json --out evensprout.yaml
  evensprout survey --file wares.csv --table wares --out wares.yaml`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return a.draft(cmd.Context(), &f) },
	}
	a.allowFlag(c)
	c.Flags().StringVarP(&f.out, "out", "o", "", "write the plan to this `FILE`, which must not exist yet")
	c.Flags().Uint64Var(&f.rows, "rows", 0, "rows of a table that needs no other, if its keys allow (default 100, "+
		"few for codes)")
	c.Flags().BoolVar(&f.small, "small", false, "few rows: 20 in a table that needs no other")
	c.Flags().BoolVar(&f.large, "large", false, "many rows: 5000 in a table that needs no other")
	c.Flags().StringVar(&f.names, "names", "", "style of field names: "+strings.Join(lexicon.Namings, ", "))
	c.Flags().
		StringSliceVar(&f.tables, "tables", nil, "draft only these tables and those that they need: names or "+
			"patterns such as 'order*'")
	c.Flags().StringVar(&f.schema, "schema", "", "draft only tables of this schema and those that they need")
	c.Flags().StringVar(&f.file, "file", "", "draft a plan that loads this `FILE` into --table")
	c.Flags().StringVar(&f.table, "table", "", "with --file: the table's `NAME` (default: as the file)")
	c.Flags().StringVar(&f.into, "into", "", "add new tables and columns to the plan in this `FILE`")
	c.Flags().BoolVar(&f.dryRun, "dry-run", false, "with --into: show the changes only")
	c.Flags().StringVar(&f.ddl, "ddl", "", "draft for the tables of this SQL `FILE`")
	f.prove = wordFlag{words: []string{proveSample, proveFull}, name: "sample"}
	c.Flags().Var(&f.prove, "prove", "load a sample and roll it back; --prove=full: all")
	c.Flags().Lookup("prove").NoOptDefVal = proveSample
	c.Flags().StringVar(&f.entities, "entities", "", "read mapped entities from this JSON `FILE`")
	c.Flags().StringVar(&f.folder, "structs", "", "read Go structs in this `FOLDER` and its subfolders")
	c.Flags().StringVar(&f.tag, "tag", "db", "with --structs: the struct tag that names columns")
	c.Flags().BoolVar(&f.learn, "learn", false, "take shares, ranges and formats from existing rows")
	c.Flags().Int64Var(&f.least, "least", habits.LeastOften, "with --learn: copy a value only if it occurs at "+
		"least this often")
	return c
}

// What --prove can be.
const (
	proveSample = "sample"
	proveFull   = "full"
)

// surveyFlags are the flags of survey.
type surveyFlags struct {
	out, names, schema string
	tables             []string
	rows               uint64
	learn              bool
	folder, tag        string     // of Go structs
	entities           string     // a document of mapped entities
	ddl                string     // a script that makes the tables
	file, table        string     // a file, and the table that its rows are to go into
	into               string     // a plan that the draft is merged into
	merged             *plan.Plan // the same, read
	prove              wordFlag
	dryRun             bool
	small, large       bool
	copied             bool // the tables are those of a copy of the database
	// makeSafe gives tables of a database that was made for the survey transactions; nil if none was made
	makeSafe func(context.Context, *schema.Database) error
	least    int64
}

// size is how many rows a table gets that needs no other.
func (f *surveyFlags) size() uint64 {
	switch {
	case f.small:
		return 20
	case f.large:
		return 5000
	}
	return 0
}

func (f *surveyFlags) check() error {
	if err := f.checkTogether(); err != nil {
		return err
	}
	if f.names != "" && !slices.Contains(lexicon.Namings, f.names) {
		return diag.Usagef("--names must be one of %s, got %s", strings.Join(lexicon.Namings, ", "), f.names)
	}
	for _, p := range f.tables {
		if _, err := path.Match(p, ""); err != nil {
			return diag.Usagef("--tables %s is not a pattern: * stands for any letters, ? for one, [a-z] for one "+
				"of some", p)
		}
	}
	if f.least < 2 {
		return diag.Usagef("--least must be 2 or more, because a value that occurs once may be personal")
	}
	return nil
}

// checkTogether refuses flags that do not go together.
func (f *surveyFlags) checkTogether() error {
	if f.table != "" && f.file == "" || f.file != "" && (f.into != "" || f.prove.word != "" || f.learn) {
		return diag.Usagef("--file cannot be combined with --into, --prove and --learn; --table needs --file")
	}
	if f.into != "" && f.out != "" || f.dryRun && f.into == "" {
		return diag.Usagef("--into changes a plan, so it cannot be combined with --out; --dry-run needs --into")
	}
	if f.entities != "" && f.folder != "" {
		return diag.Usagef("use only one of --structs and --entities")
	}
	if alternatives(f.small, f.large, f.rows > 0) > 1 {
		return diag.Usagef("use only one of --rows, --small and --large")
	}
	return nil
}

// mapped are the classes of a program that the flags name.
func (f *surveyFlags) mapped() ([]mapping.Entity, error) {
	if f.entities != "" {
		list, err := mapping.ReadDocument(f.entities)
		if _, unread := errors.AsType[*fs.PathError](err); unread {
			err = diag.Usagef("--entities: %w", unreadable(f.entities, err))
		}
		return list, err
	}
	if f.folder == "" {
		return nil, nil
	}
	mapped, err := mapping.Read(f.folder, f.tag)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, diag.Usagef("--structs: there is no folder %s", f.folder)
	}
	if err == nil && len(mapped) == 0 {
		err = fmt.Errorf("no struct in %s has a field with the tag %s; choose another with --tag", f.folder, f.tag)
	}
	return mapped, err
}

// draft surveys a database, or reads structs, and writes a plan.
func (a *program) draft(ctx context.Context, f *surveyFlags) error {
	if err := f.check(); err != nil {
		return err
	}
	if a.json && (f.into != "" || f.file != "") {
		return diag.Usagef("--json describes the tables, so it cannot be combined with --into and --file")
	}
	mapped, err := f.mapped()
	if err != nil {
		return err
	}
	if f.merged, err = f.readInto(); err != nil {
		return err
	}
	given := a.ws.URL(f.merged, f.into)
	o := draft.Options{Rows: f.rows, Size: f.size(), Names: lexicon.Naming(f.names),
		Today: time.Now().Unix() / secondsOfADay}
	if f.ddl == "" {
		err := a.draftOf(ctx, f, mapped, given, o)
		if !errors.Is(err, prove.ErrUnproved) || !isUnwritable(err) {
			return err
		}
		place := store.Describe(a.ws.Drivers, given)
		o.Name, o.URL, f.copied = place.Name, draftURL(given, place, f.out), true
		return a.inCopy(ctx, f, given, err, func(u string) error { return a.draftOf(ctx, f, mapped, u, o) })
	}
	return a.withScript(ctx, f, given, func(u string) error {
		o.Name = strings.TrimSuffix(filepath.Base(f.ddl), filepath.Ext(f.ddl))
		if given != "" {
			o.URL = draftURL(given, store.Describe(a.ws.Drivers, given), f.out)
		}
		return a.draftOf(ctx, f, mapped, u, o)
	})
}

// isUnwritable reports whether an error says that the user may not write to a database.
func isUnwritable(err error) bool {
	var fault *store.Fault
	return errors.As(err, &fault) && (fault.Kind == store.ReadOnly || fault.Kind == store.Denied)
}

// inCopy does something in a copy of a database to which the user may not write, for the reason given.
func (a *program) inCopy(
	ctx context.Context, f *surveyFlags, u string, why error, do func(url string) error,
) error {
	err := a.withScratch(ctx, f, u, func(ctx context.Context, own store.Scratch, name string) error {
		return own.CopyGiven(ctx, name, false)
	}, do)
	if err != nil {
		return fmt.Errorf("%w; in a copy: %w; export the schema and use --ddl schema.sql --prove", why, err)
	}
	return nil
}

// withScript makes a database of its own with the tables of a script, and drops it afterwards: beside the database of a
// URL or, if there is none, in SQLite.
func (a *program) withScript(ctx context.Context, f *surveyFlags, u string, do func(url string) error) error {
	text, err := safe.ReadFile(f.ddl, maxScript)
	if err != nil {
		return diag.Usagef("--ddl: %w", unreadable(f.ddl, err))
	}
	if u == "" {
		folder, err := os.MkdirTemp("", "evensprout-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(folder)
		u = "sqlite:" + filepath.Join(folder, "none.db")
	}
	return a.withScratch(ctx, f, u, func(ctx context.Context, own store.Scratch, name string) error {
		if err := own.Create(ctx, name); err != nil {
			return err
		}
		return inScript(f.ddl, own.Run(ctx, name, string(text)))
	}, do)
}

// transactional lets tables have transactions that have none, in a database that was made for the survey.
func transactional(ctx context.Context, own store.Scratch, name string, db *schema.Database) error {
	t, ok := own.(store.Transactor)
	if !ok {
		return nil
	}
	return t.MakeTransactional(ctx, name, slices.DeleteFunc(slices.Clone(db.Tables), func(t *schema.Table) bool {
		return !t.Unsafe
	}))
}

// withScratch makes a database beside that of a URL, and drops it afterwards.
func (a *program) withScratch(
	ctx context.Context, f *surveyFlags, u string, fill func(ctx context.Context, own store.Scratch, name string) error,
	do func(url string) error,
) (err error) {
	own, err := a.scratch(ctx, u)
	if err != nil {
		return err
	}
	defer own.Close()
	place, err := during.Private(ctx, own, "", func(ctx context.Context, name string) error {
		f.makeSafe = func(ctx context.Context, db *schema.Database) error { return transactional(ctx, own, name, db) }
		return fill(ctx, own, name)
	})
	if err != nil {
		return err
	}
	defer func() {
		again := func(ctx context.Context) (store.Scratch, error) { return store.OpenScratch(ctx, a.ws.Drivers, u) }
		err = errors.Join(err, place.Drop(context.WithoutCancel(ctx), again))
	}()
	url, err := place.URL()
	if err != nil {
		return err
	}
	return do(url)
}

// draftOf surveys the database of a URL, or reads structs, and writes a plan.
func (a *program) draftOf(
	ctx context.Context,
	f *surveyFlags,
	mapped []mapping.Entity,
	u string,
	o draft.Options,
) error {
	s, db, err := a.surveyed(ctx, f, mapped, u, &o)
	if err != nil {
		return err
	}
	if s != nil {
		defer s.Close()
	}
	matches, told := mapping.Hold(mapped, db)
	if a.json {
		return a.writeJSON(surveyed{db, told})
	}
	if len(db.Tables) == 0 {
		return &store.Fault{
			Kind:    store.Missing,
			Message: fmt.Sprintf("%s has no tables", a.ws.Shown(u)),
			Hint:    "run your migrations first",
		}
	}

	mapping.Name(&o, mapped, matches)
	if o.Only, err = store.Wanted(db, f.tables, f.schema); err != nil {
		return err
	}
	if s != nil {
		if err := f.look(ctx, s, db, &o); err != nil {
			return err
		}
	}
	if f.file != "" {
		return a.draftForFile(ctx, f, db, o)
	}
	if f.merged != nil {
		if c := f.merged.Clock; !c.IsNull() {
			o.Today = c.N / 1_000_000 / secondsOfADay
		}
		o.Entities, o.Fields = merge.Names(f.merged, db)
	}
	d, proof, err := a.made(ctx, &surveying{f, s, db, u}, o)
	if err != nil {
		return err
	}
	for _, d := range told {
		fmt.Fprintln(a.err, d)
	}
	if f.merged != nil {
		return a.mergeInto(f, db, d, proof)
	}
	return a.writeDraft(f, db, d, proof, o)
}

// writeDraft writes a draft to a file, or prints it.
func (a *program) writeDraft(
	f *surveyFlags, db *schema.Database, d *draft.Draft, proof *prove.Proof, o draft.Options,
) error {
	if len(d.Tables) == 0 {
		return &unfilled{d.Left}
	}
	if proof != nil {
		o.Proof = proof.String()
	}
	if f.out == "" {
		fmt.Fprint(a.exact, d.Write(o))
		return nil
	}
	text, err := merge.Sign(f.out, d.Write(o), db)
	if err != nil {
		return err
	}
	if err := newFile(f.out, text); err != nil {
		return err
	}
	if a.quiet {
		return nil
	}
	a.printDraft(d, f.out)
	if proof != nil {
		a.printProof(f, proof)
	}
	fmt.Fprintf(a.out, "Next: evensprout check %s && evensprout preview %s\n", f.out, f.out)
	return nil
}

// unfilled is a draft without tables, which no load takes.
type unfilled struct{ left []draft.Left }

func (e *unfilled) Error() string { return "no table can be filled" }

// Report lists the reasons.
func (e *unfilled) Report() diag.Report {
	const most = 10
	r := diag.Report{Kind: diag.Database, Message: e.Error()}
	for i, l := range e.left {
		if i == most {
			r.Details = append(r.Details, fmt.Sprintf("and %d more", len(e.left)-most))
			break
		}
		r.Details = append(r.Details, l.Table+": "+l.Reason)
	}
	return r
}

const secondsOfADay = 86_400

// surveying is a database that a draft is made for.
type surveying struct {
	flags *surveyFlags
	store store.Store // nil if there are only structs
	db    *schema.Database
	url   string
}

// made is a draft that, if the flags ask for it, was tried.
func (a *program) made(ctx context.Context, x *surveying, o draft.Options) (*draft.Draft, *prove.Proof, error) {
	if x.flags.prove.word == "" {
		d, err := draft.Make(ctx, x.db, o)
		return d, nil, err
	}
	if x.store == nil {
		return nil, nil, diag.Usagef("--prove needs a database: name it with --db")
	}
	if err := a.ws.Guard(x.url); err != nil {
		return nil, nil, err
	}
	if x.flags.makeSafe != nil {
		if err := x.flags.makeSafe(ctx, x.db); err != nil {
			return nil, nil, err
		}
	}
	if table := prove.Unsafe(x.db); table != "" {
		return nil, nil, fmt.Errorf("--prove cannot be used here: no transaction takes back the rows of %s", table)
	}
	a.ws.Opened, a.ws.Writes = x.url, true
	d, proof, err := prove.Draft(ctx, prove.Database{
		Store: x.store, Tables: x.db, Again: a.ws.Again,
		Full:     x.flags.prove.word == proveFull,
		Existing: func(t *schema.Table) (grow.Table, error) { return archive.Existing(ctx, x.store, t) },
	}, o)
	if errors.Is(err, prove.ErrUnproved) && !isUnwritable(err) {
		err = fmt.Errorf("%w; survey without --prove writes the draft all the same", err)
	}
	return d, proof, err
}

// printProof says what the trial of a draft has shown.
func (a *program) printProof(f *surveyFlags, p *prove.Proof) {
	for _, m := range p.Mended {
		switch {
		case m.Column != "":
			fmt.Fprintf(a.out, "%s: %s.%s: %s\n", m.Action, m.Table, m.Column, m.Reason)
		case m.Action != prove.LeftOut:
			fmt.Fprintf(a.out, "%s: %s: %s\n", m.Action, m.Table, m.Reason)
		}
	}
	where := ""
	if f.copied {
		where = " in a copy of the database"
	}
	fmt.Fprintf(a.out, "%s %s%s (%d ms)\n", a.page.Good("proved:"), p, where, max(p.Elapsed.Milliseconds(), 1))
}

// look adds to a draft's options what the database can do and what its tables hold.
func (f *surveyFlags) look(ctx context.Context, s store.Store, db *schema.Database, o *draft.Options) (err error) {
	o.Loosens = s.Traits().DefersAll || s.Traits().Loosens
	o.Held, err = habits.Look(ctx, s, db)
	if err == nil && f.learn {
		o.Learned, err = habits.Learn(ctx, s, db, func(t *schema.Table) bool { return o.Held[t] != nil }, f.least)
	}
	return err
}

// surveyed reads the tables of a database, or of structs where no database is named: then
// the store is nil.
func (a *program) surveyed(
	ctx context.Context,
	f *surveyFlags,
	mapped []mapping.Entity,
	u string,
	o *draft.Options,
) (store.Store, *schema.Database, error) {
	switch {
	case u != "":
		s, err := store.Open(ctx, a.ws.Drivers, u)
		if err != nil {
			return nil, nil, err
		}
		db, err := s.Survey(ctx)
		if err != nil {
			s.Close()
			return nil, nil, err
		}
		o.Probe = s.Passes
		if f.ddl == "" && !f.copied {
			place := store.Describe(a.ws.Drivers, u)
			o.Name, o.URL = place.Name, draftURL(u, place, f.out)
		}
		if why := a.ws.MayAsk(u); why != "" {
			o.Probe = func(context.Context, []*schema.Column, string, [][]value.Value) ([]bool, error) {
				return nil, &store.NotAsked{Why: why}
			}
		}
		return s, db, nil
	case mapped != nil:
		path, err := filepath.Abs(cmp.Or(f.entities, f.folder))
		o.Name = strings.TrimSuffix(filepath.Base(path), filepath.Ext(f.entities))
		return nil, mapping.Database(mapped), err
	}
	return nil, nil, &store.Fault{
		Kind:    store.BadURL,
		Message: "no database is named",
		Hint: "name it with --db sqlite:app.db or the environment variable DATABASE_URL; or draft from Go " +
			"structs alone with --structs FOLDER, or from entities with --entities FILE",
	}
}

// newFile writes a file that must not exist yet.
func newFile(path, text string) error {
	f, err := safe.Create(path, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s already exists: nothing was written; name another file, or move it away", path)
	}
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	return errors.Join(err, f.Close())
}

func (a *program) printDraft(d *draft.Draft, path string) {
	fmt.Fprintf(
		a.out,
		"%s a plan for %s in %s\n",
		a.page.Good("drafted:"),
		diag.Count(len(d.Tables), "table", "tables"),
		path,
	)
	for _, t := range d.Tables {
		if t.Learned != nil && len(t.Learned.Facts) > 0 {
			fmt.Fprintf(a.out, "learned: %s, %s:\n", t.Schema.Name, diag.Count(t.Learned.Rows, "row", "rows"))
			for _, fact := range t.Learned.Facts {
				fmt.Fprintf(a.out, "  %s\n", fact)
			}
		}
	}
	for _, l := range d.Left {
		if !l.Unasked {
			fmt.Fprintf(a.out, "left out: %s: %s\n", l.Table, l.Reason)
		}
	}
}

// surveyed is what survey --json writes.
type surveyed struct {
	*schema.Database
	Disagreements []mapping.Disagreement `json:"disagreements,omitempty"`
}

// draftURL is the database as a plan in a file names it: a file seen from the
// plan's folder, and of a server user, host and database alone.
func draftURL(u string, p store.Place, out string) string {
	if p.File == "" {
		return p.Shown
	}
	if filepath.IsAbs(p.File) || out == "" {
		return u
	}
	return "sqlite:" + besidePlan(p.File, out)
}
