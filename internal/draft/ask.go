package draft

import (
	"context"
	"fmt"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
)

const askedMost = 200 // values that the database is asked about

// ask lets the database say which values of some sources meet the conditions that only
// it can compute, and keeps to those.
func (t *Table) ask(ctx context.Context, f *Field, d *domain, candidates []Source) error {
	c := f.Column
	if t.d.Probe == nil {
		if f.Source.Text == "" && len(candidates) > 0 {
			f.Source = candidates[0]
		}
		t.Notes = append(t.Notes, fmt.Sprintf("the database was not asked whether values of %s meet: %s", c.Name, d.opaque[0].Text))
		return nil
	}
	for _, s := range candidates {
		list := values(s, probes)
		var good []grow.Value
		for _, v := range list {
			if takes(c, d, v) {
				good = append(good, v)
			}
		}
		if len(good) == 0 {
			continue
		}
		for _, k := range d.opaque {
			pass, err := t.d.Probe(ctx, t.Schema, c, k.Text, good)
			if err != nil {
				return err
			}
			var left []grow.Value
			for i, v := range good {
				if pass[i] {
					left = append(left, v)
				}
			}
			good = left
		}
		switch {
		case len(good) == len(list):
			f.Source, f.Comment = s, "the database takes it: CHECK ("+d.opaque[0].Text+")"
			return nil
		case len(good) > 0:
			f.Source, f.Comment = chosen(c, good), "those that the database takes: CHECK ("+d.opaque[0].Text+")"
			return nil
		}
	}
	if !c.NotNull {
		f.null("the database takes none of the values tried: CHECK (" + d.opaque[0].Text + ")")
		return nil
	}
	t.leave(fmt.Sprintf("no value is known that meets CHECK (%s)", d.opaque[0].Text))
	return nil
}

// Prober lets the database say which values of a column meet a condition, in which the
// column may be called VALUE.
type Prober func(ctx context.Context, t *schema.Table, c *schema.Column, condition string, values []grow.Value) ([]bool, error)
