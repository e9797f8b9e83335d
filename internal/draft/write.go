package draft

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/safe"
	"evensprout/internal/schema"
	"evensprout/internal/sources"
)

// Write writes a draft as a plan.
func (d *Draft) Write(o Options) string {
	var b strings.Builder
	b.WriteString("# Drafted from the tables. Edit it: how many rows, and where each field gets its values.\n" +
		"# evensprout catalog lists the kinds of values; evensprout check reports what does not fit.\n\n")
	fmt.Fprintf(&b,
		"name: %s\nedition: %s\nseed: %s-1\nclock: %s   # the plan's current time; the real time is never used\n",
		plan.Scalar(o.Name), grow.Latest().Name, plainName(o.Name), o.Clock())
	if o.URL != "" {
		fmt.Fprintf(&b, "database: %s\n", plan.Scalar(o.URL))
	}
	b.WriteString("\n")
	if o.Proof != "" {
		fmt.Fprintf(&b, "# Proved: %s.\n", oneLine(o.Proof))
	}
	for _, l := range d.Left {
		if !l.Unasked {
			fmt.Fprintf(&b, "# left out: %s: %s\n", l.Table, oneLine(l.Reason))
		}
	}
	b.WriteString("entities:\n")
	for i, t := range d.Tables {
		if i > 0 {
			b.WriteByte('\n')
		}
		t.write(&b)
	}
	return b.String()
}

// plainName writes a name as a key in YAML.
func plainName(s string) string {
	return strings.Trim(strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return '-'
	}, s), "-")
}

// oneLine makes text fit for a comment.
func oneLine(s string) string {
	const most = 160
	s = safe.OneLine(s)
	if r := []rune(s); len(r) > most {
		s = string(r[:most-1]) + "…"
	}
	return s
}

// writeParent writes per which parent the rows are planned.
func (t *Table) writeParent(b *strings.Builder) {
	via := ""
	n := 0
	for _, r := range t.Schema.References {
		if r.To == t.parent.to && len(r.Columns) == 1 {
			n++
		}
	}
	if n != 1 || t.parent.guessed {
		via = ", via: " + plan.Scalar(t.parent.Columns[0])
	}
	children := t.children
	if children == "" {
		children = "1..3"
	}
	fmt.Fprintf(b, "    per: {%s: %s%s}\n", t.parent.known().Entity, children, via)
}

// writeFields writes the fields, their sources and comments in columns.
func (t *Table) writeFields(b *strings.Builder) {
	lines := t.lines()
	if len(lines) > 0 {
		b.WriteString("    fields:\n")
	}
	width, source := 0, 0
	for _, l := range lines {
		width = max(width, len([]rune(l[0])))
		if l[2] != "" {
			source = max(source, min(len([]rune(l[1])), 48))
		}
	}
	for _, l := range lines {
		line := fmt.Sprintf("      %s%s %s", l[0], strings.Repeat(" ", width-len([]rune(l[0]))), l[1])
		if l[2] != "" {
			line += strings.Repeat(" ", max(source-len([]rune(l[1])), 0)) + "   # " + oneLine(l[2])
		}
		b.WriteString(line + "\n")
	}
}

// write writes the table's entity.
func (t *Table) write(b *strings.Builder) {
	fmt.Fprintf(b, "  %s:\n    table: %s\n", t.Entity, plan.Scalar(t.Schema.Name))
	for _, n := range t.notes() {
		fmt.Fprintf(b, "    # %s\n", oneLine(n))
	}
	if t.existing {
		there := fmt.Sprintf("the %d existing rows", t.contents().Rows)
		if t.contents().Rows == 1 {
			there = "the row that is there"
		}
		fmt.Fprintf(b, "    rows: existing   # %s\n", there)
		return
	}

	if t.contents().Rows > 0 {
		b.WriteString("    on_violation: {unique: redraw}   # the table has rows already\n")
	}
	if t.parent != nil {
		t.writeParent(b)
	} else {
		fmt.Fprintf(b, "    rows: %d\n", t.Rows)
	}
	var groups []string
	for _, set := range t.Unique {
		names := make([]string, len(set))
		for i, f := range set {
			names[i] = quoteField(f.Name)
		}
		groups = append(groups, "["+strings.Join(names, ", ")+"]")
	}

	if groups != nil {
		fmt.Fprintf(b, "    unique: [%s]\n", strings.Join(groups, ", "))
	}
	t.writeDraws(b)
	t.writeFields(b)
	if len(t.Meets) > 0 {
		b.WriteString("    meets:\n")
		seen := map[string]bool{}
		for _, m := range t.Meets {
			if !seen[m] {
				fmt.Fprintf(b, "      - %s\n", plan.Scalar(m))
			}
			seen[m] = true
		}
	}
}

