package draft

import (
	"iter"
	"slices"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/sources"
	"evensprout/internal/value"
)

// place is a column of a table of the draft.
type place struct {
	table  *Table
	column *schema.Column
}

// common lets columns agree that references bind to each other: where a column belongs
// to two references, both rows that it points to must have the same value there, such as
// that of the tenant whose rows they all are. Columns without a key of their own share a
// few values; if one of them is a key, the others refer to it.
func (d *drafter) common() {
	for _, class := range d.classes() {
		var roots, keys []place
		for _, p := range class {
			switch {
			case slices.ContainsFunc(p.table.Schema.References, func(r schema.Reference) bool {
				i := slices.Index(r.Columns, p.column.Name)
				return i >= 0 && (r.To != p.table.Schema || r.Targets[i] != p.column.Name) // not its own
			}):
			case p.table.Schema.IsKey(p.column.Name):
				keys = append(keys, p)
			default:
				roots = append(roots, p)
			}
		}
		switch {
		case len(keys) == 1 && len(roots) > 0:
			for _, p := range roots {
				if p.column.Kind == keys[0].column.Kind && p.table != keys[0].table {
					p.table.agreed = append(p.table.agreed, schema.Reference{
						Columns: []string{p.column.Name}, Table: keys[0].table.Schema.Name,
						To: keys[0].table.Schema, Targets: []string{keys[0].column.Name},
					})
				}
			}
		case len(keys) == 0 && len(roots) > 1:
			share(roots)
		}
	}
}

// referring are the columns of declared references, each with the one that it refers to.
func (d *drafter) referring() iter.Seq2[place, place] {
	return func(yield func(from, to place) bool) {
		for _, t := range d.tables {
			for _, r := range t.Schema.References {
				to := d.byTable[r.To]
				if to == nil {
					continue
				}
				for i, name := range r.Columns {
					c, target := t.Schema.Column(name), r.To.Column(r.Targets[i])
					if c != nil && target != nil && !yield(place{t, c}, place{to, target}) {
						return
					}
				}
			}
		}
	}
}

// classes are the columns that declared references make equal, in the order of the tables.
func (d *drafter) classes() [][]place {
	up := map[place]place{}
	var find func(p place) place
	find = func(p place) place {
		if q, ok := up[p]; ok && q != p {
			q = find(q)
			up[p] = q
			return q
		}
		return p
	}
	var all []place
	add := func(p place) {
		if _, ok := up[p]; !ok {
			up[p] = p
			all = append(all, p)
		}
	}
	for a, b := range d.referring() {
		add(a)
		add(b)
		up[find(b)] = find(a)
	}
	byRoot := map[place][]place{}
	var order []place
	for _, p := range all {
		root := find(p)
		if byRoot[root] == nil {
			order = append(order, root)
		}
		byRoot[root] = append(byRoot[root], p)
	}

	out := make([][]place, len(order))
	for i, root := range order {
		out[i] = byRoot[root]
	}
	return out
}

// few is how many values columns share that references bind together.
const few = 4

// share gives columns the same few values, if there are some that all of them take.
func share(places []place) {
	first := places[0]
	if k := first.column.Kind; k != schema.Integer && k != schema.Text {
		return
	}
	for _, p := range places {
		if d := p.table.domains[p.column.Name]; d != nil && (d.Only != nil || len(d.opaque) > 0) ||
			p.table.contents().Rows > 0 {
			return
		}
	}

	at := first.table.find(first.column.Name)
	if at == nil {
		return
	}
	for _, s := range first.table.candidates(at, first.table.domain(first.column)) {
		list := takenByAll(places, s)
		if len(list) < 2 {
			continue
		}
		for _, p := range places {
			d := p.table.domain(p.column)
			d.Only, d.why = list, "rows referred to together agree on it"
		}
		return
	}
}

// takenByAll returns the first values of a source that all columns take, at most a few.
func takenByAll(places []place, s Source) []value.Value {
	var list []value.Value
	seen := map[string]bool{}
	for _, v := range sources.Values(s, sources.Probes) {
		all := !slices.ContainsFunc(places, func(p place) bool {
			d := p.table.domain(p.column)
			most := p.table.lengthOf(p.column)
			return !takes(p.column, d, v) || most > 0 && len(v.String()) > most
		})
		if key := strings.TrimSpace(value.Fold(v.String())); all && !v.IsNull() && !seen[key] {
			seen[key] = true
			if list = append(list, v); len(list) == few {
				break
			}
		}
	}
	return list
}
