package cli

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"evensprout/internal/app"
	"evensprout/internal/diag"
	"evensprout/internal/plan"
)

// variantFlag lets a command use a variant of a plan.
func (a *program) variantFlag(c *cobra.Command) {
	a.ws.Use.Today = time.Now().UTC().Format(time.DateOnly)
	c.Flags().StringVar(&a.ws.Use.Variant, "variant", "", "use this variant of the plan")
}

// useFlags lets a command use a plan in another size.
func (a *program) useFlags(c *cobra.Command) {
	a.variantFlag(c)
	c.Flags().StringVar(&a.ws.Use.Scale, "scale", "", "multiply all numbers of rows, as in 10 or 5%")
	c.Flags().StringVar(&a.ws.Use.Seed, "seed", "", "another seed: other rows")
	c.Flags().StringSliceVar(&a.ws.Use.Only, "only", nil, "only these `ENTITIES`, with what they need")
	var schemas []string
	c.Flags().StringSliceVar(&schemas, "schemas", nil, "fill these `SCHEMAS`, as in acme or 't_*'")
	c.PreRunE = func(c *cobra.Command, args []string) error { return a.useSchemas(c.Context(), schemas, args) }
}

// useSchemas lets the plan fill the schemas whose names match patterns. Only for patterns the database is asked.
func (a *program) useSchemas(ctx context.Context, patterns, args []string) error {
	if !slices.ContainsFunc(patterns, func(s string) bool { return strings.ContainsAny(s, "*?[") }) {
		a.ws.Use.Schemas = patterns
		return nil
	}
	p, err := a.ws.ReadPlan(args)
	if err != nil {
		return err
	}
	s, _, err := a.ws.Open(ctx, p, args)
	if err != nil {
		return err
	}
	if s == nil {
		return app.ErrNoDatabase
	}
	defer s.Close()
	db, err := s.Survey(ctx)
	if err != nil {
		return err
	}
	there := db.Schemas()
	for _, pattern := range patterns {
		before := len(a.ws.Use.Schemas)
		for _, name := range there {
			match, err := path.Match(pattern, name)
			if err != nil {
				return diag.Usagef("--schemas: the pattern %s cannot be read", pattern)
			}
			if match && !slices.Contains(a.ws.Use.Schemas, name) {
				a.ws.Use.Schemas = append(a.ws.Use.Schemas, name)
			}
		}
		if len(a.ws.Use.Schemas) == before {
			return diag.Usagef("--schemas: no schema with tables matches %s; the database has: %s", pattern,
				cmp.Or(strings.Join(there, ", "), "none"))
		}
	}
	return nil
}

// rowsFlag lets a command give entities other numbers of rows.
func (a *program) rowsFlag(c *cobra.Command) {
	c.Flags().Var(rowsValue{&a.ws.Use}, "rows", "`ENTITY=N`: so many rows of an entity; repeatable")
}

// rowsValue is the value of --rows.
type rowsValue struct{ use *plan.Use }

// String is empty: nothing is given by default.
func (rowsValue) String() string { return "" }

// Type names what the flag takes.
func (rowsValue) Type() string { return rowsType }

// rowsType names what --rows takes.
const rowsType = "rows"

// Set reads Passenger=10000.
func (v rowsValue) Set(s string) error {
	name, number, ok := strings.Cut(s, "=")
	n, err := strconv.ParseUint(number, 10, 63)
	if !ok || name == "" || err != nil {
		return fmt.Errorf("%s is not ENTITY=N", s)
	}
	if v.use.Rows == nil {
		v.use.Rows = map[string]uint64{}
	}
	v.use.Rows[name] = n
	return nil
}

// printUse says what the use of a plan changes.
func (a *program) printUse(p *plan.Plan) {
	if len(p.Changes) == 0 || a.quiet {
		return
	}
	fmt.Fprintf(a.out, "used with %s:\n", diag.Count(len(p.Changes), "change", "changes"))
	for _, c := range p.Changes {
		fmt.Fprintf(a.out, "  %s: %s -> %s\n", c.Key, c.From, c.To)
	}
}
