package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"evensprout/internal/demo"
	"evensprout/internal/store/sqlite"
)

const (
	demoFolder   = "larkwater"
	demoDatabase = "larkwater.db"
	demoSchema   = "schema.sql"
)

func (a *app) demo() *cobra.Command {
	var flags loadFlags
	var anew bool
	c := &cobra.Command{
		Use:   "demo [FOLDER]",
		Short: "Build a sample database with its plan, load it, show it",
		Long: `demo makes a folder with the sample of a small ferry line, Larkwater Ferries: an
SQLite database, the schema that made its tables, and the plan that fills them. It
needs nothing else. Edit the plan and go on from there.`,
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
			a.db = "sqlite:" + filepath.Join(folder, demoDatabase)
			if !a.json {
				fmt.Fprintf(a.out, "%s\n\n", a.page.Bold("Larkwater Ferries: a sample database and the plan that fills it"))
			}
			c, s, name, err := a.compile(cmd.Context(), []string{planFile}, true)
			if err != nil {
				return err
			}
			defer s.Close()
			defer c.Close()
			a.warn(c)
			o.Journal, o.Again = a.journal("", false), a.again
			if err := a.loaded(cmd.Context(), c, nil, s, name, o, false, &outputs{}, false); err != nil {
				return err
			}
			if a.json {
				return nil
			}
			db, err := s.Survey(cmd.Context())
			if err != nil {
				return err
			}
			fmt.Fprintln(a.out)
			if err := a.lookAt(cmd.Context(), s, db, db.Table("tickets"), 4, 0); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "\nIn %s: %s (tables), %s (the plan, yours to edit), %s (the database)\n", folder, demoSchema, defaultPlan, demoDatabase)
			fmt.Fprintf(a.out, "Try next:\n")
			for _, next := range []string{"look " + planFile + " passengers", "preview " + planFile + " --entity Booking", "compare " + planFile, "withdraw " + planFile} {
				fmt.Fprintf(a.out, "  %s %s\n", a.page.Bold(self()), next)
			}
			return nil
		},
	}
	flags.add(c)
	c.Flags().BoolVar(&anew, "anew", false, "remove the sample's own files first, if the folder has them")
	return c
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
	planFile := filepath.Join(folder, defaultPlan)
	database := filepath.Join(folder, demoDatabase)
	files := []string{database, database + "-journal", planFile, filepath.Join(folder, demoSchema)}
	for _, f := range files {
		_, err := os.Lstat(f)
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return "", err
		case !anew:
			return "", fmt.Errorf("%s is there already: nothing was changed.\n       evensprout look %s shows its rows;\n       evensprout demo --anew builds the folder again (what you edited there is lost); evensprout demo FOLDER uses another",
				f, planFile)
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
	if err := os.WriteFile(filepath.Join(folder, demoSchema), []byte(demo.Schema), 0o644); err != nil {
		return "", err
	}
	if err := os.WriteFile(planFile, []byte(demo.Plan), 0o644); err != nil {
		return "", err
	}
	return planFile, sqlite.Create(database, demo.Schema)
}
