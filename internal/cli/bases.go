package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"evensprout/internal/diag"
	"evensprout/internal/journal"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/store"
)

// loadBases loads the plans that a plan builds on, into the database of that plan, if their rows are not there and the
// journal knows no load of them; loaded tells whether there was one. What is wrong with a plan is left to whoever
// compiles it.
func (a *program) loadBases(ctx context.Context, args []string, o load.Options) (loaded bool, err error) {
	p, err := a.ws.ReadPlan(args)
	if err != nil || len(p.BuildsOn) == 0 {
		return false, nil
	}
	s, _, err := a.ws.Open(ctx, p, args)
	if err != nil || s == nil {
		return false, err
	}
	defer s.Close()
	db, err := s.Survey(ctx)
	if err != nil {
		return false, err
	}
	// Nothing is written for a plan that is wrong.
	c, err := p.Compile(plan.Options{
		Database: db, Rows: a.ws.OpenRows, Existing: existingRows(ctx, s), Unloaded: true,
	})
	if err != nil {
		return false, nil
	}
	if err := c.Close(); err != nil {
		return false, err
	}
	return a.loadBasesOf(ctx, p, s, o, nil)
}

// loadBasesOf loads what a plan builds on, those that others build on first. chain are the plans that build on this
// one.
func (a *program) loadBasesOf(
	ctx context.Context, p *plan.Plan, s store.Store, o load.Options, chain []string,
) (loaded bool, err error) {
	for _, b := range p.BuildsOn {
		path, err := filepath.Abs(p.PathOf(b))
		if err != nil || slices.Contains(chain, path) {
			return loaded, err // a circle is reported when the plan is compiled
		}
		of, err := plan.ReadBase(p.PathOf(b))
		if err != nil {
			return loaded, nil
		}
		deeper, err := a.loadBasesOf(ctx, of, s, o, append(slices.Clone(chain), path))
		if err != nil {
			return loaded, err
		}
		this, err := a.loadBase(ctx, of, s, o)
		if err != nil {
			return loaded, err
		}
		loaded = loaded || deeper || this
	}
	return loaded, nil
}

// loadBase loads a plan that others build on, unless that is not needed.
func (a *program) loadBase(ctx context.Context, p *plan.Plan, s store.Store, o load.Options) (loaded bool, err error) {
	db, err := s.Survey(ctx)
	if err != nil {
		return false, err
	}
	existing := existingRows(ctx, s)
	c, err := p.Compile(plan.Options{Database: db, Rows: a.ws.OpenRows, Existing: existing, WithoutUnits: true})
	if err != nil {
		return false, nil // the plan that builds on it reports that
	}
	defer c.Close()
	if missing, err := c.Missing(existing); err != nil || !missing {
		return false, err
	}
	entries, err := journal.Unlocked(s).Entries(ctx, p.Name)
	if err != nil {
		return false, err
	}
	if slices.ContainsFunc(entries, func(e *journal.Entry) bool {
		return e.Extra == "" && e.State != journal.StateWithdrawn
	}) {
		return false, nil // loaded, and changed since: whoever compiles the plan says which rows are missing
	}
	o.Folder, o.Again = p.Folder(), a.ws.Again
	r, err := load.Run(ctx, c, s, o)
	if err != nil {
		return false, fmt.Errorf("%s: %w", p.File(), err)
	}
	rows := int64(0)
	for _, e := range r.Entities {
		rows += e.Inserted
	}
	a.note("%s is loaded first: %s", p.File(), diag.Count(rows, "row", "rows"))
	return true, nil
}

// loadFolder loads the plans of a folder, each behind those that it builds on; done is false if the argument is no
// folder.
func (a *program) loadFolder(cmd *cobra.Command, args []string, l *loadCommand) (done bool, err error) {
	if len(args) == 0 {
		return false, nil
	}
	if info, err := os.Stat(args[0]); err != nil || !info.IsDir() {
		return false, nil
	}
	files, err := plansIn(args[0])
	if err != nil {
		return true, err
	}
	if l.write.page != "" && len(files) > 1 {
		return true, diag.Usagef("--page shows one plan, and the folder has %d", len(files))
	}
	for _, file := range files {
		if !a.quiet && !a.json {
			fmt.Fprintln(a.out, a.page.Bold(file))
		}
		if err := a.runLoad(cmd, []string{file}, l); err != nil {
			return true, err
		}
	}
	return true, nil
}

// differentTables refuses plans that plan rows of the same table.
func differentTables(paths []string, plans map[string]*plan.Plan) error {
	by := map[string]string{}
	for _, path := range paths {
		for _, e := range plans[path].Entities {
			table := strings.ToLower(cmp.Or(e.Table, e.Name))
			if other := by[table]; other != "" && other != path && !e.Existing {
				return diag.Usagef(
					"%s and %s both plan the table %s: let one of them build on the other, or load them separately",
					other,
					path,
					cmp.Or(e.Table, e.Name),
				)
			}
			if !e.Existing {
				by[table] = path
			}
		}
	}
	return nil
}

// plansIn are the plans of a folder, those that others build on first.
func plansIn(folder string) ([]string, error) {
	all, err := os.ReadDir(folder)
	if err != nil {
		return nil, unreadable(folder, err)
	}
	plans := map[string]*plan.Plan{}
	var paths, order []string
	for _, x := range all {
		path := filepath.Join(folder, x.Name())
		if x.IsDir() || !isPlanName(x.Name()) || strings.HasPrefix(x.Name(), ".") {
			continue
		}
		if plans[path], err = plan.ReadFile(path); err != nil {
			return nil, err
		}
		paths = append(paths, path)
	}
	if len(paths) == 0 {
		return nil, diag.Usagef("%s has no plans: files that end in .yaml or .yml", folder)
	}
	if err := differentTables(paths, plans); err != nil {
		return nil, err
	}
	placed := map[string]bool{}
	var place func(path string)
	place = func(path string) {
		p := plans[path]
		if p == nil || placed[path] {
			return
		}
		placed[path] = true
		for _, b := range p.BuildsOn {
			place(filepath.Clean(p.PathOf(b)))
		}
		order = append(order, path)
	}
	for _, path := range paths {
		place(path)
	}
	return order, nil
}
