package plan

import (
	"slices"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/value"
)

// OwnKind is a kind of values that the plan takes from a file.
type OwnKind struct {
	Name   string
	File   string
	Weight string // the column of the weights; empty: all entries are as frequent
	place
	filePlace, weightPlace place
}

const ownKindHint = "kinds: {vessel_name: {file: vessels.txt}}"

// ownKinds reads the kinds of the plan's own.
func (p *Plan) ownKinds(v *node) {
	if !v.mapping {
		p.add(v.place, "kinds must be a mapping of names, got %s", v.what()).Advise(ownKindHint)
		return
	}
	for _, x := range v.pairs {
		k := &OwnKind{Name: x.key.text, place: x.key.place, filePlace: x.value.place}
		p.each(x.value, "a kind", shape{
			"file":   func(_, n *node) { p.text(n, "file", &k.File); k.filePlace = n.place },
			"weight": func(_, n *node) { p.text(n, "weight", &k.Weight); k.weightPlace = n.place },
		})
		if x.value.mapping && k.File == "" && x.value.get("file") == nil {
			p.add(k.place, "the kind %s names no file", k.Name).Advise(ownKindHint)
		}
		p.Kinds = append(p.Kinds, k)
	}
}

// KindFiles are the files of the plan's kinds, seen from the current folder.
func (p *Plan) KindFiles() []string {
	var out []string
	for _, k := range p.Kinds {
		if k.File != "" {
			out = append(out, p.pathOf(k.File))
		}
	}
	return out
}

// declares reports whether the plan has a kind of that name, whether or not it can be used.
func (c *compiler) declares(name string) bool {
	return slices.ContainsFunc(c.plan.Kinds, func(k *OwnKind) bool { return k.Name == name })
}

// ownKinds reads the files of the plan's kinds.
func (c *compiler) ownKinds() {
	c.lists = map[string]*grow.List{}
	for _, k := range c.plan.Kinds {
		if k.File == "" {
			continue
		}
		if c.openFile == nil {
			c.add(k.filePlace, "files cannot be read here")
			continue
		}
		c.out.Inputs = append(c.out.Inputs, c.pathOf(k.File))
		if list := c.readList(k); list != nil {
			c.lists[k.Name] = list
		}
	}
}

// readList reads the file of a kind; nil after adding a problem.
func (c *compiler) readList(k *OwnKind) *grow.List {
	path := c.pathOf(k.File)
	rows, problems := c.openFile(FileSpec{Path: path, Entity: k.Name})
	c.fileProblems(problems, path, k.File, k.filePlace)
	if rows == nil {
		return nil
	}
	defer rows.Close()
	if rows.Len() > grow.MaxEntries {
		c.add(k.filePlace, "%s has more than %d entries", k.File, grow.MaxEntries)
		return nil
	}
	parts, weights, ok := c.listParts(k, rows)
	if !ok {
		return nil
	}
	list, err := grow.NewList(k.Name, parts, weights)
	if err != nil {
		c.add(k.filePlace, "%s: %s", k.File, err)
		return nil
	}
	return list
}

// listParts reads the columns of the file of a kind: its parts, and the weights of its entries.
func (c *compiler) listParts(k *OwnKind, rows FileRows) (parts []grow.ListPart, weights []uint64, ok bool) {
	names := rows.Names()
	weightAt := -1
	if k.Weight != "" {
		if weightAt = slices.Index(names, k.Weight); weightAt < 0 {
			c.add(k.weightPlace, "%s has no column %s", k.File, k.Weight).Nearest(k.Weight, names)
			return nil, nil, false
		}
	}
	for i, name := range names {
		if i == weightAt {
			continue
		}
		typ, scale := rows.Type(i)
		parts = append(parts, grow.ListPart{Name: name, Type: typ, Scale: scale})
	}
	if len(parts) == 0 {
		c.add(k.weightPlace, "%s has no column beside %s", k.File, k.Weight)
		return nil, nil, false
	}
	reader := rows.Reader()
	defer reader.Close()
	for n := range rows.Len() {
		cells, err := reader.Row(n)
		if err != nil {
			c.add(k.filePlace, "%s: %s", k.File, err)
			return nil, nil, false
		}
		next := 0
		for i, v := range cells {
			if i != weightAt {
				v = rescaled(v, parts[next].Type, parts[next].Scale)
				parts[next].Values = append(parts[next].Values, v)
				next++
				continue
			}
			_, scale := rows.Type(i)
			weight := rescaled(v, value.Decimal, scale)
			if weight.Type != value.Decimal || weight.N < 0 || weight.N > grow.MaxWeight {
				c.entryProblem(k, rows, n, "the weight must be a number between 0 and "+
					diag.Number(int64(grow.MaxWeight)))
				return nil, nil, false
			}
			weights = append(weights, uint64(weight.N))
		}
		if len(parts) == 1 && parts[0].Values[n].IsNull() {
			c.entryProblem(k, rows, n, "the entry is empty")
			return nil, nil, false
		}
	}
	return parts, weights, true
}

// rescaled is a number with the scale of its column.
func rescaled(v value.Value, typ value.Type, scale uint8) value.Value {
	if typ != value.Decimal || v.Type != value.Integer && v.Type != value.Decimal {
		return v
	}
	if r, ok := v.Rescale(scale); ok {
		r.Type = value.Decimal
		return r
	}
	return v
}

// entryProblem adds a problem at an entry of a file.
func (c *compiler) entryProblem(k *OwnKind, rows FileRows, n uint64, message string) {
	file, line := rows.Place(n)
	c.plan.collector.found = append(c.plan.collector.found,
		&diag.Problem{File: file, Line: line, Column: 1, Message: k.Name + ": " + message})
}

// ownKind makes a field's values of a kind of the plan's own, which comes before a kind of the catalog: a newer
// program may have a kind of that name. The list is nil if it could not be read, which is reported already.
func (c *compiler) ownKind(f *field, name string, list *grow.List) grow.Source {
	at := f.decl.source.place
	if list == nil {
		return nil
	}
	for arg, n := range f.decl.args {
		c.add(n.place, "the kind %s has no parameter %s", name, arg)
		return nil
	}
	if len(list.Parts) > 1 && !f.decl.inner {
		c.add(at, "%s has parts: declare it once and use its parts", name).
			Advise("add shared: {it: {kind: %s}} beside fields, and use {from: it.%s} in a field", name,
				list.Parts[0].Name)
		return nil
	}
	src, err := list.Source()
	return c.fault(at, src, err)
}
