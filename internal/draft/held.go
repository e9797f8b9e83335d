package draft

import (
	"slices"
	"strings"

	"evensprout/internal/habits"
	"evensprout/internal/schema"
	"evensprout/internal/sources"
	"evensprout/internal/value"
)

// contents is what the table holds now.
func (t *Table) contents() *habits.Contents {
	if h := t.d.Held[t.Schema]; h != nil {
		return h
	}
	return &habits.Contents{}
}

// lookups finds tables whose rows are there already and are what others mean: codes and
// classes that the application put in. Their rows are read, not grown.
func (d *drafter) lookups() {
	for _, t := range d.tables {
		h := t.contents()
		if h.Rows == 0 || h.Rows > habits.WholeRows || !d.referred(t) {
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
	for _, v := range sources.Values(Source{Text: s.With("unique: true")}, int(s.Space)) {
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
	return sources.Chosen(f.Column, left)
}
