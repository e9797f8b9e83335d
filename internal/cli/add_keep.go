package cli

import (
	"context"
	"errors"
	"fmt"
	"os"

	"evensprout/internal/addition"
	"evensprout/internal/diag"
	"evensprout/internal/plan"
	"evensprout/internal/safe"
	"evensprout/internal/store"
)

// keptRow is a row that is written into the plan.
type keptRow struct {
	name   string // such as Passenger.lapsed
	file   string
	line   int
	text   []byte                  // of the whole plan, with the row
	was    []byte                  // the plan as it was read
	into   func(plan []byte) error // writes the row into a plan's text
	unsaid []string
}

// save writes the plan with the row. What somebody has saved since the plan was read is kept: the row is written into
// that.
func (k *keptRow) save() error {
	for {
		err := safe.Replace(k.file, k.text, k.was)
		var changed *safe.ChangedError
		if !errors.As(err, &changed) {
			return err
		}
		now, err := safe.ReadFile(k.file, plan.MaxFileBytes)
		if err == nil {
			err = k.into(now)
		}
		if err != nil {
			return err
		}
	}
}

// keepRow makes the plan's text with the row that is added, and checks it.
func (a *program) keepRow(
	ctx context.Context, c *plan.Compiled, s store.Store, r addition.Request, f *addFlags,
) (*keptRow, error) {
	file := c.Plan.File()
	if f.count != 1 || len(f.below) > 0 || f.profile != "" {
		return nil, diag.Usagef("--keep writes one row; --count, --with and --profile cannot be combined with it")
	}
	if _, err := os.Stat(file); err != nil {
		return nil, diag.Usagef("--keep needs a plan in a file; evensprout survey --out evensprout.yaml drafts one")
	}
	p, err := addition.Build(ctx, c, s, r)
	if err != nil {
		return nil, err
	}
	if !plan.IsRowName(f.keep) {
		return nil, diag.Usagef("--keep=%s: not a valid name for a row; use letters, digits and _", f.keep)
	}
	k := &keptRow{name: p.Entity + "." + f.keep, file: file, unsaid: p.Unsaid}
	k.into = func(text []byte) error {
		source, err := plan.Read(file, text)
		if err != nil {
			return err
		}
		k.was = text
		k.text, k.line, err = source.WithGiven(p.Entity, f.keep, p.Given)
		return err
	}
	if err := k.into(c.Plan.Source()); err != nil {
		return nil, diag.Usagef("--keep: %w", err)
	}
	read, err := plan.Read(file, k.text)
	if err == nil {
		var one *plan.Compiled
		one, err = read.Compile(plan.Options{
			Database: c.Database, Rows: a.ws.OpenRows, Existing: existingRows(ctx, s), WithoutUnits: true,
		})
		if err == nil {
			return k, one.Close()
		}
	}
	return nil, fmt.Errorf("--keep: the plan would be wrong with this row, so nothing is added:\n%w", err)
}
