// Package merge brings a plan up to date with a database, and leaves what a person wrote as it is: comments, order and
// formatting stay.
package merge

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/draft"
	"evensprout/internal/plan"
	"evensprout/internal/safe"
	"evensprout/internal/schema"
)

// Change is something that a merge did to a plan, or that it leaves to a person.
type Change struct {
	Line   int // of the former plan; new lines stand behind it
	What   string
	Old    string   // the line before, if it is changed
	New    []string // the lines that are put there
	Manual bool     // nothing was changed: a person must
}

// Merged is a plan that is up to date.
type Merged struct {
	Text    []byte
	Changes []Change // in the order of the lines
	Manual  int      // changes that a person has to make
	former  []byte
	Gone    int // entities and fields that the database no longer has, for a person to remove
}

// Changed reports whether the plan differs from the former one.
func (m *Merged) Changed() bool { return !bytes.Equal(m.Text, m.former) }

// goneMark begins the comment at what the database no longer has.
const goneMark = "# gone:"

// Names are what a plan calls tables and columns, for a draft that is to be merged into it.
func Names(p *plan.Plan, db *schema.Database) (map[*schema.Table]string, map[*schema.Column]string) {
	layout, _ := p.Layout(db)
	tables, columns := map[*schema.Table]string{}, map[*schema.Column]string{}
	for _, e := range layout.Entities {
		if e.Table == nil {
			continue
		}
		tables[e.Table] = e.Name
		for _, f := range e.Fields {
			if f.Column != nil {
				columns[f.Column] = f.Name
			}
		}
	}
	return tables, columns
}

// Plan merges a draft for a database into a plan. The draft calls tables and columns as the plan does.
func Plan(p *plan.Plan, db *schema.Database, d *draft.Draft) (*Merged, error) {
	if strings.Contains(strings.ReplaceAll(string(p.Source()), "\r\n", ""), "\r") {
		return nil, fmt.Errorf("%s has lines that end with CR alone; save it with LF or CR LF, and try again", p.File())
	}
	layout, covered := p.Layout(db)
	lines := strings.Split(string(p.Source()), "\n")
	m := &merger{lines: lines, layout: layout, covered: covered, digests: readDigests(lines), ours: map[key]bool{},
		added: map[string]bool{}}
	if strings.HasSuffix(m.lines[0], "\r") {
		m.ending = "\r"
	}
	known := map[*schema.Table]bool{}
	for i := range layout.Entities {
		e := &layout.Entities[i]
		known[e.Table] = true
		m.entity(e, d)
	}
	for _, t := range d.Tables {
		if !known[t.Schema] {
			m.table(t)
		}
	}
	slices.SortStableFunc(m.changes, func(a, b Change) int { return a.Line - b.Line })
	text, err := signed(p.File(), m.text(), db, m.ending, m.digestOf)
	if err != nil {
		return nil, fmt.Errorf("the merged plan could not be read, so nothing was changed: %w", err)
	}
	return &Merged{Text: []byte(text), former: p.Source(), Changes: m.changes, Manual: m.manual, Gone: m.gone}, nil
}

// merger collects the changes of a merge.
type merger struct {
	lines   []string
	layout  plan.Layout
	covered map[*schema.Column]bool
	digests map[key]digest
	changes []Change
	ours    map[key]bool    // fields whose lines the merge has written
	added   map[string]bool // entities, too
	manual  int
	gone    int
	ending  string // of lines, before the line feed
}

