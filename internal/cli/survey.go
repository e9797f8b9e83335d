package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"evensprout/internal/diag"
	"evensprout/internal/draft"
	"evensprout/internal/safe"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/structs"
	"evensprout/internal/value"
)

func (a *app) survey() *cobra.Command {
	var out, names, schemaName string
	var tables []string
	var rows uint64
	var learn bool
	var folder, tag string
	var least int64
	c := &cobra.Command{
		Use:   "survey",
		Short: "Read a database and draft a plan for it",
		Long: `survey reads tables, columns, types, keys and references, and drafts a plan: how many
rows, and where each field gets its values, guessed from types, names and simple
conditions. survey and load, with no edit between, fill every table. The draft is
yours to make better; nothing is written into the database.

What the database computes itself is left out; tables that cannot be filled are named
at the head with the reason. A reason for a guess stands behind it as a comment. What
only the database can decide, such as a condition with a function of its own, is asked
of it with values tried in a query.

--learn looks at the rows that are there, at most 100,000 of a table: shares of NULL,
how often codes occur, ranges of numbers and moments, children of a parent. No value is
copied that occurs fewer than 5 times (--least says otherwise).

--structs reads Go structs with db:"..." tags (another tag by --tag): without a
database, the draft is made of them; with one, they give their names to the draft, the
constants of their types become choices, and where the two disagree is told.

With --json, it writes the description of the tables instead.`,
		Example: `  evensprout survey --db sqlite:app.db
  evensprout survey --db sqlite:app.db --out evensprout.yaml
  evensprout survey --db postgres://app@localhost/app --out evensprout.yaml
  evensprout survey --db postgres://app@localhost/app --schema sales --tables 'order*,customers' -o orders.yaml
  evensprout survey --db sqlite:app.db --rows 1000 --names camel --learn
  evensprout survey --structs ./internal/models --out evensprout.yaml
  evensprout survey --db postgres://app@localhost/app --structs ./internal/models --tag db
  evensprout survey --db mysql://app@localhost/app --json`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if names != "" && !slices.Contains(draft.Namings, names) {
				return usageError{
					fmt.Errorf("--names is one of %s, and not %s", strings.Join(draft.Namings, ", "), names),
				}
			}
			for _, p := range tables {
				if _, err := path.Match(p, ""); err != nil {
					return usageError{
						fmt.Errorf(
							"--tables %s is no pattern: * stands for any letters, ? for one, [a-z] for one of some",
							p,
						),
					}
				}
			}
			if least < 2 {
				return usageError{errors.New("--least is 2 or more: a value that occurs once is somebody's own")}
			}
			var mapped []structs.Struct
			if folder != "" {
				var err error
				if mapped, err = structs.Read(folder, tag); err != nil {
					return err
				}
				if len(mapped) == 0 {
					return fmt.Errorf("no struct in %s has a field with the tag %s: --tag names another", folder, tag)
				}
			}
			o := draft.Options{Rows: rows, Names: draft.Naming(names)}
			u := a.url(nil, "")
			var db *schema.Database
			var s store.Store
			switch {
			case u != "":
				var err error
				if s, err = store.Open(cmd.Context(), a.drivers, u); err != nil {
					return err
				}
				defer s.Close()
				if db, err = s.Survey(cmd.Context()); err != nil {
					return err
				}
				place := store.Describe(a.drivers, u)
				o.Name, o.URL, o.Probe = place.Name, draftURL(u, place, out), s.Passes
				if why := a.mayAsk(u); why != "" {
					o.Probe = func(context.Context, []*schema.Column, string, [][]value.Value) ([]bool, error) {
						return nil, &store.NotAsked{Why: why}
					}
				}
			case mapped != nil:
				db = structs.Database(mapped)
				path, err := filepath.Abs(folder)
				if err != nil {
					return err
				}
				o.Name = filepath.Base(path)
			default:
				return &store.Fault{
					Kind:    store.BadURL,
					Message: "no database is named",
					Hint:    "--db sqlite:app.db, or the environment variable DATABASE_URL; --structs FOLDER drafts from Go structs alone",
				}
			}
			matches, told := structs.Hold(mapped, db)
			if a.json {
				return a.writeJSON(surveyed{db, told})
			}
			if len(db.Tables) == 0 {
				return &store.Fault{
					Kind:    store.Missing,
					Message: fmt.Sprintf("%s has no tables", a.shown(u)),
					Hint:    "run your migrations first",
				}
			}
			for _, d := range told {
				fmt.Fprintln(a.err, d)
			}
			structs.Name(&o, matches)
			var err error
			if o.Only, err = draft.Wanted(db, tables, schemaName); err != nil {
				return err
			}
			if s != nil {
				o.Loosens = s.Traits().DefersAll || s.Traits().Loosens
				if o.Held, err = draft.Look(cmd.Context(), s, db); err != nil {
					return err
				}
				if learn {
					if o.Learned, err = draft.Learn(cmd.Context(), s, db, o.Held, least); err != nil {
						return err
					}
				}
			}
			d, err := draft.Make(cmd.Context(), db, o)
			if err != nil {
				return err
			}
			text := d.Write(o)
			if out == "" {
				fmt.Fprint(a.exact, text)
				return nil
			}
			f, err := safe.Create(out, 0o644)
			if errors.Is(err, fs.ErrExist) {
				return fmt.Errorf("%s is there already: nothing was written; name another file, or move it away", out)
			}
			if err != nil {
				return err
			}
			if _, err := f.WriteString(text); err != nil {
				return errors.Join(err, f.Close())
			}
			if err := f.Close(); err != nil {
				return err
			}
			fmt.Fprintf(
				a.out,
				"%s a plan for %s in %s\n",
				a.page.Good("drafted:"),
				diag.Count(len(d.Tables), "table", "tables"),
				out,
			)
			for _, l := range d.Left {
				if !l.Unasked {
					fmt.Fprintf(a.out, "left out: %s: %s\n", l.Table, l.Reason)
				}
			}
			fmt.Fprintf(a.out, "Next: evensprout check %s && evensprout preview %s\n", out, out)
			return nil
		},
	}
	a.allowFlag(c)
	c.Flags().StringVarP(&out, "out", "o", "", "write the plan into this file, which must not exist yet")
	c.Flags().Uint64Var(&rows, "rows", 0, "rows for each table, as far as its keys allow (default: as seems fit)")
	c.Flags().
		StringVar(&names, "names", "", "how fields are called: "+strings.Join(draft.Namings, ", ")+" (default: as columns)")
	c.Flags().
		StringSliceVar(&tables, "tables", nil, "only these tables, and those that they need: names or patterns such as 'order*'")
	c.Flags().StringVar(&schemaName, "schema", "", "only tables of this schema, and those that they need")
	c.Flags().StringVar(&folder, "structs", "", "read Go structs in this folder and below")
	c.Flags().StringVar(&tag, "tag", "db", "with --structs: the tag that names columns")
	c.Flags().BoolVar(&learn, "learn", false, "look at the rows that are there for shares and ranges")
	c.Flags().Int64Var(&least, "least", draft.LeastOften, "with --learn: how often a value must occur to be copied")
	return c
}

// surveyed is what survey --json writes.
type surveyed struct {
	*schema.Database
	Disagreements []structs.Disagreement `json:"disagreements,omitempty"`
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
	from, err1 := filepath.Abs(filepath.Dir(out))
	to, err2 := filepath.Abs(p.File)
	rel, err3 := filepath.Rel(from, to)
	if err1 != nil || err2 != nil || err3 != nil {
		return u
	}
	return "sqlite:" + rel
}
