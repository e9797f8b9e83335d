// Package report makes what people and programs read: tables, numbers, JSON.
package report

import (
	"fmt"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"evensprout/internal/safe"
	"evensprout/internal/value"
)

// Table is rows of text under headings.
type Table struct {
	Columns []Column
	Rows    [][]string
}

// Column is a heading and how its cells are set.
type Column struct {
	Name   string
	Number bool // to the right
	Whole  bool // never cut: a moment, a code; numbers never are
}

// Page says how to draw.
type Page struct {
	Width  int  // of the terminal, in characters
	Height int  // of the terminal, in lines; 0 if there is none
	Color  bool // bold and dim
}

const (
	narrowest = 12 // characters to which a column may shrink
	gap       = 2  // between columns
	fewRows   = 5  // so many rows may lie on their side
)

// Draw sets a table in aligned columns no wider than the page: wide columns are cut.
// Where that is not enough, a few rows are laid on their side, one column a row; of
// many rows, columns at the end are left out and named below.
func (p Page) Draw(t Table) string {
	t.Columns = slices.Clone(t.Columns)
	for i := range t.Columns {
		t.Columns[i].Name = oneLine(t.Columns[i].Name)
	}
	widths := p.measure(t)
	shown := p.shrink(widths, t.Columns)
	if shown < len(t.Columns) && len(t.Rows) > 0 && len(t.Rows) <= fewRows {
		t = aside(t)
		widths = p.measure(t)
		shown = p.shrink(widths, t.Columns)
	}
	w := table.NewWriter()
	w.SetStyle(p.style())
	header := make(table.Row, shown)
	configs := make([]table.ColumnConfig, shown)
	for i := range shown {
		header[i] = cut(t.Columns[i].Name, widths[i])
		configs[i] = table.ColumnConfig{Number: i + 1}
		if t.Columns[i].Number {
			configs[i].Align, configs[i].AlignHeader = text.AlignRight, text.AlignRight
		}
	}

	w.AppendHeader(header)
	w.SetColumnConfigs(configs)
	for _, row := range t.Rows {
		line := make(table.Row, shown)
		for i := range shown {
			line[i] = cut(oneLine(row[i]), widths[i])
		}
		w.AppendRow(line)
	}

	out := trimLines(w.Render())
	if shown < len(t.Columns) {
		var rest []string
		for _, c := range t.Columns[shown:] {
			rest = append(rest, c.Name)
		}
		out += "\n" + p.Dim(fmt.Sprintf("  hidden columns: %s", strings.Join(rest, ", ")))
	}
	return out
}

// aside makes a column of each row; the first column becomes the heading.
func aside(t Table) Table {
	out := Table{Columns: []Column{{Name: t.Columns[0].Name, Whole: true}}}
	for _, row := range t.Rows {
		out.Columns = append(out.Columns, Column{Name: oneLine(row[0])})
	}
	for i, c := range t.Columns[1:] {
		line := []string{c.Name}
		for _, row := range t.Rows {
			line = append(line, row[i+1])
		}
		out.Rows = append(out.Rows, line)
	}
	return out
}

// measure returns the widths that the columns would have.
func (p Page) measure(t Table) []int {
	widths := make([]int, len(t.Columns))
	for i, c := range t.Columns {
		widths[i] = text.RuneWidthWithoutEscSequences(c.Name)
		for _, row := range t.Rows {
			widths[i] = max(widths[i], text.RuneWidthWithoutEscSequences(oneLine(row[i])))
		}
	}
	return widths
}

// shrink narrows the widest columns until the row fits, and returns how many
// columns do.
func (p Page) shrink(widths []int, columns []Column) int {
	total := func(n int) int {
		sum := 2
		for _, w := range widths[:n] {
			sum += w + gap
		}
		return sum
	}
	whole := slices.Clone(widths)
	for n := len(widths); ; n-- {
		copy(widths, whole)
		for total(n) > p.Width {
			widest := -1
			for i, w := range widths[:n] {
				if w > narrowest && !columns[i].Number && !columns[i].Whole && (widest < 0 || w > widths[widest]) {
					widest = i
				}
			}
			if widest < 0 {
				break
			}
			widths[widest]--
		}
		if total(n) <= p.Width || n <= 1 {
			return n
		}
	}
}

// style is the look of tables: no frame, two blanks between columns.
func (p Page) style() table.Style {
	s := table.Style{
		Name: "plain",
		Box: table.BoxStyle{
			MiddleHorizontal: "─", MiddleSeparator: "──", MiddleVertical: "  ", PaddingLeft: "", PaddingRight: "",
			UnfinishedRow: "",
			Left:          "  ", LeftSeparator: "  ",
		},
		Format:  table.FormatOptions{Header: text.FormatDefault},
		Options: table.Options{SeparateColumns: true, SeparateHeader: true},
	}
	if p.Color {
		s.Color = table.ColorOptions{
			Header:    text.Colors{text.Bold},
			Border:    text.Colors{text.Faint},
			Separator: text.Colors{text.Faint},
		}
	}
	return s
}

// trimLines cuts the blanks at the ends of lines.
func trimLines(s string) string {
	lines := strings.Split(s, "\n")
	for i, l := range lines {
		lines[i] = "  " + strings.TrimRight(l, " ")
	}
	return strings.Join(lines, "\n")
}

// cut shortens a text to a width in columns of a terminal.
func cut(s string, width int) string {
	if text.RuneWidthWithoutEscSequences(s) <= width {
		return s
	}
	return text.Snip(s, width, "…")
}

// oneLine shows line breaks and control characters as blanks: what comes from a
// database must not steer a terminal.
func oneLine(s string) string {
	return safe.Visible(strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' || r == '\u2028' || r == '\u2029' {
			return ' '
		}
		return r
	}, strings.ReplaceAll(s, "\r\n", " ")))
}

// Bold and Dim set text apart where the page has colour.
func (p Page) Bold(s string) string { return p.paint(s, text.Bold) }

// Dim sets text back.
func (p Page) Dim(s string) string { return p.paint(s, text.Faint) }

// Alarm marks what went wrong, Good what went well.
func (p Page) Alarm(s string) string { return p.paint(s, text.Bold, text.FgRed) }

// Good marks what went well.
func (p Page) Good(s string) string { return p.paint(s, text.FgGreen) }

// paint colours a text, if the page shows colour.
func (p Page) paint(s string, c ...text.Color) string {
	if !p.Color {
		return s
	}
	return text.Colors(c).Sprint(s)
}

// Cell shows a value in a table: NULL as a sign of its own, moments with a blank.
func Cell(v value.Value) string {
	switch v.Type {
	case value.Null:
		return "∅"
	case value.Boolean:
		if v.N != 0 {
			return "yes"
		}
		return "no"
	case value.Timestamp:
		return string(value.AppendTimestamp(nil, v))
	}
	return v.String()
}

// Size shows bytes in units of 1,024; nothing for 0, which is not known.
func Size(bytes int64) string {
	if bytes <= 0 {
		return ""
	}
	return humanize.IBytes(uint64(bytes))
}