// entity brings an entity of the plan up to date.
func (m *merger) entity(e *plan.EntityLayout, d *draft.Draft) {
	if e.Table == nil {
		m.mark(e.Line, fmt.Sprintf("the database has no table for %s", e.Name))
		return
	}
	var gone []plan.FieldLayout
	for _, f := range e.Fields {
		if f.Column == nil {
			gone = append(gone, f)
			m.mark(f.Line, fmt.Sprintf("the table %s has no column for %s", e.Table.Name, f.Name))
		}
	}
	i := slices.IndexFunc(d.Tables, func(t *draft.Table) bool { return t.Schema == e.Table })
	if i < 0 {
		return
	}
	m.changed(e, d.Tables[i])
	var fresh []string
	for _, c := range e.Table.Columns {
		if c.Generated || m.covered[c] {
			continue
		}
		name, source, comment, ok := d.Tables[i].Line(c, true)
		if !ok {
			continue
		}
		why := "new"
		if len(gone) > 0 {
			why = "new; " + renamed(m.likely(gone, source))
		}
		if comment != "" {
			why += "; " + comment
		}
		line := fmt.Sprintf("%s: %s   # %s", plan.Scalar(name), source, safe.OneLine(why))
		if slices.ContainsFunc(e.Fields, func(f plan.FieldLayout) bool { return f.Name == name }) {
			m.byHand(Change{Line: e.Line, New: []string{line},
				What: e.Name + ": add by hand under another name, because there is another " + name})
			continue
		}
		m.ours[keyOf(e.Name, name)] = true
		fresh = append(fresh, line)
	}
	if len(fresh) > 0 {
		m.fields(e, fresh)
	}
}

// changed brings the lines of columns that are other than when survey wrote them up to date, if nobody has edited them.
func (m *merger) changed(e *plan.EntityLayout, t *draft.Table) {
	for _, f := range e.Fields {
		if f.Column == nil {
			continue
		}
		k := keyOf(e.Name, f.Name)
		was, ok := m.digests[k]
		if !ok || was.column == partOfColumn(e.Table, f.Column) {
			continue
		}
		_, source, comment, ok := t.Line(f.Column, false)
		name := plan.Scalar(f.Name)
		old := strings.TrimRight(m.lines[f.Line-1], " \r")
		if !ok || strings.HasPrefix(squeezed(old)+" ", squeezed(name+": "+source)+" ") {
			continue
		}
		if strings.Contains(source, "{from: ") {
			_, source, comment, _ = t.Line(f.Column, true)
		}
		if comment != "" {
			source += "   # " + comment
		}
		change := Change{Line: f.Line, What: e.Name + "." + f.Name + ": the column has changed"}
		if start, ok := beforeValue(old, name); ok && was.line == partOf(old) {
			m.ours[k] = true
			change.Old, change.New = old, []string{start + source}
			m.changes = append(m.changes, change)
			continue
		}
		change.New = []string{strings.Repeat(" ", e.FieldsAt) + name + ": " + source}
		change.What += "; you have edited the line, so compare it"
		m.byHand(change)
	}
}

// byHand is a change that is left to a person.
func (m *merger) byHand(c Change) {
	c.Manual = true
	m.manual++
	m.changes = append(m.changes, c)
}

// beforeValue is a field's line as far as its value, with its indentation and the blanks that put values in a column.
func beforeValue(line, name string) (string, bool) {
	_, value, ok := strings.Cut(line, name+":")
	return line[:len(line)-len(strings.TrimLeft(value, " "))], ok
}

// digestOf is the digest of a line of the merged plan, if survey wrote it, now or before.
func (m *merger) digestOf(entity, field, line string) (part, bool) {
	k := keyOf(entity, field)
	was, ok := m.digests[k]
	if m.ours[k] || m.added[entity] {
		return partOf(line), true
	}
	return was.line, ok
}

// likely are those of the fields that are gone whose values are made as a new one's, or else all of them.
func (m *merger) likely(gone []plan.FieldLayout, source string) []plan.FieldLayout {
	var alike []plan.FieldLayout
	for _, f := range gone {
		if strings.Contains(m.lines[f.Line-1], source) {
			alike = append(alike, f)
		}
	}
	if alike == nil {
		return gone
	}
	return alike
}

