package draft

import (
	"slices"
	"strings"

	"evensprout/internal/lexicon"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// guessReferences proposes references that no constraint declares: user_id beside a
// table users, if the types agree and no circle comes of it.
func (d *drafter) guessReferences() {
	callings := d.callings()
	for _, t := range d.tables {
		if t.existing {
			continue
		}
		for _, f := range t.Fields {
			if r := t.implied(f); r != nil {
				t.refs = append(t.refs, r)
				f.Comment = "guess: rows that refer to both agree on it"
				continue
			}
			ofIt := func(r *reference) bool { return slices.Contains(r.Columns, f.Column.Name) }
			if t.without(f.Column.Name) || t.domains[f.Column.Name] != nil || slices.ContainsFunc(t.refs, ofIt) {
				continue
			}
			said := d.Refers[f.Column]
			to := d.meantBy(callings, t, f.Column)
			if said != nil {
				to = d.byTable[said.To]
			}
			if to == nil || to.existing && to.contents().Rows == 0 || d.reachesFamily(to.head(), t.head()) {
				continue
			}
			r := &reference{from: t, to: to.Schema, guessed: true, Reference: &schema.Reference{
				Columns: []string{f.Column.Name}, Table: to.Schema.Name, To: to.Schema, Targets: to.Schema.PrimaryKey,
			}}
			f.Comment = "guess: no constraint says so"
			if said != nil {
				r.Reference, f.Comment = said, "no constraint says so, but the entity"
			}
			t.refs = append(t.refs, r)
		}
	}
}

// implied is a reference that no constraint declares, but others rest on; nil if there
// is none, or it would lead in a circle.
func (t *Table) implied(f *Field) *reference {
	for i := range t.agreed {
		r := &t.agreed[i]
		to := t.d.byTable[r.To]
		if r.Columns[0] != f.Column.Name || to == nil ||
			slices.ContainsFunc(t.refs, func(o *reference) bool { return slices.Contains(o.Columns, f.Column.Name) }) {
			continue
		}
		if t.d.reachesFamily(to.head(), t.head()) {
			if key := to.find(r.Targets[0]); key != nil && key.Column.Kind == schema.Integer && to.counted(key) {
				d := t.domain(f.Column) // the first of the keys that the other table has
				for n := range int64(few) {
					d.Only = append(d.Only, value.Int(n+1))
				}
				d.why = "rows referred to together agree on it"
			}
			continue
		}
		return &reference{from: t, to: r.To, guessed: true, Reference: r}
	}
	return nil
}

// counted reports whether the keys of a table are numbered from 1.
func (t *Table) counted(key *Field) bool {
	return len(t.Schema.PrimaryKey) == 1 && t.Schema.PrimaryKey[0] == key.Column.Name && t.contents().Rows == 0 &&
		t.domains[key.Column.Name] == nil &&
		key.ref == nil
}

// meantBy is the table whose rows a column seems to refer to, or nil.
func (d *drafter) meantBy(callings map[string][]*Table, t *Table, c *schema.Column) *Table {
	list := lexicon.Words(c.Name)
	if len(list) < 2 {
		return nil
	}
	if last := strings.ToLower(list[len(list)-1]); last != "id" && last != "uuid" && last != "guid" {
		return nil
	}
	list = list[:len(list)-1]
	for from := range list { // billing_user_id: billing_user, then user
		name := schema.Plain(strings.Join(list[from:], ""))
		var found *Table
		for _, o := range callings[name] {
			if o == t || !d.suits(c, o) || len(o.Schema.Triggers) > 0 { // which may refuse its rows
				continue
			}
			if found != nil {
				return nil
			}
			found = o
		}
		if found != nil {
			return found
		}
	}
	return nil
}

// callings are the tables by what they are called: by a word, in one or many, maybe behind
// the prefix of the application's tables.
func (d *drafter) callings() map[string][]*Table {
	prefixes := map[string]int{}
	for _, t := range d.tables {
		if list := lexicon.Words(t.Schema.LocalName()); len(list) > 1 {
			prefixes[strings.ToLower(list[0])]++
		}
	}
	out := map[string][]*Table{}
	for _, t := range d.tables {
		list := lexicon.Words(t.Schema.LocalName())
		for from := 0; from < min(len(list), 2); from++ {
			if from == 1 && 2*prefixes[strings.ToLower(list[0])] < len(d.tables) {
				break // not half of the tables have it
			}
			rest := strings.Join(list[from:], "_")
			for _, name := range []string{schema.Plain(rest), schema.Plain(plan.EntityName(rest))} {
				if !slices.Contains(out[name], t) {
					out[name] = append(out[name], t)
				}
			}
		}
	}
	return out
}

// suits reports whether a column could hold the keys of a table.
func (d *drafter) suits(c *schema.Column, to *Table) bool {
	if len(to.Schema.PrimaryKey) != 1 {
		return false
	}
	k := to.Schema.Column(to.Schema.PrimaryKey[0])
	switch {
	case c.Kind != k.Kind || c.Kind != schema.Integer && c.Kind != schema.UUID && c.Kind != schema.Text:
		return false
	case c.Kind == schema.Integer:
		_, most := typeRange(c)
		_, keys := typeRange(k)
		return most >= min(keys, 1<<30)
	case c.Kind == schema.Text:
		return c.Length == 0 || k.Length > 0 && c.Length >= k.Length
	}
	return true
}

// reachesFamily reports whether references lead from one family to another, or to itself.
func (d *drafter) reachesFamily(from, to *Table) bool {
	seen := map[*Table]bool{}
	var walk func(h *Table) bool
	walk = func(h *Table) bool {
		if h == to {
			return true
		}
		if seen[h] {
			return false
		}
		seen[h] = true
		for _, t := range d.tables {
			if t.head() != h {
				continue
			}
			for _, r := range t.refs {
				if n := r.known(); n != nil && r != t.parent && r.to != t.Schema && walk(n.head()) {
					return true
				}
			}
		}
		return false
	}
	return walk(from)
}
