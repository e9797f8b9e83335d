package cli

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

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
