// Package cell reads what stands in one cell of a file, or one value of JSON, as a type.
package cell

// Kind is what a file says about a cell.
type Kind uint8

// The kinds of cells. CSV knows text alone; an empty cell is Absent.
const (
	Absent Kind = iota
	Text        // may be read as a number or a date
	Quoted      // text, whatever it looks like
	Number
	Boolean
	JSON // an object or a list
)

// Cell is one cell of a record.
type Cell struct {
	Kind   Kind
	Text   string
	Shown  string // of a number: how the sheet shows it, if that is another text, such as 01234
	Column int    // from 1: a character of the line, or the column of a sheet
}
