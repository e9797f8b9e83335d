// Package page shows a plan, and what is in its tables, as one HTML file that needs nothing else.
package page

import (
	"html/template"

	"evensprout/internal/report"
)

// Page is what one file shows. Texts are data: they are escaped when the page is written.
type Page struct {
	Title    string
	About    []string // the plan in a paragraph: sentences
	Diagram  template.HTML
	Entities []*Entity
	Units    []Unit
	Rules    []Rule // invariants
	Load     *Load
	Compared *Comparison
	History  *Table
	Made     string // by which program
}

// Entity is an entity, or a table, with its rows.
type Entity struct {
	Name, ID string
	About    []string // where its rows go, how many there are
	Fields   []*Field
	Places   template.HTML // its rows as points, if it has coordinates
	Below    []Children
	Draws    []string // conditions, and how many draws they cost
	Sample   Sample

	Rows    string // planned, in words
	InTable string // rows that its table has, in words; empty: not looked at
}

// Field is a field with the distribution of its values.
type Field struct {
	Name, Type, Says string
	Planned, InTable *Chart
	Note             string // why there is no chart of the table
}

// Chart is the distribution of a field's values, drawn.
type Chart struct {
	Of      string   // what was counted, in words: all rows, or which of them
	Facts   []string // NULLs, different values, extremes
	Picture template.HTML
	Caption string // what a picture shows, with its units
	Bars    []Bar  // of values, of steps or lengths, in words
	Heading string // of their first column
	Open    bool   // Bars stand in place of a picture
	Same    bool   // it is as planned, so that only that is said

	spread report.Spread
}

// Bar is a line of a chart in words.
type Bar struct {
	Label, Rows, Share string
	Width              string // of the bar, as a share of the longest, such as 42.5%
}

// Children is how many rows of an entity stand below each of another, or refer to it.
type Children struct {
	Title string
	Chart *Chart
}

// Sample is some rows of an entity.
type Sample struct {
	Columns []report.Column
	Rows    []SampleRow
	More    string // which rows are left out
}

// SampleRow is a row, with an ID that links lead to.
type SampleRow struct {
	ID, Label string
	Cells     []Cell
}

// Cell is a value. Link leads to the row that a reference points to, if the page shows it.
type Cell struct {
	Text, Link string
	Null       bool
	Number     bool
}

// Unit is an ordered list of writes.
type Unit struct {
	Name, From string
	Steps      []string
}

// Rule is an invariant. State says whether it holds; empty: nobody has looked.
type Rule struct {
	Name, Text, State string
	Broken            bool
	Rows              []string
}

// Load is what a load did.
type Load struct {
	Title      string
	Facts      []string
	Entities   Table
	Units      *Table
	Refusals   []Refusal
	More       string // refusals that are left out
	Statements *Table
}

// Refusal is a row that was left out or not found, with what to do.
type Refusal struct {
	Summary string
	Lines   [][2]string
	Hint    string
}

// Comparison is how tables differ from what was loaded.
type Comparison struct {
	Same   bool
	Title  string
	Counts Table
	Groups []Differences
}

// Differences are rows of one kind of difference in one table.
type Differences struct {
	Title string
	Rows  []Differing
	More  string
}

// Differing is a row, and its cells that differ.
type Differing struct {
	Row   string
	Cells []string
}

// Table is rows of text under headings.
type Table struct {
	Columns []report.Column
	Rows    [][]string
}

// Tabled makes a table of the page.
func Tabled(t report.Table) Table { return Table(t) }
