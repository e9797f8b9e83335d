package cli

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"evensprout/internal/app"
	"evensprout/internal/archive"
	"evensprout/internal/diag"
	"evensprout/internal/export"
	"evensprout/internal/files"
	"evensprout/internal/journal"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/store"
)

// formatSQL is the format that needs tables.
const formatSQL = "sql"

// exportFlags are the flags of the command export.
type exportFlags struct {
	format, out, names, dialect, migration, row, references, part string
	since                                                         int64  // a load
	sincePlan                                                     string // an earlier version of the plan
	bare, local                                                   bool
	guard                                                         bool

	entities                  []string
	nest, overwrite, planOnly bool
	jobs                      int
}

// export makes the command export.
func (a *program) export() *cobra.Command {
	var flags exportFlags
	c := &cobra.Command{
		Use:   "export [PLAN]",
		Short: "Write rows to files",
		Long: `export generates the rows of a plan and writes them to files: CSV (RFC 4180), NDJSON,
JSON or Parquet, one file for each entity, with a manifest and a plan that reads them
back with the same fingerprints; or SQL for a database's own client, in one transaction,
parents first. Without --out, it writes to standard output.

If a database is named, export reads its tables, so that keys are those that load would
write. Columns have the names of the plan's fields or, with --names columns, those of the
database; SQL always uses the database's.

--migration NAME writes two scripts: NAME.insert.sql, and NAME.remove.sql, which removes
exactly these rows; --migration INSERT,REMOVE gives the names of both. --since writes only
what changed since a load, --since-plan since an earlier version of the plan. --nest puts child
rows inside their parents, and --row writes one row with everything below it: a fixture
for tests without a database. --part writes a share of the rows; all parts together are
the whole.`,
		Example: `  evensprout export --format csv --out rows
  evensprout export --entity Passenger --format ndjson > passengers.ndjson
  evensprout export larkwater/evensprout.yaml --format sql --dialect postgres > rows.sql
  evensprout export --migration 0042_fares --entity FareClass --out migrations
  evensprout export --row Passenger.ada > ada.json
  evensprout export --nest --references names > all.json
  evensprout export --format parquet --out rows-3 --part 3/16`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := flags.settle(); err != nil {
				return err
			}
			part, err := parsePart(flags.part)
			if err != nil {
				return err
			}
			a.ws.PlanAlone = flags.planOnly
			c, s, _, err := a.ws.Compile(cmd.Context(), args, false)
			var fault *store.Fault
			if errors.As(err, &fault) && (fault.Kind == store.Missing || fault.Kind == store.Unreachable) {
				fault.Hint += "; or, without keys that the tables give: --without-database"
			}
			if err != nil {
				return err
			}
			defer c.Close()
			if s != nil {
				defer s.Close()
			}
			a.warn(c)
			o := export.Options{
				Format:     flags.format,
				Names:      export.Names(flags.names),
				Part:       part,
				Jobs:       flags.jobs,
				MadeBy:     release(),
				References: export.References(flags.references),
				Guard:      flags.guard,
				Bare:       flags.bare,
				Local:      flags.local,
				Alone:      flags.migration != "",
			}
			if o.Names == export.Columns && s == nil {
				return missingTables("--names columns needs the database's tables")
			}
			for _, name := range flags.entities {
				t, err := entityNamed(c, "--entity", name)
				if err != nil {
					return err
				}
				o.Entities = append(o.Entities, t.Plan.Name)
			}
			return a.exported(cmd.Context(), c, o, &flags)
		},
	}
	c.Flags().
		StringVar(&flags.format, "format", "", "csv, ndjson, json, parquet or sql (default: by the ending of "+
			"--out, or csv)")
	c.Flags().
		StringVar(&flags.out, "out", "", "folder to write; for sql and nested JSON, the file (default: standard "+
			"output)")
	c.Flags().StringArrayVar(&flags.entities, "entity", nil, "write only this `ENTITY`; repeatable")
	c.Flags().
		StringVar(&flags.names, "names", string(export.Fields), "names of columns: fields (as in the plan) or "+
			"columns (as in the database)")
	c.Flags().
		BoolVar(&flags.guard, "guard-formulas", false, "with CSV: put an apostrophe before text that a "+
			"spreadsheet would run as a formula, such as =1+1; changes those values")
	c.Flags().StringVar(&flags.dialect, "dialect", "", "with SQL: sqlite, postgres or mysql (default: the "+
		"database's)")
	c.Flags().
		StringVar(&flags.migration, "migration", "", "write NAME.insert.sql and NAME.remove.sql, in --out or the "+
			"current folder; two names with a comma between them are the files' names")
	c.Flags().Int64Var(&flags.since, "since", 0, "with --migration: only what changed since this load")
	c.Flags().
		StringVar(&flags.sincePlan, "since-plan", "", "with --migration: only what changed since the plan in this "+
			"`FILE`")
	c.Flags().BoolVar(&flags.bare, "no-transaction", false, "with SQL: leave BEGIN and COMMIT to whoever runs it")
	c.Flags().BoolVar(&flags.local, "no-schema", false, "with SQL: leave schemas out of the names of tables")
	c.Flags().
		BoolVar(&flags.nest, "nest", false, "write one JSON document, with child rows inside their parents")
	c.Flags().
		StringVar(&flags.row, "row", "", "write only this row and everything below it, as JSON: Passenger.ada, "+
			"or Passenger.17 for a generated row")
	c.Flags().
		StringVar(&flags.references, "references", string(export.Keys), "with --nest or --row, how references "+
			"are written: keys, rows or names")
	c.Flags().BoolVar(&flags.planOnly, "without-database", false, "open no database, even if the plan names one")
	c.Flags().BoolVar(&flags.overwrite, "overwrite", false, "replace existing files that export did not write")
	c.Flags().IntVar(&flags.jobs, "jobs", jobsDefault(), "rows are generated by this many workers (default: the "+
		"number of processors)")
	partFlag(c, &flags.part)
	a.clockFlag(c)
	a.useFlags(c)
	a.awkwardFlag(c)
	return c
}

