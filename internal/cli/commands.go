package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/words"
)

// versionCommand makes the command version.
func (a *program) versionCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "version",
		Short:   "Print the version",
		Example: "  evensprout version --json",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if a.json {
				return a.writeJSON(built())
			}
			fmt.Fprintln(a.out, version())
			return nil
		},
	}
}

// planSchema makes the command that prints the JSON schema of plans.
func (a *program) planSchema() *cobra.Command {
	return &cobra.Command{
		Use:   "plan-schema",
		Short: "Print the JSON Schema of plans, for editors",
		Long: `plan-schema prints the format of plans as a JSON Schema (draft 2020-12). Editors that
support JSON Schema for YAML use it to complete and validate plans. check finds
everything that a schema cannot.`,
		Example: "  evensprout plan-schema > plan.schema.json",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			text, err := plan.JSONSchema()
			if err != nil {
				return err
			}
			fmt.Fprintf(a.exact, "%s\n", text)
			return nil
		},
	}
}

// checkedRows is how many rows of each entity check grows and holds against the tables.
const checkedRows = 200

// check makes the command check.
func (a *program) check() *cobra.Command {
	c := &cobra.Command{
		Use:   "check [PLAN]",
		Short: "Validate a plan and compare it with the database",
		Long: `check reads a plan, looks up every name in it, and compares it with the tables of
the database, if one is named: names, types, keys, values, existing rows, rights and
triggers. It also generates the first 200 rows of each entity and tests them against
columns and CHECK constraints. It reports everything that is wrong at once, with its
place in the file, errors first. It writes no row.

Exit codes: 0 fine (there may be warnings), 3 the plan is wrong, 4 the database does
not fit the plan or cannot be reached.`,
		Example: `  evensprout check
  evensprout check larkwater/evensprout.yaml --db sqlite:other.db`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.watched(cmd, args, func() error { return a.checkPlan(cmd.Context(), args) })
		},
	}
	watchFlag(c)
	a.clockFlag(c)
	a.useFlags(c)
	a.rowsFlag(c)
	a.awkwardFlag(c)
	a.allowFlag(c)
	return c
}

// checkPlan validates a plan and compares it with the database.
func (a *program) checkPlan(ctx context.Context, args []string) error {
	a.ws.WithUnits, a.ws.Sample = true, checkedRows
	compiled, s, name, err := a.ws.Foreseen(ctx, args)
	if err != nil {
		return err
	}
	if s != nil {
		defer s.Close()
	}
	defer compiled.Close()
	rows, fields, entities := uint64(0), 0, 0
	for _, t := range compiled.Targets {
		if compiled.Elsewhere(t) {
			continue
		}
		entities++
		if !t.Plan.Existing {
			rows += t.Grow.Total()
		}
		fields += len(t.Plan.Fields)
		if t.Plan.RowsFrom != nil {
			fields += len(t.Plan.RowsFrom.Columns)
		}
	}
	if a.json {
		warnings := compiled.Warnings
		if warnings == nil {
			warnings = diag.Problems{}
		}
		return a.writeJSON(map[string]any{
			"plan": compiled.Plan.Name, "database": name, "entities": entities, "fields": fields,
			"rows": rows, "changes": append([]plan.Change{}, compiled.Plan.Changes...),
			"units": len(compiled.Plan.Units), "invariants": len(compiled.Plan.Always), "warnings": warnings,
		})
	}
	a.warn(compiled)
	a.printUse(compiled.Plan)
	if a.quiet {
		return nil
	}
	more := ""
	if n := len(compiled.Plan.Units); n > 0 {
		more += ", " + diag.Count(n, "unit", "units")
	}
	if n := len(compiled.Plan.Always); n > 0 {
		more += ", " + diag.Count(n, "invariant", "invariants")
	}
	fmt.Fprintf(
		a.out,
		"%s %s: %s, %s, %s to generate%s\n",
		a.page.Good("fine:"),
		compiled.Plan.Name,
		diag.Count(
			entities,
			"entity",
			"entities",
		),
		diag.Count(fields, "field", "fields"),
		diag.Count(rows, "row", "rows"),
		more,
	)
	switch {
	case s == nil:
		fmt.Fprintln(a.out, "No database is named, so only the plan itself was checked.")
		if len(compiled.Plan.Units)+len(compiled.Plan.Always) > 0 {
			fmt.Fprintln(
				a.out,
				"Steps of units and invariants are checked only with a database: name it with --db.",
			)
		}
	default:
		fmt.Fprintf(a.out, "The tables of %s fit the plan.\n", name)
	}
	if n := len(compiled.Warnings); n > 0 {
		fmt.Fprintln(a.out, diag.Count(n, "warning", "warnings"), "above.")
	}
	return nil
}

