package plan

import (
	"path/filepath"
	"slices"
	"strings"

	"evensprout/internal/cell"
	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/value"
)

// RowsFrom says that an entity's rows stand in a file.
type RowsFrom struct {
	File       string
	Separator  string // of CSV; empty if plain
	Sheet      string // of XLSX; empty for the first
	Encoding   string // of text; empty: UTF-8
	Inside     string // of JSON: the lists that hold the rows, such as Order.Line; empty: the document is one
	Decimal    string // how numbers are written: point or comma; empty: a point, and no groups
	Dates      string // how dates are written, such as d.m.y; empty: ISO 8601
	Duplicates string // which of several rows with one key counts: first, last, or empty: none may be
	Key        []string
	Columns    []*FileColumn
	Same       bool     // all columns of the file that the table has go into these
	GroupBy    []string // fields: rows that agree in them are one, with a list of them
	List       string   // what the list of the rows of a group is called
	Manifest   string   // of the export that wrote the file; empty if none did
	place
	filePlace place
}

// FileColumn maps a column of the file to a field.
type FileColumn struct {
	Field  string
	Column string     // its name in the file
	As     value.Type // Null: by its looks
	Find   string     // the field of the entity Of whose value it holds
	Of     string
	Into   string      // the column of the table; empty: found by the name of the field
	Hidden bool        // a key that the plan does not mention
	also   *FileColumn // the column of the same reference that comes first; nil if this is it
	place
}

// FileSpec is what a reader of rows is asked for.
type FileSpec struct {
	Path       string // seen from the current folder
	Separator  string
	Sheet      string
	Encoding   string
	Inside     string
	Decimal    string
	Dates      string
	Columns    []*FileColumn // empty: all that the file names
	Key        []int         // of Columns
	GroupBy    []int         // of Columns: the rows are these, and a list as the last column
	Duplicates string
	Manifest   string // seen from the current folder; empty if there is none
	Entity     string // whose rows they are
}

// FileRows is rows of a file, read and typed.
type FileRows interface {
	grow.Table
	// Names are the names of the columns.
	Names() []string
	// Type is the type of a column, Null if it is empty throughout, and of decimals
	// the digits after the point.
	Type(column int) (value.Type, uint8)
	// Misfits are the first cells of a column that are not of a type.
	Misfits(column int, t value.Type) diag.Problems
	// Place is where a row stands.
	Place(n uint64) (file string, line int)
	Close() error
}

// Close releases the files that rows are read from.
func (c *Compiled) Close() error {
	for _, f := range c.files {
		if err := f.Close(); err != nil {
			return err
		}
	}
	for _, do := range c.closing {
		if err := do(); err != nil {
			return err
		}
	}
	c.files, c.closing = nil, nil
	return nil
}

// OnClose adds something to be done once the files are closed.
func (c *Compiled) OnClose(do func() error) { c.closing = append(c.closing, do) }

// rowTypes are the words for types in columns.
var rowTypes = map[string]value.Type{
	"integer": value.Integer, "decimal": value.Decimal, "text": value.Text, "boolean": value.Boolean,
	"bytes": value.Bytes, "date": value.Date, "time": value.Time,
	"timestamp": value.Timestamp, "uuid": value.UUID, "json": value.JSON,
}