// settle holds the flags against each other, and fills in what follows from others.
func (f *exportFlags) settle() error {
	choice := func(flag, value string, of ...string) error {
		if slices.Contains(of, value) {
			return nil
		}
		err := fmt.Errorf("%s must be one of %s, got %q", flag, strings.Join(of, ", "), value)
		if near := diag.Nearest(value, of); near != "" {
			err = fmt.Errorf("%w; did you mean %s?", err, near)
		}
		return &diag.UsageError{Err: err}
	}
	f.chooseFormat()
	err := errors.Join(
		choice("--format", f.format, append(files.Formats(), formatSQL)...),
		choice("--names", f.names, string(export.Fields), string(export.Columns)),
		choice("--references", f.references, string(export.Keys), string(export.Rows), string(export.Named)))
	if err != nil {
		return err
	}
	return f.agree()
}

// nested reports whether rows are written with the rows that belong to them.
func (f *exportFlags) nested() bool { return f.nest || f.row != "" }

// chooseFormat takes the format from the other flags where none is said.
func (f *exportFlags) chooseFormat() {
	if f.format != "" {
		return
	}
	switch ext := strings.TrimPrefix(filepath.Ext(f.out), "."); {
	case f.migration != "":
		f.format = formatSQL
	case f.nested():
		f.format = "json"
	case ext == formatSQL:
		f.format = ext
	default:
		f.format = "csv"
	}
}

// agree tells flags that do not go together.
func (f *exportFlags) agree() error {
	bad, nested := diag.Usagef, f.nested()
	switch {
	case nested && f.format != "json":
		return bad("--nest and --row write JSON, and --format says %s", f.format)
	case nested && f.migration != "", f.nest && f.row != "":
		return bad("use only one of --nest, --row and --migration")
	case f.guard && f.format != "csv":
		return bad("--guard-formulas needs --format csv, and the format is %s", f.format)
	case f.row != "" && f.part != "":
		return bad("--row and --part cannot be combined")
	case f.row != "" && len(f.entities) > 0:
		return bad("--row must name an entity and a row, such as Passenger.ada")
	case f.references != string(export.Keys) && !nested:
		return bad("--references needs --nest or --row")
	case f.planOnly && f.format == formatSQL:
		return bad("--format sql needs the database's tables, so it cannot be combined with --without-database")
	case f.jobs < 1 || f.jobs > 256:
		return bad("--jobs must be between 1 and 256, got %d", f.jobs)
	}
	if err := f.agreeSQL(); err != nil {
		return err
	}
	return f.checkMigration()
}

// differs reports whether only what changed is written.
func (f *exportFlags) differs() bool { return f.since > 0 || f.sincePlan != "" }

