package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"evensprout/internal/app"
	"evensprout/internal/journal"
	"evensprout/internal/replay"
	"evensprout/internal/unit"

	"github.com/spf13/cobra"

	"evensprout/internal/demo"
	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/store"
	"evensprout/internal/store/sqlite"
	"evensprout/internal/value"
)

const (
	demoFolder   = "larkwater"
	demoDatabase = "larkwater.db"
)

// printDemo says where the sample is and what to try next; last is what withdraw does.
func (a *program) printDemo(folder, planFile, last string) {
	fmt.Fprintf(
		a.out,
		"\nIn %s: %s (tables), %s (the plan, yours to edit), %s (its reference data), %s (the database)\n",
		folder,
		demo.SchemaFile,
		app.DefaultPlan,
		demo.BaseFile,
		demoDatabase,
	)
	fmt.Fprintf(a.out, "Try next:\n")
	next := [][2]string{
		{"look " + planFile + " passengers", "show rows of a table"},
		{"preview " + planFile + " --entity Booking", "generate some rows, without a database"},
		{"compare " + planFile, "compare the tables with what was loaded"},
		{"history " + planFile, "list loads and runs"},
		{"withdraw " + planFile, last},
	}
	width := 0
	for _, x := range next {
		width = max(width, len(x[0]))
	}
	for _, x := range next {
		fmt.Fprintf(a.out, "  %s %-*s  %s\n", a.page.Bold(self()), width, x[0], a.page.Dim(x[1]))
	}
}

// demo makes the command demo.
func (a *program) demo() *cobra.Command {
	var flags loadFlags
	var anew, without bool
	c := &cobra.Command{
		Use:   "demo [FOLDER]",
		Short: "Create and load a sample database",
		Long: `demo creates a folder with the sample of a small ferry line, Larkwater Ferries: an
SQLite database, the schema of its tables, the plan that fills them and then runs
units of dependent writes (selling tickets, cancelling bookings, changing prices), and
the files that they read. At the end it tries a sale that fails half-way, and shows that
the sale is rolled back. It needs nothing else. Edit the plan and try again.`,
		Example: `  evensprout demo
  evensprout demo play --anew`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			o, err := flags.options(cmd)
			if err != nil {
				return err
			}
			folder := demoFolder
			if len(args) > 0 {
				folder = args[0]
			}
			planFile, err := writeDemo(folder, anew)
			if err != nil {
				return err
			}
			a.ws.DB = "sqlite:" + filepath.Join(folder, demoDatabase)
			if a.tells() {
				fmt.Fprintf(
					a.out,
					"%s\n\n",
					a.page.Bold("Larkwater Ferries: a sample database and the plan that fills it"),
				)
			}
			a.ws.Writes, a.ws.WithUnits = true, !without
			o.Journal, o.Again, o.Later = a.journal("", false), a.ws.Again, !without
			c, s, name, err := a.demoPlan(cmd.Context(), planFile, o)
			if err != nil {
				return err
			}
			defer s.Close()
			defer c.Close()
			a.warn(c)
			if without {
				c.Always = nil
			}
			x := &loading{
				plan:    c,
				units:   c.Units,
				store:   s,
				name:    name,
				options: o,
				out:     &outputs{},
				keep:    &journalFlags{},
			}
			if err := a.loaded(cmd.Context(), x); err != nil {
				return err
			}
			if !a.tells() {
				return nil
			}
			db, err := s.Survey(cmd.Context())
			if err != nil {
				return err
			}
			fmt.Fprintln(a.out)
			tickets := db.Table("tickets")
			if err := a.lookAt(cmd.Context(), s, db,
				store.Query{Table: tickets, Columns: tickets.Columns, Limit: 4}); err != nil {
				return err
			}
			if !without {
				if err := a.demoRefusal(cmd.Context(), planFile, filepath.Join(folder, demo.FullBoat)); err != nil {
					return err
				}
			}
			last := "undo the last load"
			if n := len(c.Units); !without && n > 0 {
				last = "undo the last run, of the unit " + c.Units[n-1].Plan.Name
			}
			a.printDemo(folder, planFile, last)
			return nil
		},
	}
	flags.add(c)
	c.Flags().BoolVar(&without, "without-units", false, "load only the rows; evensprout load runs the units later")
	c.Flags().BoolVar(&anew, "anew", false, "remove the sample's files first, if they exist")
	return c
}

