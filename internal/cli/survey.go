package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"evensprout/internal/draft"
	"evensprout/internal/report"
	"evensprout/internal/store"
)

func (a *app) survey() *cobra.Command {
	var out, names string
	var rows uint64
	c := &cobra.Command{
		Use:   "survey",
		Short: "Read a database and draft a plan for it",
		Long: `survey reads tables, columns, types, keys and references, and drafts a plan: how many
rows, and where each field gets its values, guessed from types, names and simple
checks. The draft is yours to make better; nothing is written into the database.

With --json, it writes the description of the tables instead.`,
		Example: `  evensprout survey --db sqlite:app.db
  evensprout survey --db sqlite:app.db --out evensprout.yaml
  evensprout survey --db postgres://app@localhost/app --out evensprout.yaml
  evensprout survey --db mysql://app@localhost/app --json`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			u := a.url(nil, "")
			if u == "" {
				return &store.Fault{Kind: store.BadURL, Message: "no database is named", Hint: "--db sqlite:app.db, or the environment variable DATABASE_URL"}
			}
			s, err := store.Open(cmd.Context(), a.drivers, u)
			if err != nil {
				return err
			}
			defer s.Close()
			db, err := s.Survey(cmd.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.writeJSON(db)
			}
			if len(db.Tables) == 0 {
				return &store.Fault{Kind: store.Missing, Message: fmt.Sprintf("%s has no tables", a.shown(u)), Hint: "run your migrations first"}
			}
			place := store.Describe(a.drivers, u)
			o := draft.Options{Name: place.Name, URL: draftURL(u, place, out), Rows: rows, Names: draft.Naming(names)}
			o.Probe = s.Passes
			if o.Held, err = draft.Look(cmd.Context(), s, db); err != nil {
				return err
			}
			d, err := draft.Make(cmd.Context(), db, o)
			if err != nil {
				return err
			}
			text := d.Write(o)
			if out == "" {
				fmt.Fprint(a.out, text)
				return nil
			}
			f, err := os.OpenFile(out, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
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
			fmt.Fprintf(a.out, "%s a plan for %s in %s\n", a.page.Good("drafted:"), report.Count(len(db.Tables), "table", "tables"), out)
			fmt.Fprintf(a.out, "Next: evensprout check %s && evensprout preview %s\n", out, out)
			return nil
		},
	}
	c.Flags().StringVarP(&out, "out", "o", "", "write the plan into this file, which must not exist yet")
	c.Flags().Uint64Var(&rows, "rows", 0, "rows for each table, as far as its keys allow (default: as seems fit)")
	c.Flags().StringVar(&names, "names", "", "how fields are called: "+strings.Join(draft.Namings, ", ")+" (default: as columns)")
	return c
}

// draftURL is the database as a plan in a file names it: a file seen from the
// plan's folder, and never a password.
func draftURL(u string, p store.Place, out string) string {
	if p.File == "" {
		parsed, err := url.Parse(u)
		if err != nil || parsed.Query().Has("password") {
			return ""
		}
		if parsed.User != nil {
			parsed.User = url.User(parsed.User.Username())
		}
		return parsed.String()
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