// agreeSQL tells flags of scripts that do not go together.
func (f *exportFlags) agreeSQL() error {
	switch {
	case f.differs() && f.migration == "":
		return diag.Usagef("--since and --since-plan need --migration")
	case f.since > 0 && f.sincePlan != "":
		return diag.Usagef("use only one of --since and --since-plan")
	case f.differs() && f.part != "":
		return diag.Usagef("--since and --part cannot be combined")
	case (f.bare || f.local) && f.format != formatSQL:
		return diag.Usagef("--no-transaction and --no-schema need --format sql or --migration")
	case f.migration != "" && f.format != formatSQL:
		return diag.Usagef("--migration writes SQL, and --format says %s", f.format)
	case f.dialect != "" && f.format != formatSQL:
		return diag.Usagef("--dialect needs --format sql")
	}
	return nil
}

// checkMigration refuses names of scripts that are not two files of one folder.
func (f *exportFlags) checkMigration() error {
	if f.migration == "" {
		return nil
	}
	insert, remove := f.migrationFiles()
	for _, name := range []string{insert, remove} {
		switch {
		case name == "" || name == "." || name == "..":
			return diag.Usagef("--migration needs the names of two files: 0042_fares.sql,0042_fares_back.sql, got %q",
				f.migration)
		case name != filepath.Base(name):
			return diag.Usagef("--migration must be a name without a folder; --out names the folder")
		}
	}
	if strings.EqualFold(insert, remove) { // some file systems do not distinguish case
		return diag.Usagef("--migration names the same file twice: %q", f.migration)
	}
	return nil
}

// migrationFiles are the names of the two scripts of a migration.
func (f *exportFlags) migrationFiles() (insert, remove string) {
	if insert, remove, two := strings.Cut(f.migration, ","); two {
		return strings.TrimSpace(insert), strings.TrimSpace(remove)
	}
	return f.migration + ".insert.sql", f.migration + ".remove.sql"
}

// missingTables refuses an output that needs the tables of a database.
func missingTables(what string) error {
	return &store.Fault{Kind: store.Missing, Message: what + ", and no database is named", Hint: app.ErrNoDatabase.Hint}
}

// entityNamed finds an entity that a flag names.
func entityNamed(c *plan.Compiled, flag, name string) (*plan.Target, error) {
	t := c.Target(name)
	if t == nil {
		err := fmt.Errorf("%s: the plan has no entity %s", flag, name)
		if near := diag.Nearest(name, c.Names()); near != "" {
			err = fmt.Errorf("%w; did you mean %s?", err, near)
		}
		return nil, &diag.UsageError{Err: err}
	}
	return t, nil
}

// script is the SQL of an engine: the one asked for, or that of the database.
func (a *program) script(dialect string) (store.Script, error) {
	if a.ws.Opened == "" {
		return nil, missingTables("SQL needs the database's tables")
	}
	scheme, _, _ := strings.Cut(a.ws.Opened, ":")
	if dialect != "" {
		scheme = dialect
	}
	s := store.ScriptFor(a.ws.Drivers, scheme)
	if s == nil {
		return nil, diag.Usagef("--dialect must be one of sqlite, postgres, mysql, got %q", dialect)
	}
	return s, nil
}

// exportScript writes rows as SQL.
func (a *program) exportScript(ctx context.Context, c *plan.Compiled, o export.Options, f *exportFlags) error {
	sql, err := a.script(f.dialect)
	if err != nil {
		return err
	}
	for _, t := range c.Targets {
		if len(o.Entities) > 0 && !slices.Contains(o.Entities, t.Plan.Name) {
			continue
		}
		if t.Plan.DatabaseKeys {
			fmt.Fprintf(
				a.err,
				"note: the keys of %s are written out here, although the plan lets the database assign them\n",
				t.Plan.Name,
			)
		}
		if t.Write.Mode != plan.Insert {
			fmt.Fprintf(
				a.err,
				"note: %s is written with INSERT here, although the plan says %s\n",
				t.Plan.Name,
				t.Write.Mode,
			)
		}
	}

	if f.migration != "" {
		return a.exportMigration(ctx, c, o, f, sql)
	}
	var m *files.Manifest
	err = a.toFile(f, c.Plan, func(w io.Writer) (err error) {
		m, err = export.Script(ctx, c, o, sql, w)
		return err
	})
	if err == nil && f.out != "" {
		err = a.printExport(m, f.out, "for "+sql.Name())
	}
	return err
}