// demoPlan compiles the sample's plan, once its reference data is loaded.
func (a *program) demoPlan(
	ctx context.Context, planFile string, o load.Options,
) (*plan.Compiled, store.Store, string, error) {
	if _, err := a.loadBases(ctx, []string{planFile}, o); err != nil {
		return nil, nil, "", err
	}
	return a.ws.Compile(ctx, []string{planFile}, true)
}

// demoRefusal tries a sale for which there is no seat, and shows that nothing of it stays.
func (a *program) demoRefusal(ctx context.Context, planFile, sale string) error {
	a.ws.Unit, a.ws.OccasionsFile = "sell", sale
	c, s, _, err := a.ws.Compile(ctx, []string{planFile}, true)
	if err != nil {
		return err
	}
	defer s.Close()
	defer c.Close()
	i := slices.IndexFunc(c.Units, func(u *plan.CompiledUnit) bool { return u.Plan.Name == a.ws.Unit })
	sell := c.Units[i]
	tables := []string{"bookings", "tickets", "sailings", "passengers"}
	look := func() (counts []int64, sums []grow.Fingerprint, err error) {
		for _, name := range tables {
			t, n, sum := c.Database.Table(name), int64(0), grow.Fingerprint{}
			err := s.Select(ctx, store.Query{Table: t, Columns: t.Columns, AsIs: true}, func(row []value.Value) error {
				n++
				sum.Add(replay.Digest(row))
				return nil
			})
			if err != nil {
				return nil, nil, err
			}
			counts, sums = append(counts, n), append(sums, sum)
		}
		return counts, sums, nil
	}
	before, sumsBefore, err := look()
	if err != nil {
		return err
	}
	_, err = unit.Run(ctx, c, sell, s, load.Options{Journal: a.journal("", false), Again: a.ws.Again})
	var refusal *journal.Refusal
	if !errors.As(err, &refusal) {
		return errors.Join(errors.New("the sample's sale for a full boat was not refused"), err)
	}
	after, sumsAfter, err := look()
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "\n%s\n", a.page.Bold("A sale that must fail: "+sale+", for a full sailing"))
	a.printRefused(a.out, a.page, refusal)
	t := report.Table{
		Columns: []report.Column{
			{Name: "Table"},
			{Name: "Rows before", Number: true},
			{Name: "Rows after", Number: true},
			{Name: "Contents before"},
			{Name: "Contents after"},
		},
	}
	for i, name := range tables {
		t.Rows = append(
			t.Rows,
			[]string{
				name,
				diag.Number(before[i]),
				diag.Number(after[i]),
				sumsBefore[i].String()[:16],
				sumsAfter[i].String()[:16],
			},
		)
	}

	fmt.Fprintf(
		a.out,
		"Steps 5 and 6 wrote the booking and the ticket; step 7 was refused, so both were rolled back:\n\n%s\n",
		a.page.Draw(t),
	)
	return nil
}

// self is how this program is called: as installed, or run from its source.
func self() string {
	if exe, err := os.Executable(); err == nil && strings.Contains(exe, "go-build") {
		return "go run ./cmd/evensprout"
	}
	return "evensprout"
}

// writeDemo makes the sample's files and returns the plan's path. It takes nothing
// away that it did not make.
func writeDemo(folder string, anew bool) (string, error) {
	planFile := filepath.Join(folder, app.DefaultPlan)
	database := filepath.Join(folder, demoDatabase)
	files := []string{database, database + "-journal"}
	for name := range demo.Files() {
		files = append(files, filepath.Join(folder, name))
	}
	slices.Sort(files[2:])
	for _, f := range files {
		_, err := os.Lstat(f)
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return "", err
		case !anew:
			return "", fmt.Errorf(
				"%s already exists, and nothing was changed.\n       evensprout look %s shows its rows.\n       "+
					"evensprout demo --anew builds it again and loses your edits; evensprout demo FOLDER uses "+
					"another folder",
				f,
				planFile,
			)
		}
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return "", err
	}
	for _, f := range files {
		if err := os.Remove(f); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
	}
	for name, data := range demo.Files() {
		if err := os.WriteFile(filepath.Join(folder, name), data, 0o644); err != nil {
			return "", err
		}
	}
	return planFile, sqlite.Create(database, demo.Schema)
}

// tells reports whether results are printed for people.
func (a *program) tells() bool { return !a.json && !a.quiet }