// renamed says how a new column can be one that is gone, under another name: only a person knows.
func renamed(gone []plan.FieldLayout) string {
	if len(gone) == 1 {
		return fmt.Sprintf("if this was %[1]s, add was: %[1]s and remove the line of %[1]s", gone[0].Name)
	}
	const most = 4
	var names []string
	for _, f := range gone[:min(len(gone), most)] {
		names = append(names, f.Name)
	}
	return "if this was " + strings.Join(names, " or ") + ", add was: with that name and remove its line"
}

// fields puts new fields behind the others of an entity.
func (m *merger) fields(e *plan.EntityLayout, fresh []string) {
	what := fmt.Sprintf("%s: %s", e.Name, count(len(fresh), "new column"))
	if e.InLine || e.FieldsIn {
		m.byHand(Change{Line: e.Line, New: fresh, What: what + ": add by hand, because the fields are in braces"})
		return
	}
	at, column := e.FieldsEnd, e.FieldsAt
	var lines []string
	if at == 0 {
		at, column = e.End, e.Column+2
		lines = append(lines, strings.Repeat(" ", e.Column)+"fields:")
	}
	for _, l := range fresh {
		lines = append(lines, strings.Repeat(" ", column)+l)
	}
	m.changes = append(m.changes, Change{Line: at, What: what, New: lines})
}

// table adds an entity for a new table behind the others.
func (m *merger) table(t *draft.Table) {
	const drafted = 2 // blanks before the names of a draft's entities
	what := "new table " + safe.OneLine(t.Schema.Name)
	column := m.layout.Column
	if len(m.layout.Entities) == 0 {
		column = drafted
	}
	lines := []string{""}
	for i, l := range strings.Split(strings.TrimRight(t.Entry(), "\n"), "\n") {
		if after, ok := strings.CutPrefix(l, strings.Repeat(" ", drafted)); ok {
			l = strings.Repeat(" ", column) + after
		}
		if i == 0 {
			l += "   # new"
		}
		lines = append(lines, l)
	}
	taken := func(e plan.EntityLayout) bool { return e.Name == t.Entity }
	switch {
	case m.layout.InLine:
		m.byHand(Change{Line: max(m.layout.End, 1), What: what + ": add it by hand, because the entities are in braces",
			New: lines[1:]})
		return
	case slices.ContainsFunc(m.layout.Entities, taken):
		m.byHand(Change{Line: m.layout.End, New: lines[1:],
			What: what + ": add it by hand, because the plan has another " + t.Entity})
		return
	}
	m.added[t.Entity] = true
	m.changes = append(m.changes, Change{Line: m.layout.End, What: what, New: lines})
}

// mark notes at a line that the database no longer has something.
func (m *merger) mark(line int, what string) {
	m.gone++
	old := strings.TrimRight(m.lines[line-1], " \r")
	if strings.Contains(old, goneMark) {
		return
	}
	what = safe.OneLine(what)
	m.changes = append(m.changes, Change{Line: line, What: what, Old: old,
		New: []string{old + "   " + goneMark + " " + what}})
}

// text is the plan with all changes.
func (m *merger) text() string {
	var b strings.Builder
	next := 0
	for i, l := range m.lines {
		if ofDigests(l) {
			continue
		}
		var behind []string
		for ; next < len(m.changes) && m.changes[next].Line == i+1; next++ {
			switch c := m.changes[next]; {
			case c.Manual:
			case c.Old != "":
				l = c.New[0] + m.ending
			default:
				behind = append(behind, c.New...)
			}
		}
		b.WriteString(l)
		for _, x := range behind {
			b.WriteString("\n" + x + m.ending)
		}
		if i+1 < len(m.lines) {
			b.WriteByte('\n')
		}
	}
	return strings.TrimSuffix(b.String(), "\r") // no line feed follows the last line
}

// squeezed is a line without regard to blanks.
func squeezed(line string) string { return strings.Join(strings.Fields(line), " ") }

// count is a number of things.
func count(n int, of string) string {
	if n == 1 {
		return "1 " + of
	}
	return fmt.Sprintf("%d %ss", n, of)
}