// exported writes rows in the way that the flags ask for.
func (a *program) exported(ctx context.Context, c *plan.Compiled, o export.Options, f *exportFlags) error {
	switch {
	case f.row != "":
		return a.exportRow(c, o, f)
	case f.nest && f.out != "" && !strings.EqualFold(filepath.Ext(f.out), ".json"):
		return a.exportFiles(ctx, c, o, f)
	case f.nest:
		return a.toFile(f, c.Plan, func(w io.Writer) error {
			_, err := export.Nested(ctx, c, o, "", w)
			return err
		})
	case f.format == formatSQL:
		return a.exportScript(ctx, c, o, f)
	case f.out == "":
		if n := len(o.Entities); (n == 0 && len(c.Targets) > 1 || n > 1) && f.format != "json" && f.format != "ndjson" {
			return diag.Usagef(
				"standard output can hold one entity as %s: choose it with --entity NAME, or write a file for "+
					"each with --out FOLDER",
				f.format)

		}
		_, err := export.Stream(ctx, c, o, a.exact)
		return err
	}
	return a.exportFiles(ctx, c, o, f)
}

// exportRow writes the one row that --row names.
func (a *program) exportRow(c *plan.Compiled, o export.Options, f *exportFlags) error {
	entity, _, _ := strings.Cut(f.row, ".")
	t, err := entityNamed(c, "--row", entity)
	if err != nil {
		return err
	}
	row, err := rowNamed(t, strings.TrimPrefix(f.row, entity+"."))
	if err != nil {
		return &diag.UsageError{Err: err}
	}
	return a.toFile(f, c.Plan, func(w io.Writer) error { return export.One(c, o, t, row, w) })
}

// exportFiles writes a folder: a file for each entity, their manifest, and a plan that reads them.
func (a *program) exportFiles(ctx context.Context, c *plan.Compiled, o export.Options, f *exportFlags) error {
	folder, err := export.NewFolder(f.out)
	if err != nil {
		return err
	}
	defer folder.Close()
	var m *files.Manifest
	if f.nest {
		m, err = nestedIn(ctx, c, o, folder)
	} else {
		m, err = export.Files(ctx, c, o, folder.Create)
	}
	if err != nil {
		return err
	}
	with := "with " + files.ManifestName
	if o.Part.Whole() && (!f.nest || o.References == export.Keys) { // a part refers to rows of others
		with += " and " + export.PlanName + ", which reads them back"
		text := export.Plan(c, m)
		if err := folder.Put(export.PlanName, text); err != nil {
			return err
		}
		m.PlanSHA256 = fmt.Sprintf("%x", sha256.Sum256(text))
	}
	if err := folder.PutManifest(m); err != nil {
		return err
	}
	if err := a.place(folder, f, c.Plan); err != nil {
		return err
	}
	return a.printExport(m, f.out, with)
}

// nestedFile is the document of nested rows in a folder.
const nestedFile = "rows.json"

// nestedIn writes all rows as one document into a folder.
func nestedIn(
	ctx context.Context, c *plan.Compiled, o export.Options, folder *export.Folder,
) (*files.Manifest, error) {
	w, err := folder.Create(nestedFile)
	if err != nil {
		return nil, err
	}
	m, err := export.Nested(ctx, c, o, nestedFile, w)
	return m, errors.Join(err, w.Close())
}

// place moves a finished folder to where it was asked for; a folder that is there stays, unless overwrite is set.
func (a *program) place(folder *export.Folder, f *exportFlags, p *plan.Plan) error {
	err := folder.Place(f.overwrite, a.output("", p, f.sincePlan).Inputs)
	var present *export.ErrPresent
	if errors.As(err, &present) {
		return diag.Usagef("%w: nothing was written; --overwrite replaces it", err)
	}
	return a.inTheWay(err)
}

func (a *program) exportMigration(
	ctx context.Context,
	c *plan.Compiled,
	o export.Options,
	f *exportFlags,
	sql store.Script,
) error {
	at := f.out
	if at == "" {
		at = "."
	}
	folder, err := export.NewFolder(at)
	if err != nil {
		return err
	}
	defer folder.Close()
	insertName, removeName := f.migrationFiles()
	insert, err := folder.Create(insertName)
	if err != nil {
		return err
	}
	defer insert.Close()
	remove, err := folder.Create(removeName)
	if err != nil {
		return err
	}
	defer remove.Close()
	pair := export.Pair{Insert: insert, Remove: remove}
	var m *files.Manifest
	var changes *export.Changes
	if f.differs() {
		changes, err = a.migrate(ctx, c, f, sql, export.Difference{Options: o, Out: pair})
	} else {
		m, err = export.Migration(ctx, c, o, sql, pair)
	}
	if err != nil {
		return err
	}
	if err := a.place(folder, f, c.Plan); err != nil {
		return err
	}
	if changes != nil {
		return a.printChanges(changes, filepath.Join(at, insertName), removeName, sql.Name())
	}
	return a.printExport(
		m,
		filepath.Join(at, insertName),
		"and "+removeName+", which takes them out, for "+sql.Name(),
	)
}

