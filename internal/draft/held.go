package draft

import (
	"context"
	"slices"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Contents is what a table holds before anything is loaded.
type Contents struct {
	Rows    uint64
	Highest map[string]int64         // of whole numbers that are the only column of the primary key
	Values  map[string][]value.Value // of the columns of keys, in a small table
}

// heldMost is how many rows of a table are looked at whole.
const heldMost = 1000

// Look reads what the tables hold, as far as it matters for keys.
func Look(ctx context.Context, s store.Store, db *schema.Database) (map[*schema.Table]*Contents, error) {
	out := map[*schema.Table]*Contents{}
	for _, t := range db.Tables {
		n, err := s.Count(ctx, t)
		if err != nil {
			return nil, err
		}
		if n == 0 {
			continue
		}
		h := &Contents{Rows: uint64(n), Highest: map[string]int64{}, Values: map[string][]value.Value{}}
		out[t] = h
		if len(t.PrimaryKey) == 1 {
			c := t.Column(t.PrimaryKey[0])
			err := s.Select(
				ctx,
				store.Query{Table: t, Columns: []*schema.Column{c}, Skip: n - 1, Limit: 1},
				func(row []value.Value) error {
					if row[0].Type == value.Integer {
						h.Highest[c.Name] = row[0].N
					}
					return nil
				},
			)
			if err != nil {
				return nil, err
			}
		}
		if n > heldMost {
			continue
		}
		var columns []*schema.Column
		for _, k := range t.Keys() {
			for _, name := range k.Columns {
				if c := t.Column(name); c != nil && !slices.Contains(columns, c) {
					columns = append(columns, c)
				}
			}
		}
		if len(columns) == 0 {
			continue
		}
		err = s.Select(ctx, store.Query{Table: t, Columns: columns, Limit: heldMost}, func(row []value.Value) error {
			for i, c := range columns {
				h.Values[c.Name] = append(h.Values[c.Name], row[i])
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// contents is what the table holds now.
func (t *Table) contents() *Contents {
	if h := t.d.Held[t.Schema]; h != nil {
		return h
	}
	return &Contents{}
}

// lookups finds tables whose rows are there already and are what others mean: codes and
// classes that the application put in. Their rows are read, not grown.
func (d *drafter) lookups() {
	for _, t := range d.tables {
		h := t.contents()
		if h.Rows == 0 || h.Rows > heldMost || !d.referred(t) {
			continue
		}
		own := false // its key numbers itself, so that it may grow
		if k := t.Schema.PrimaryKey; len(k) == 1 {
			c := t.Schema.Column(k[0])
			own = c.Identity != schema.NoIdentity || c.Default && c.Kind == schema.Integer || c.Kind == schema.UUID
		}
		t.existing = !own || d.namedByConditions(t)
	}
}

// referred reports whether other drafted tables refer to a table.
func (d *drafter) referred(t *Table) bool {
	return slices.ContainsFunc(d.tables, func(o *Table) bool {
		return o != t &&
			slices.ContainsFunc(o.Schema.References, func(r schema.Reference) bool { return r.To == t.Schema })
	})
}

// namedByConditions reports whether conditions on references name rows of a table by their keys.
func (d *drafter) namedByConditions(t *Table) bool {
	for _, o := range d.tables {
		for _, r := range o.Schema.References {
			if r.To != t.Schema {
				continue
			}
			for _, c := range r.Columns {
				if k := o.domains[c]; k != nil && (k.Only != nil || k.Min != nil || k.Max != nil) {
					return true
				}
			}
		}
	}
	return false
}

// beyond is the first number of keys that leaves those alone that are there.
func beyond(highest int64, c *schema.Column) int64 {
	_, most := typeRange(c)
	first := int64(1000)
	for first <= highest && first < most/10 {
		first *= 10
	}
	if first <= highest || first > most/2 {
		return highest + 1
	}
	return first + 1
}

// fresh is a source of a field that leaves values out which are there already, if it
// has so few values that this matters.
func (t *Table) fresh(f *Field, s Source) Source {
	held := t.contents().Values[f.Column.Name]
	const few = 2000
	if len(held) == 0 || s.Space == 0 || s.Space > few || f.lead {
		return s
	}
	used := map[string]bool{}
	for _, v := range held {
		used[strings.TrimSpace(value.Fold(v.String()))] = true
	}
	var left []value.Value
	seen := map[string]bool{}
	for _, v := range values(Source{Text: s.with("unique: true")}, int(s.Space)) {
		key := value.Fold(v.String())
		if !used[key] && !seen[key] {
			seen[key] = true
			left = append(left, v)
		}
	}

	const listed = 100
	if len(left) > listed {
		left = left[:listed]
	}
	if len(left) == 0 {
		return Source{Text: s.Text, Fixed: true}
	}
	return chosen(f.Column, left)
}