// catalog makes the command that lists kinds of values.
func (a *program) catalog() *cobra.Command {
	var locale string
	c := &cobra.Command{
		Use:   "catalog [KIND]",
		Short: "List the kinds of values, with examples",
		Long: `catalog lists the kinds of values that {kind: NAME} generates, with examples and the
number of different values. With a name, it shows that kind alone, with more examples.

--locale shows names, addresses and texts of another language and country. A plan
chooses with locale: at the plan, an entity or a field.

Nothing can reach a real person: mail addresses, hosts, telephone numbers, postal codes,
bank accounts and the like come only from ranges that are reserved or not assigned.`,
		Example: `  evensprout catalog
  evensprout catalog email
  evensprout catalog person --locale de`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if words.Find(locale) == nil {
				err := fmt.Errorf("--locale: there is no locale %s", locale)
				if near := diag.Nearest(locale, words.Locales()); near != "" {
					err = fmt.Errorf("%w; did you mean %s?", err, near)
				} else {
					err = fmt.Errorf("%w: known are %s", err, strings.Join(words.Locales(), ", "))
				}
				return &diag.UsageError{Err: err}
			}
			mix := grow.Locales{{Name: locale, Weight: 1}}
			kinds := grow.Kinds()
			if len(args) == 1 {
				var names []string
				for _, k := range kinds {
					names = append(names, k.Name)
					if k.Name == args[0] {
						return a.oneKind(k, mix)
					}
				}
				err := fmt.Errorf("there is no kind %s", args[0])
				if near := diag.Nearest(args[0], names); near != "" {
					err = fmt.Errorf("%w; did you mean %s?", err, near)
				}
				return &diag.UsageError{Err: err}
			}
			return a.paged(cmd.Context(), func() error { return a.allKinds(kinds, mix) })
		},
	}
	c.Flags().StringVar(&locale, "locale", words.Default, "language and country of the examples")
	return c
}

// allKinds prints tables of all kinds by section, with examples.
func (a *program) allKinds(kinds []grow.Kind, mix grow.Locales) error {
	if a.json {
		list := []any{}
		for _, k := range kinds {
			list = append(list, kindJSON(k, mix, 3))
		}
		return a.writeJSON(map[string]any{"kinds": list})
	}

	for i, section := range grow.Sections {
		if i > 0 {
			fmt.Fprintln(a.out)
		}
		fmt.Fprintln(a.out, a.page.Bold(section))
		t := report.Table{
			Columns: []report.Column{
				{Name: "Kind", Whole: true},
				{Name: "What it is"},
				{Name: "Different", Number: true},
				{Name: "Samples"},
			},
		}
		for _, k := range kinds {
			if k.Section != section {
				continue
			}
			shown := strings.Join(samples(k, mix, "", 3), " · ")
			if parts := k.PartNames(); len(parts) > 0 {
				shown = "parts: " + strings.Join(parts, ", ")
			}
			t.Rows = append(t.Rows, []string{k.Name, k.About, space(k), shown})
		}
		fmt.Fprintln(a.out, a.page.Draw(t))
	}
	fmt.Fprintf(a.out, "\n%d kinds. In a plan: {kind: NAME}; evensprout catalog NAME shows one with its "+
		"parameters and parts.\nLocales: %s.\n", len(kinds), strings.Join(words.Locales(), ", "))
	return nil
}

