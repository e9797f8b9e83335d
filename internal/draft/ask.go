package draft

import (
	"context"
	"fmt"
	"slices"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
)

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
	sources := candidates
	if t.inKey(f) {
		f.Source = Source{}
		sources = append(t.wider(f, Source{}, d), candidates...)
	}
	var some []grow.Value // of the first source of which the database takes some
	for _, s := range sources {
		list := values(s, probes)
		good, err := t.taken(ctx, c, d, list)
		if err != nil {
			return err
		}
		if len(good) > 0 && len(good) == len(list) {
			f.Source, f.Comment = s, "the database takes it: CHECK ("+d.opaque[0].Text+")"
			return nil
		}
		if some == nil && len(good) > 0 {
			some = good
		}
	}
	if some != nil {
		const listed = 24
		if !t.inKey(f) && len(some) > listed {
			some = some[:listed]
		}
		f.Source, f.Comment = chosen(c, some), "those that the database takes: CHECK ("+d.opaque[0].Text+")"
		return nil
	}
	if !c.NotNull {
		f.null("the database takes none of the values tried: CHECK (" + d.opaque[0].Text + ")")
		return nil
	}
	t.leave(fmt.Sprintf("no value is known that meets CHECK (%s)", d.opaque[0].Text))
	return nil
}

// taken are the values that meet all conditions of a column.
func (t *Table) taken(ctx context.Context, c *schema.Column, d *domain, list []grow.Value) ([]grow.Value, error) {
	good := slices.DeleteFunc(slices.Clone(list), func(v grow.Value) bool { return !takes(c, d, v) })
	for _, k := range d.opaque {
		if len(good) == 0 {
			break
		}
		pass, err := t.d.Probe(ctx, c, k.Text, good)
		if err != nil {
			return nil, err
		}
		var left []grow.Value
		for i, v := range good {
			if pass[i] {
				left = append(left, v)
			}
		}
		good = left
	}
	return good, nil
}

// inKey tells whether a field is part of a unique key.
func (t *Table) inKey(f *Field) bool {
	return slices.ContainsFunc(t.Schema.Keys(), func(k schema.Unique) bool { return slices.Contains(k.Columns, f.Column.Name) })
}

// Prober lets the database say which values of a column meet a condition, in which the
// column may be called VALUE.
type Prober func(ctx context.Context, c *schema.Column, condition string, values []grow.Value) ([]bool, error)