// rowsFrom reads rows_from.
func (p *Plan) rowsFrom(e *Entity, v *node) {
	r := &RowsFrom{place: v.place, filePlace: v.place}
	e.RowsFrom = r
	if !v.mapping {
		p.add(v.place, "rows_from must be a mapping, got %s", v.what()).Advise(rowsFromHint)
		return
	}
	before := len(p.collector.found)
	p.each(v, "rows_from", shape{
		"file":      func(_, n *node) { p.text(n, "file", &r.File); r.filePlace = n.place },
		"separator": func(_, n *node) { p.text(n, "separator", &r.Separator) },
		"sheet":     func(_, n *node) { p.text(n, "sheet", &r.Sheet) },
		"inside":    func(_, n *node) { p.text(n, "inside", &r.Inside) },
		"encoding":  func(_, n *node) { p.text(n, "encoding", &r.Encoding) },
		"decimal":   func(_, n *node) { p.oneOf(n, "decimal", &r.Decimal, cell.Decimals) },
		"dates":     func(_, n *node) { p.oneOf(n, "dates", &r.Dates, cell.DateForms) },
		"duplicates": func(_, n *node) {
			if p.text(n, "duplicates", &r.Duplicates) && !slices.Contains([]string{"first", "last"}, r.Duplicates) {
				p.add(n.place, "duplicates must be first or last, got %s", n.what())
			}
		},
		"key":      func(_, n *node) { r.Key = p.names(n, "key") },
		"group_by": func(_, n *node) { r.GroupBy = p.names(n, "group_by") },
		"list": func(_, n *node) {
			if p.text(n, "list", &r.List) && !IsFieldName(r.List) {
				p.add(n.place, "%q is not a valid name for a list", r.List).Advise("such as list: lines")
			}
		},
		"columns":  func(_, n *node) { p.fileColumns(r, n) },
		"manifest": func(_, n *node) { p.text(n, "manifest", &r.Manifest) },
	})
	if len(p.collector.found) > before {
		return // a word misspelled is not also a word missing
	}
	if r.File == "" {
		p.add(v.place, "rows_from names no file").Advise(rowsFromHint)
	}
	if len(r.Columns) == 0 && !r.Same {
		p.add(v.place, "rows_from has no columns").
			Advise("such as columns: {code: Code}, which reads the field code from the column Code")
	}
	p.groups(r, v)
	if r.Duplicates != "" && len(r.Key) == 0 {
		p.add(v.place, "duplicates needs a key: the fields that identify a row").Advise("key: [code]")
	}
}

// groups checks how rows are dealt into lists.
func (p *Plan) groups(r *RowsFrom, v *node) {
	switch {
	case len(r.GroupBy) > 0 && len(r.Key) > 0:
		p.add(v.place, "key and group_by cannot be combined: what rows are grouped by identifies a group")
	case len(r.GroupBy) > 0 && r.List == "":
		r.List = "lines"
	case len(r.GroupBy) == 0 && r.List != "":
		p.add(v.place, "list needs group_by: the fields in which the rows of a list agree").Advise("group_by: [order]")
	}
}

const rowsFromHint = "rows_from: {file: prices.csv, columns: {code: Code}}"

// fileColumns reads the mapping of fields to columns: a name, or {column:, as:, find:}.
func (p *Plan) fileColumns(r *RowsFrom, v *node) {
	if r.Same = v.scalar() && v.text == "same"; r.Same {
		return
	}
	if !v.mapping {
		p.add(v.place, "columns must be a mapping of fields to columns of the file, got %s", v.what()).
			Advise("columns: {code: Code, sailing: {column: Sailing, find: Sailing.code}}, or columns: same")
		return
	}
	for _, x := range v.pairs {
		c := &FileColumn{Field: x.key.text, Column: x.key.text, place: x.key.place}
		r.Columns = append(r.Columns, c)
		if x.value.scalar() {
			c.Column = x.value.text
			continue
		}
		p.each(x.value, "a column", shape{
			"column": func(_, n *node) { p.text(n, "column", &c.Column) },
			"into":   func(_, n *node) { p.text(n, "into", &c.Into) },
			"hidden": func(_, n *node) { c.Hidden = p.yes(n, "hidden") },
			"as": func(_, n *node) {
				t, ok := rowTypes[n.text]
				if !ok {
					p.add(n.place, "%s is not a type of a column", n.what()).Nearest(n.text, keysOf(rowTypes))
				}
				c.As = t
			},
			"find": func(_, n *node) {
				if n.mapping {
					p.findSeveral(r, c, n)
					return
				}
				var path string
				if p.text(n, "find", &path) {
					var dotted bool
					if c.Of, c.Find, dotted = strings.Cut(path, "."); !dotted {
						p.add(n.place, "find must name an entity and its field, got %s", n.what()).
							Advise("find: Sailing.code")
					}
				}
			},
		})
	}
}

