package draft

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/predicate"
	"evensprout/internal/schema"
	"evensprout/internal/sources"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// ask lets the database say which values of some sources meet the conditions that only
// it can compute, and keeps to those.
func (t *Table) ask(ctx context.Context, f *Field, d *domain, candidates []Source) error {
	before, err := *f, error(&store.NotAsked{})
	if t.d.Probe != nil {
		err = t.asked(ctx, f, d, candidates)
	}
	var refused *store.NotAsked
	if !errors.As(err, &refused) {
		return err
	}
	*f = before
	if f.Source.Text == "" && len(candidates) > 0 {
		f.Source = candidates[0]
	}
	t.Notes = append(t.Notes, notAsked("values of "+f.Column.Name, d.opaque[0], refused))
	return nil
}

// notAsked is the comment on a field whose condition the database was not asked about.
func notAsked(what, condition string, e *store.NotAsked) string {
	note := "the database did not test whether " + what + " meet this condition: " + condition
	if e.Why != "" {
		note += " (" + e.Why + ")"
	}
	return note
}

// asked finds a source for a column whose conditions cannot be read: the database says which
// values it takes.
func (t *Table) asked(ctx context.Context, f *Field, d *domain, candidates []Source) error {
	c := f.Column
	tries := t.tried(f, d, candidates)
	if f.Nulls { // some conditions are false of NULL
		good, err := t.taken(ctx, c, d, []value.Value{{}})
		if err != nil {
			return err
		}
		f.Nulls = len(good) > 0
	}
	var some []value.Value // of the first source of which the database takes some
	for _, s := range tries {
		list := sources.Values(s, sources.Probes)
		good, err := t.taken(ctx, c, d, list)
		if err != nil {
			return err
		}
		if len(good) > 0 && len(good) == len(list) {
			f.Source, f.Comment = s, "the database accepts it: CHECK ("+d.opaque[0]+")"
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
		f.Source, f.Comment = sources.Chosen(c, some), "the values that the database accepts: CHECK ("+d.opaque[0]+")"
		return nil
	}

	if !c.NotNull {
		f.null("the database accepts none of the values tried: CHECK (" + d.opaque[0] + ")")
		return nil
	}
	t.leave(fmt.Sprintf("no value is known that satisfies CHECK (%s)", d.opaque[0]))
	return nil
}

// tried returns the sources whose values a database is asked about, the best first.
func (t *Table) tried(f *Field, d *domain, candidates []Source) []Source {
	tries := candidates
	if t.inKey(f) {
		f.Source = Source{}
		tries = append(t.wider(f, Source{}, d), candidates...)
	}
	switch f.Column.Kind {
	case schema.Text:
		return append(slices.Clone(tries), sources.Written(f.Column)...)
	case schema.JSON:
		return append(slices.Clone(tries), sources.Objects(d.opaque)...)
	}
	return tries
}

// taken are the values that meet all conditions of a column.
func (t *Table) taken(ctx context.Context, c *schema.Column, d *domain, list []value.Value) ([]value.Value, error) {
	good := slices.DeleteFunc(slices.Clone(list), func(v value.Value) bool { return !takes(c, d, v) })
	for _, k := range d.opaque {
		if len(good) == 0 {
			break
		}
		rows := make([][]value.Value, len(good))
		for i, v := range good {
			rows[i] = []value.Value{v}
		}
		pass, err := t.d.Probe(ctx, []*schema.Column{c}, k, rows)
		if err != nil {
			return nil, err
		}
		var left []value.Value
		for i, v := range good {
			if pass[i] {
				left = append(left, v)
			}
		}
		good = left
	}
	return good, nil
}

// inKey reports whether a field is part of a unique key.
func (t *Table) inKey(f *Field) bool {
	return slices.ContainsFunc(
		t.Schema.Keys(),
		func(k schema.Unique) bool { return slices.Contains(k.Columns, f.Column.Name) },
	)
}

// askTogether does the same with conditions over several columns: if the database does
// not take what the fields grow by themselves, they all keep to one row that it takes.
func (t *Table) askTogether(ctx context.Context) error {
	for _, k := range t.together {
		note := func() {
			t.Notes = append(t.Notes, "only the database can test whether rows meet: "+k)
		}
		n, err := predicate.Parse(k)
		if err != nil || t.d.Probe == nil {
			note()
			continue
		}
		var fields []*Field
		var columns []*schema.Column
		free := true
		for _, name := range n.Columns() {
			f := t.find(name)
			if f == nil || f.ref != nil || f.unsaid || t.inKey(f) || f.Source.Text == "" ||
				strings.HasPrefix(f.Source.Text, "{after") {
				free = false
				break
			}
			fields, columns = append(fields, f), append(columns, f.Column)
		}
		if !free || len(fields) == 0 {
			note()
			continue
		}
		rows := make([][]value.Value, sources.Probes)
		for i := range rows {
			rows[i] = make([]value.Value, len(fields))
		}
		for j, f := range fields {
			for i, v := range sources.Values(f.Source, sources.Probes) {
				rows[(i*(2*j+1))%sources.Probes][j] = v // in another order for each
			}
		}
		pass, err := t.d.Probe(ctx, columns, k, rows)
		var refused *store.NotAsked
		if errors.As(err, &refused) {
			t.Notes = append(t.Notes, notAsked("rows", k, refused))
			continue
		}
		if err != nil {
			return err
		}
		at := slices.Index(pass, true)
		switch {
		case !slices.Contains(pass, false):
			t.Notes = append(t.Notes, "the database accepts such rows: CHECK ("+k+")")
		case at >= 0:
			for j, f := range fields {
				if rows[at][j].IsNull() {
					continue
				}
				f.Source, f.Nulls = sources.Chosen(f.Column, rows[at][j:j+1]), false
				f.Comment = "a row that the database accepts: CHECK (" + k + ")"
			}
		default:
			t.leave("no row is known that satisfies CHECK (" + k + ")")
			return nil
		}
	}
	return nil
}

// Prober lets the database say which rows of values of some columns meet a condition, in
// which a single column may be called VALUE. A *store.NotAsked says why it was not asked.
type Prober func(ctx context.Context, columns []*schema.Column, condition string, rows [][]value.Value) ([]bool, error)