// printChanges says what a migration changes.
func (a *program) printChanges(c *export.Changes, where, back, engine string) error {
	if a.json {
		o := &report.Object{}
		o.Set("out", where)
		o.Set("changes", c)
		return a.writeJSON(o)
	}
	if !a.quiet {
		fmt.Fprintf(a.out, "%s %s added, %d changed and %d removed by %s, and %s takes that back, for %s.\n",
			a.page.Good("done:"), diag.Count(int64(c.Added), "row", "rows"), c.Changed, c.Removed, where, back, engine)
	}
	return nil
}

// migrate writes the scripts of what changed since a load or an earlier plan.
func (a *program) migrate(
	ctx context.Context, c *plan.Compiled, f *exportFlags, sql store.Script, d export.Difference,
) (*export.Changes, error) {
	s, _, err := a.ws.Open(ctx, c.Plan, nil)
	if err != nil {
		return nil, err
	}
	if s == nil {
		return nil, missingTables("--since needs the journal or the tables of a database")
	}
	defer s.Close()
	before, err := a.earlier(ctx, c, s, f)
	if err != nil {
		return nil, err
	}
	defer before.Close()
	return d.Write(ctx, before, c, sql)
}

// earlier is the plan of a load, or an earlier version of a plan.
func (a *program) earlier(
	ctx context.Context, c *plan.Compiled, s store.Store, f *exportFlags,
) (*plan.Compiled, error) {
	if f.since > 0 {
		past, err := load.Recall(ctx, journal.Unlocked(s), f.since, c.Database, archive.Operator{Plan: c.Plan, Rows: files.Rows})
		if err != nil {
			return nil, err
		}
		return past.Plan, nil
	}
	p, err := plan.ReadFile(f.sincePlan)
	if err != nil {
		return nil, err
	}
	return p.Compile(plan.Options{
		Database: c.Database, Rows: a.ws.OpenRows, Existing: existingRows(ctx, s), WithoutUnits: true,
		WithoutAlways: true,
	})
}

// toFile lets something be written into --out, or to standard output.
func (a *program) toFile(f *exportFlags, p *plan.Plan, write func(io.Writer) error) error {
	if f.out == "" {
		return write(a.exact)
	}
	if info, err := os.Stat(f.out); err == nil && info.IsDir() {
		return diag.Usagef("--out %s is a folder, and this export writes one file", f.out)
	}
	folder, err := export.NewFolder(filepath.Dir(f.out))
	if err != nil {
		return err
	}
	defer folder.Close()
	w, err := folder.Create(filepath.Base(f.out))
	if err != nil {
		return err
	}
	if err := errors.Join(write(w), w.Close()); err != nil {
		return err
	}
	return a.place(folder, f, p)
}

// printExport shows what was written.
func (a *program) printExport(m *files.Manifest, where, with string) error {
	if a.json {
		o := &report.Object{}
		o.Set("out", where)
		o.Set("manifest", m)
		return a.writeJSON(o)
	}
	if a.quiet {
		return nil
	}
	t := report.Table{
		Columns: []report.Column{
			{Name: "Entity"},
			{Name: "File"},
			{Name: "Rows", Number: true},
			{Name: "Bytes", Number: true},
			{Name: "Fingerprint"},
		},
	}
	rows := uint64(0)
	alone := true // no entity has a file of its own
	for _, e := range m.Entities {
		rows += e.Rows
		alone = alone && e.File == ""
		t.Rows = append(
			t.Rows,
			[]string{e.Entity, e.File, diag.Number(e.Rows), bytesOf(e), e.Fingerprint.String()},
		)
	}

	if alone {
		t.Columns = slices.Delete(t.Columns, 1, 2)
		t.Columns = slices.Delete(t.Columns, 2, 3)
		for i, line := range t.Rows {
			t.Rows[i] = []string{line[0], line[2], line[4]}
		}
	}

	fmt.Fprintln(a.out, a.page.Draw(t))
	part := ""
	if m.Part != nil {
		part = fmt.Sprintf("part %s, ", m.Part)
	}
	fmt.Fprintf(
		a.out,
		"\n%s %s%s in %s, %s.\n",
		a.page.Good("done:"),
		part,
		diag.Count(rows, "row", "rows"),
		where,
		with,
	)
	return nil
}

// bytesOf is the size of an entity's file; empty if the file is that of several.
func bytesOf(e files.ManifestRows) string {
	if e.Bytes == 0 && e.Rows > 0 {
		return ""
	}
	return diag.Number(e.Bytes)
}