// findSeveral reads {Sailing: {code: Code, day: Day}}: fields of the entity, and the
// columns of the file that hold their values.
func (p *Plan) findSeveral(r *RowsFrom, c *FileColumn, n *node) {
	const hint = "find: {Sailing: {code: Code, day: Day}}: fields of the entity, and the columns that hold their values"
	if len(n.pairs) != 1 || !n.pairs[0].value.mapping || len(n.pairs[0].value.pairs) == 0 {
		p.add(n.place, "find must name one entity and some of its fields, got %s", n.what()).Advise(hint)
		return
	}
	for i, x := range n.pairs[0].value.pairs {
		part := c
		if i > 0 {
			part = &FileColumn{Field: c.Field + " by " + x.key.text, also: c, place: x.key.place}
			r.Columns = append(r.Columns, part)
		}
		part.Of, part.Find = n.pairs[0].key.text, x.key.text
		p.text(x.value, "a column", &part.Column)
	}
}

// The word of a field whose values stand in the file.
const wordStored = "stored"

// openRows opens an entity's file and makes its fields.
func (c *compiler) openRows(e *entity) {
	r := e.decl.RowsFrom
	if r == nil {
		return
	}
	rows, key := c.readRows(e, r)
	if rows == nil {
		// Others may name the fields: what is wrong is told.
		for _, col := range r.Columns {
			c.newField(e, &Field{Name: col.Field, word: wordStored, place: col.place}).state = failed
		}
		return
	}

	c.out.files = append(c.out.files, rows)
	if !e.occasion {
		c.out.Inputs = append(c.out.Inputs, c.pathOf(r.File))
		if r.Manifest != "" {
			c.out.Inputs = append(c.out.Inputs, c.pathOf(r.Manifest))
		}
	}

	e.rowFile = rows
	e.grow.Table, e.grow.TableKey = rows, key
	columns := r.Columns
	if len(r.GroupBy) > 0 {
		columns = r.ofGroups()
	}
	for i, col := range columns {
		typ, scale := rows.Type(i)
		d := &Field{Name: col.Field, Column: col.Into, columnPlace: col.place, word: wordStored, place: col.place}
		if col.Find != "" {
			d.Name, d.Column, d.inner = col.Field+" in the file", "", true
		}
		f := c.newField(e, d)
		f.grow.Source, f.state, f.fileColumn = grow.Stored(i, typ, scale), compiled, i
		f.grow.Hidden = col.Hidden
		switch {
		case col.also != nil:
			of := e.byName[col.also.Field]
			of.finds.columns, of.finds.of = append(of.finds.columns, col), append(of.finds.of, f)
		case col.Find != "":
			ref := c.newField(
				e,
				&Field{Name: col.Field, Column: col.Into, columnPlace: col.place, word: "find", place: col.place},
			)
			ref.finds = &finding{[]*FileColumn{col}, []*field{f}}
		}
	}
}

// readRows opens the file and tells what is wrong with it; the rows are nil if they
// cannot be used. The key is places among the columns.
func (c *compiler) readRows(e *entity, r *RowsFrom) (FileRows, []int) {
	if r.File == "" || len(r.Columns) == 0 && !r.Same {
		return nil, nil // told by the reader of the plan
	}
	if c.openFile == nil {
		c.add(r.place, "rows from files cannot be read here")
		return nil, nil
	}
	spec := FileSpec{
		Entity:     e.decl.Name,
		Path:       c.pathOf(r.File),
		Separator:  r.Separator,
		Sheet:      r.Sheet,
		Encoding:   r.Encoding,
		Inside:     r.Inside,
		Decimal:    r.Decimal,
		Dates:      r.Dates,
		Columns:    r.Columns,
		Duplicates: r.Duplicates,
	}
	if r.Manifest != "" {
		spec.Manifest = c.pathOf(r.Manifest)
	}
	if r.Same {
		if !c.sameColumns(e, r, spec) {
			return nil, nil
		}
		spec.Columns = r.Columns
	}
	var ok bool
	if spec.Key, ok = c.placesOf(r, r.Key, "the key"); !ok {
		return nil, nil
	}
	if spec.GroupBy, ok = c.placesOf(r, r.GroupBy, "group_by:"); !ok {
		return nil, nil
	}
	for i, col := range r.Columns {
		if len(r.GroupBy) > 0 && col.Find != "" && !slices.Contains(spec.GroupBy, i) {
			c.add(col.place, "%s is in the list %s, so it cannot find a row", col.Field, r.List).
				Advise("look the row up in the loop: - find: %s, match: {%s: ...}", col.Of, col.Find)
			return nil, nil
		}
	}

	rows, problems := c.openFile(spec)
	c.fileProblems(problems, spec.Path, r.File, r.filePlace)
	return rows, spec.Key
}