// oneKind prints one kind, its parts and its options.
func (a *program) oneKind(k grow.Kind, mix grow.Locales) error {
	if a.json {
		return a.writeJSON(kindJSON(k, mix, 10))
	}
	fmt.Fprintf(a.out, "%s: %s\n", a.page.Bold(k.Name), k.About)
	if k.Space() > 0 {
		fmt.Fprintf(a.out, "%s different values, so it can be unique\n", space(k))
	} else {
		fmt.Fprintln(a.out, "not counted, so it cannot be unique")
	}
	for _, p := range k.Params {
		r := k.Usual(p)
		fmt.Fprintf(a.out, "parameter %s (default %d..%d)\n", p, r.Lo, r.Hi)
	}
	if k.Locales {
		fmt.Fprintf(a.out, "locale: one of %s, or several by weight\n", strings.Join(words.Locales(), ", "))
	}
	if k.Subjects {
		fmt.Fprintf(a.out, "about: one of %s\n", strings.Join(grow.Subjects, ", "))
	}
	if len(k.Parts) > 0 {
		fmt.Fprintf(
			a.out,
			"has parts: declare shared: {it: {kind: %s}}, and use {from: it.%s} in fields\n",
			k.Name,
			k.Parts[0].Name,
		)
		t := report.Table{
			Columns: []report.Column{
				{Name: "Part", Whole: true},
				{Name: "of one"},
				{Name: "of another"},
				{Name: "of a third one"},
			},
		}
		for _, part := range k.PartNames() {
			t.Rows = append(t.Rows, append([]string{part}, samples(k, mix, part, 3)...))
		}
		fmt.Fprintln(a.out, a.page.Draw(t))
		return nil
	}

	for _, s := range samples(k, mix, "", 10) {
		fmt.Fprintln(a.out, "  "+s)
	}
	return nil
}

// kindJSON is a kind for --json, with n examples.
func kindJSON(k grow.Kind, mix grow.Locales, n int) any {
	o := &report.Object{}
	o.Set("kind", k.Name)
	o.Set("about", k.About)
	o.Set("section", k.Section)
	o.Set("locales", k.Locales)
	o.Set("subjects", k.Subjects)
	if k.Space() > 0 {
		o.Set("different", k.Space())
	}
	params := map[string][2]uint64{}
	for _, p := range k.Params {
		params[p] = [2]uint64{k.Usual(p).Lo, k.Usual(p).Hi}
	}
	o.Set("parameters", params)
	if len(k.Parts) > 0 {
		parts := &report.Object{}
		for _, part := range k.PartNames() {
			parts.Set(part, samples(k, mix, part, n))
		}
		o.Set("parts", parts)
		return o
	}
	o.Set("samples", samples(k, mix, "", n))
	return o
}

// space says how many different values a kind has.
func space(k grow.Kind) string {
	if k.Space() == 0 {
		return "-"
	}
	return diag.Number(k.Space())
}

// samples grows a few values of a kind, or of a part of it.
func samples(k grow.Kind, mix grow.Locales, part string, n int) []string {
	s := &grow.Set{Seed: "catalog", Edition: grow.Latest().Name}
	e := s.NewEntity("Sample")
	e.Rows = uint64(n)
	src, err := grow.NewKind(k, grow.KindOptions{Locales: mix})
	if err != nil {
		return nil
	}
	f := s.NewField(e, k.Name, k.Name)
	f.Source = src
	if part != "" {
		of := f
		f = s.NewField(e, part, part)
		if f.Source, err = grow.PartOf(of, part); err != nil {
			return nil
		}
	}

	if faults := s.Finish(); len(faults) > 0 {
		return nil
	}
	var b grow.Batch
	g := grow.NewGrower(s)
	defer g.Close()
	g.Grow(e, grow.Row{}, n, &b)
	out := make([]string, n)
	for i := range out {
		out[i] = b.Row(i)[len(e.Fields)-1].String()
	}
	return out
}
