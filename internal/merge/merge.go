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
	Line   int      `json:"line"` // of the former plan; new lines stand behind it
	What   string   `json:"what"`
	Old    string   `json:"old,omitempty"` // the line before, if it is changed
	New    []string `json:"new,omitempty"` // the lines that are put there
	Manual bool     `json:"manual"`        // nothing was changed: a person must
}

// Merged is a plan that is up to date.
type Merged struct {
	Text    []byte
	Changes []Change // in the order of the lines
	Manual  int      // changes that a person has to make
	Gone    int      // entities and fields that the database has no more, and that a person has to remove
}

// Changed reports whether the plan differs from the former one.
func (m *Merged) Changed() bool { return len(m.Changes) > m.Manual }

// goneMark begins the comment at what the database has no more.
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
	layout, covered := p.Layout(db)
	m := &merger{lines: strings.Split(string(p.Source()), "\n"), layout: layout, covered: covered}
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
	out := &Merged{Text: m.text(), Changes: m.changes, Manual: m.manual, Gone: m.gone}
	if out.Changed() {
		if _, err := plan.Read(p.File(), out.Text); err != nil {
			return nil, fmt.Errorf("the merged plan could not be read, so nothing was changed: %w", err)
		}
	}
	return out, nil
}

// merger collects the changes of a merge.
type merger struct {
	lines   []string
	layout  plan.Layout
	covered map[*schema.Column]bool
	changes []Change
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
	var fresh []string
	for _, c := range e.Table.Columns {
		if c.Generated || m.covered[c] {
			continue
		}
		name, source, comment, ok := d.Tables[i].Line(c)
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
		fresh = append(fresh, fmt.Sprintf("%s: %s   # %s", name, source, oneLine(why)))
	}
	if len(fresh) > 0 {
		m.fields(e, fresh)
	}
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
		m.manual++
		m.changes = append(m.changes, Change{Line: e.Line, Manual: true, New: fresh,
			What: what + "; the fields are written in one line, so add by hand"})
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
	var lines []string
	lines = append(lines, "")
	for i, l := range strings.Split(strings.TrimRight(t.Entry(), "\n"), "\n") {
		if m.layout.Column >= drafted {
			l = strings.Repeat(" ", m.layout.Column-drafted) + l
		}
		if i == 0 {
			l += "   # new"
		}
		lines = append(lines, l)
	}
	m.changes = append(m.changes, Change{Line: m.layout.End, What: "new table " + oneLine(t.Schema.Name), New: lines})
}

// mark notes at a line that the database has something no more.
func (m *merger) mark(line int, what string) {
	m.gone++
	old := strings.TrimRight(m.lines[line-1], " \r")
	if strings.Contains(old, goneMark) {
		return
	}
	what = oneLine(what)
	m.changes = append(m.changes, Change{Line: line, What: what, Old: old,
		New: []string{old + "   " + goneMark + " " + what}})
}

// text is the plan with all changes.
func (m *merger) text() []byte {
	var b bytes.Buffer
	next := 0
	for i, l := range m.lines {
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
	return b.Bytes()
}

// oneLine makes text fit for a comment.
func oneLine(s string) string { return safe.Visible(strings.Join(strings.Fields(s), " ")) }

// count is a number of things.
func count(n int, of string) string {
	if n == 1 {
		return "1 " + of
	}
	return fmt.Sprintf("%d %ss", n, of)
}