// placesOf finds fields among those of the file's columns.
func (c *compiler) placesOf(r *RowsFrom, names []string, what string) (places []int, ok bool) {
	for _, name := range names {
		i := slices.IndexFunc(r.Columns, func(x *FileColumn) bool { return x.Field == name })
		if i < 0 {
			c.add(r.place, "%s %s is not a column of the file", what, name).Nearest(name, fieldsOf(r.Columns))
			return nil, false
		}
		places = append(places, i)
	}
	return places, true
}

// ofGroups are the columns of groups: those that they are known by, and the list.
func (r *RowsFrom) ofGroups() []*FileColumn {
	var out []*FileColumn
	for _, name := range r.GroupBy {
		i := slices.IndexFunc(r.Columns, func(x *FileColumn) bool { return x.Field == name })
		out = append(out, r.Columns[i])
	}
	return append(out, &FileColumn{Field: r.List, As: value.JSON, place: r.place})
}

// oneOf reads one of several words.
func (p *Plan) oneOf(n *node, what string, into *string, words []string) {
	if p.text(n, what, into) && !slices.Contains(words, *into) {
		p.add(n.place, "%s must be one of %s, got %s", what, strings.Join(words, ", "), n.what()).Nearest(*into, words)
		*into = ""
	}
}

// names reads a name, or a list of them.
func (p *Plan) names(n *node, what string) []string {
	items := n.items
	if !n.list {
		items = []*node{n}
	}
	var names []string
	for _, x := range items {
		var name string
		if p.text(x, what, &name) {
			names = append(names, name)
		}
	}
	return names
}

// sameColumns takes the columns of a file that are called like columns of the table or, without a database, like
// fields; false if there is none.
func (c *compiler) sameColumns(e *entity, r *RowsFrom, spec FileSpec) bool {
	spec.Columns, spec.Key = nil, nil
	rows, problems := c.openFile(spec)
	c.fileProblems(problems, spec.Path, r.File, r.filePlace)
	if rows == nil {
		return false
	}
	r.Columns = nil
	for _, name := range rows.Names() {
		field := name
		if e.table != nil {
			column := e.table.ByConvention(name)
			if column == nil || column.Generated {
				continue
			}
			if !IsFieldName(name) {
				field = column.Name
			}
		}
		if !IsFieldName(field) {
			continue
		}
		r.Columns = append(r.Columns, &FileColumn{Field: field, Column: name, place: r.place})
	}
	if err := rows.Close(); err != nil || len(r.Columns) == 0 {
		c.add(r.place, "%s has no column that is called like one of %s", r.File, e.decl.Name).
			Advise("name them: columns: {code: Code}")
		return false
	}
	return true
}

// fileProblems adds what is wrong with a file. What is about the file as a whole is reported where the plan
// names it.
func (c *compiler) fileProblems(problems diag.Problems, path, name string, at place) {
	for _, p := range problems {
		if p.Line == 0 && p.File == path {
			c.add(at, "%s: %s", name, p.Message).Advise("%s", p.Hint)
			continue
		}
		c.plan.collector.found = append(c.plan.collector.found, p)
	}
}