// notes are the comments above an entity.
func (t *Table) notes() []string {
	notes := append([]string{}, t.Schema.Notes...)
	if len(t.Schema.Triggers) > 0 {
		notes = append(notes, "triggers run when rows are written: "+strings.Join(t.Schema.Triggers, ", "))
	}
	return append(notes, t.Notes...)
}

// writeDraws writes the shared values of an entity.
func (t *Table) writeDraws(b *strings.Builder) {
	first := true
	for _, f := range t.Fields {
		for _, d := range f.Draws {
			if first {
				b.WriteString("    shared:\n")
				first = false
			}
			fmt.Fprintf(b, "      %s: %s\n", plan.Scalar(d.Name), d.Source)
		}
	}
}

// lines are the fields as name, source and comment.
func (t *Table) lines() [][3]string {
	var out [][3]string
	for _, f := range t.Fields {
		if t.plannedKey(f) || t.parent != nil && f.ref == t.parent || f.Source.Text == "" && !f.lead || f.unsaid {
			continue
		}
		out = append(out, [3]string{quoteField(f.Name) + ":", f.source(), f.Comment})
	}
	return out
}

// picks is the source of a field that leads a reference.
func (f *Field) picks() string {
	to := f.ref.known()
	text := "{pick: " + to.Entity
	target := f.ref.Targets[0]
	for i, c := range f.ref.Columns {
		if strings.EqualFold(c, f.Column.Name) {
			target = f.ref.Targets[i]
		}
	}
	single := f.table.Schema.Reference(f.Column.Name)
	if k := to.Schema.PrimaryKey; len(k) != 1 || !strings.EqualFold(k[0], target) {
		if single == nil || single.To != f.ref.to || f.ref.guessed || to == f.table {
			text += ", by: " + quoteField(to.fieldName(target))
		}
	}
	if f.Source.Text == "distinct" {
		text += ", distinct: true"
	}
	if len(f.ref.where) > 0 || f.ref.only != nil {
		var list []string
		for _, o := range f.ref.only {
			items := strings.TrimSuffix(
				strings.TrimPrefix(sources.Chosen(o.field.Column, o.values).Text, "{choose: "),
				"}",
			)
			list = append(list, fmt.Sprintf("%s: %s", quoteField(to.fieldName(o.target)), items))
		}
		for _, w := range f.ref.where {
			list = append(list, fmt.Sprintf("%s: {same: %s}", quoteField(w[0]), quoteField(w[1])))
		}
		text += ", where: {" + strings.Join(list, ", ") + "}"
	}
	if f.ref.skew != "" {
		text += ", skew: " + f.ref.skew
	}
	return text + "}"
}

// source is the whole source of a field, with its modifiers.
func (f *Field) source() string {
	s := f.Source
	if f.lead {
		s.Text = f.picks()
	}
	if f.Unique {
		s.Text = s.With("unique: true")
	}
	if f.Nulls && f.Source.Text != "null" && !f.Source.Follows {
		share := "10%"
		if f.nulls != "" {
			share = f.nulls
		}
		s.Text = s.With("nulls: " + share)
	}
	if !f.named() {
		if s.Text == "null" {
			s.Text = "{value: null}"
		}
		s.Text = s.With("column: " + plan.Scalar(f.Column.Name))
	}
	return s.Text
}

// Entry is a table's entity as a plan writes it.
func (t *Table) Entry() string {
	var b strings.Builder
	t.write(&b)
	return b.String()
}

// Line is the field of a column as a plan writes it. Alone, what is a part of a shared value has a source of its own.
// The reference to a parent is picked. False if a plan need not mention the column.
func (t *Table) Line(c *schema.Column, alone bool) (name, source, comment string, ok bool) {
	i := slices.IndexFunc(t.Fields, func(f *Field) bool { return f.Column == c })
	if i < 0 {
		return "", "", "", false
	}
	f := *t.Fields[i]
	if t.plannedKey(&f) || f.unsaid || f.Source.Text == "" && !f.lead && f.ref != t.parent {
		return "", "", "", false
	}
	if alone && f.Source.Plain != "" {
		f.Source.Text = f.Source.Plain
	}
	if t.parent != nil && f.ref == t.parent {
		return f.Name, "{pick: " + t.parent.known().Entity + "}", "", true
	}
	return f.Name, f.source(), f.Comment, true
}