// pathOf is where a file is, seen from the current folder.
func (p *Plan) pathOf(file string) string {
	if filepath.IsAbs(file) {
		return file
	}
	return filepath.Join(p.Folder(), file)
}

// pathOf returns the path of a file that the plan names, relative to the plan.
func (c *compiler) pathOf(file string) string { return c.plan.pathOf(file) }

// Files are the files that the plan reads, seen from the current folder: also those of the plans that it builds on, as
// far as these can be read.
func (p *Plan) Files() []string {
	out := p.files()
	for _, b := range p.Bases() {
		out = append(out, b.files()...)
	}
	return out
}

// files are the files that the plan itself names.
func (p *Plan) files() []string {
	var out []string
	add := func(e *Entity) {
		if e == nil || e.RowsFrom == nil {
			return
		}
		for _, f := range []string{e.RowsFrom.File, e.RowsFrom.Manifest} {
			if f != "" {
				out = append(out, p.pathOf(f))
			}
		}
	}
	for _, b := range p.BuildsOn {
		out = append(out, p.pathOf(b.Path))
	}
	out = append(out, p.KindFiles()...)
	for _, e := range p.Entities {
		add(e)
	}
	for _, u := range p.Units {
		add(u.Occasions)
	}
	return out
}

// fieldsOf returns the names of the fields that columns of a file go to.
func fieldsOf(columns []*FileColumn) []string {
	var names []string
	for _, c := range columns {
		names = append(names, c.Field)
	}
	return names
}

// finding is a reference by a natural key that stands in the file.
type finding struct {
	columns []*FileColumn
	of      []*field // the inner fields with the key
}

// find compiles a reference by a natural key.
func (c *compiler) find(f *field) grow.Source {
	col := f.finds.columns[0]
	to := c.named(f.entity.decl.Schema, col.Of)
	if to == nil {
		c.add(f.decl.place, "%s finds rows of %s, which is not an entity", f.describe(), col.Of).
			Nearest(col.Of, c.names())
		return nil
	}
	var by, of []*grow.Field
	key := c.stored(f, to)
	for i, col := range f.finds.columns {
		x := to.find(col.Find)
		if x == nil || x.decl.inner {
			c.add(col.place, "%s has no field %s", to.decl.Name, col.Find).Nearest(col.Find, to.names())
			return nil
		}
		if !c.compile(x) {
			return nil
		}
		by, of = append(by, x.grow), append(of, f.finds.of[i].grow)
	}

	if key == nil {
		return nil
	}
	for _, of := range to.fields {
		if of.grow == key && !c.compile(of) {
			return nil
		}
	}
	return grow.Lookup(to.grow, key, by, of)
}

// maxFindProblems bounds how many rows that find nothing are told.
const maxFindProblems = 20

// checkFinds looks up every row of the files, so that all that find nothing, or more
// than one, are told at once.
func (c *compiler) checkFinds() {
	g := grow.NewGrower(c.out.Set)
	defer g.Close()
	for _, e := range c.entities {
		var finds []*field
		for _, f := range e.fields {
			if f.finds != nil && f.state == compiled {
				finds = append(finds, f)
			}
		}
		if len(finds) == 0 || e.rowFile == nil {
			continue
		}
		told := 0
		for n := range e.grow.Rows {
			for _, f := range finds {
				err := g.Try(e.grow, grow.Row{N: n}, f.grow)
				if err == nil {
					continue
				}
				if told++; told > maxFindProblems {
					c.add(e.decl.RowsFrom.place, "and more rows of %s that find no row", e.decl.Name)
					break
				}
				file, line := e.rowFile.Place(n)
				p := &diag.Problem{File: file, Line: line, Column: 1, Message: err.Error()}
				var by []string
				for _, col := range f.finds.columns {
					by = append(by, col.Find)
				}
				p.Advise(
					"each row must name exactly one %s by its %s; an empty cell names none",
					f.finds.columns[0].Of,
					strings.Join(by, " and "),
				)
				c.plan.collector.found = append(c.plan.collector.found, p)
			}
			if told > maxFindProblems {
				break
			}
		}
	}
}
