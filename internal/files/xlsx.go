package files

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"encoding/xml"
	"errors"
	"evensprout/internal/cell"
	"fmt"
	"io"
	"os"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// xlsxReader reads a sheet of an Office Open XML workbook (ISO/IEC 29500) as a
// stream. Values are what the cells hold: a formula is refused, because its value was
// computed by somebody's program at some time.
type xlsxReader struct {
	file   *os.File
	path   string
	sheet  io.ReadCloser
	bytes  *bounded
	xml    *xml.Decoder
	depth  int
	shared []string
	styles []shownAs
	later  bool // dates count from 1904
	names  []string
	row    int
	within sheetRange
}

// Limits against archives that unpack to far more than they are.
const (
	maxUnpacked = 2 << 30 // bytes of the sheet
	maxShared   = 64 << 20
	maxTexts    = 1 << 20 // that cells refer to
	maxPart     = 4 << 20 // bytes of the parts that list sheets
	maxListed   = 8 << 20 // bytes of the list of members
	maxDepth    = 100     // of elements inside each other
	maxRatio    = 200     // unpacked to packed
	ratioFrom   = 1 << 20
)

// parts of a package that are read.
type xlsxWorkbook struct {
	Properties struct {
		Date1904 string `xml:"date1904,attr"`
	} `xml:"workbookPr"`
	Sheets []struct {
		Name string `xml:"name,attr"`
		ID   string `xml:"http://schemas.openxmlformats.org/officeDocument/2006/relationships id,attr"`
	} `xml:"sheets>sheet"`
}

// xlsxRelations are the parts that a part of the package refers to.
type xlsxRelations struct {
	List []struct {
		ID     string `xml:"Id,attr"`
		Target string `xml:"Target,attr"`
	} `xml:"Relationship"`
}

// sheet is the id of the sheet of a name, or of the first if none is said.
func (b *xlsxWorkbook) sheet(name string) (string, *Error) {
	var names []string
	for _, s := range b.Sheets {
		if name == "" || s.Name == name {
			return s.ID, nil
		}
		names = append(names, s.Name)
	}
	return "", &Error{
		Message: fmt.Sprintf("the workbook has no sheet %q", name),
		Hint:    "known: " + strings.Join(names, ", "),
	}
}

// target is the member of the archive that a relation leads to.
func (r *xlsxRelations) target(id string) string {
	target := ""
	for _, x := range r.List {
		if x.ID != id {
			continue
		}
		if target = strings.TrimPrefix(path.Join("/xl", x.Target), "/"); strings.HasPrefix(x.Target, "/") {
			target = strings.TrimPrefix(x.Target, "/")
		}
	}
	return target
}

// openXLSX opens a sheet of a workbook (ECMA-376).
func openXLSX(f *os.File, file string, o Options) (Reader, error) {
	fail := func(format string, args ...any) (Reader, error) {
		return nil, &Error{File: file, Message: fmt.Sprintf(format, args...)}
	}
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if isCompound(f) {
		return nil, &Error{
			File:    file,
			Message: "this workbook is encrypted with a password, or has the old format .xls",
			Hint:    "save it as .xlsx without a password",
		}
	}
	if err := shortList(f, info.Size()); err != nil {
		return fail("this is not an XLSX workbook: %s", err)
	}
	z, err := zip.NewReader(f, info.Size())
	if err != nil {
		return fail("this is not an XLSX workbook: %s", err)
	}
	members := map[string]*zip.File{}
	for _, m := range z.File {
		members[m.Name] = m
	}
	var book xlsxWorkbook
	var relations xlsxRelations
	if err := decode(members["xl/workbook.xml"], &book); err != nil {
		return fail("this is not an XLSX workbook: %s", err)
	}
	if err := decode(members["xl/_rels/workbook.xml.rels"], &relations); err != nil {
		return fail("this is not an XLSX workbook: %s", err)
	}
	name, within, wrong := sheetAndRange(o.Sheet)
	id := ""
	if wrong == nil {
		id, wrong = book.sheet(name)
	}
	if wrong != nil {
		wrong.File = file
		return nil, wrong
	}
	target := relations.target(id)
	r := &xlsxReader{file: f, path: file, within: within}
	r.later = book.Properties.Date1904 == "1" || book.Properties.Date1904 == "true"
	if r.styles, err = readStyles(members["xl/styles.xml"]); err != nil {
		return fail("the workbook's formats cannot be read: %s", err)
	}
	if r.shared, err = sharedTexts(members["xl/sharedStrings.xml"]); err != nil {
		return fail("the workbook's texts cannot be read: %s", err)
	}
	if r.sheet, err = unpack(members[target], maxUnpacked); err != nil {
		return fail("the sheet cannot be read: %s", err)
	}
	r.bytes = newBounded(r.sheet)
	r.xml = xml.NewDecoder(r.bytes)
	if err := r.head(); err != nil {
		return nil, err
	}
	return r, nil
}

// head reads the row that names the columns.
func (r *xlsxReader) head() error {
	head, err := r.cells()
	if err == io.EOF {
		return &Error{File: r.path, Message: "the sheet is empty", Hint: "its first row names the columns"}
	}
	if err != nil {
		return err
	}
	for _, c := range head {
		r.names = append(r.names, strings.TrimSpace(c.Text))
	}
	if err := checkNames(r.path, r.names); err != nil {
		var e *Error
		if errors.As(err, &e) && slices.Contains(r.names, "") {
			e.Line, e.Hint = r.row, "the first row names every column, without merged cells; a range says where "+
				"the table "+
				"begins: sheet: NAME!A3:F"
		}
		return err
	}
	return nil
}

// isCompound reports whether a file is a compound document: a workbook with a password, or one of the old format.
func isCompound(f io.ReaderAt) bool {
	var magic [8]byte
	_, err := f.ReadAt(magic[:], 0)
	return err == nil && string(magic[:]) == "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"
}

// sheetAndRange takes Stock!B3:F200 apart.
func sheetAndRange(text string) (sheet string, within sheetRange, wrong *Error) {
	i := strings.LastIndexByte(text, '!')
	if i < 0 {
		return text, within, nil
	}
	within, ok := rangeOf(text[i+1:])
	if !ok {
		wrong = &Error{Message: fmt.Sprintf("%q is not a range of cells", text[i+1:]),
			Hint: "such as B3:F200, or B3:F for all rows from the third on"}
	}
	return text[:i], within, wrong
}

// sheetRange is a range of cells, from 1; 0 is no limit.
type sheetRange struct{ row, column, lastRow, lastColumn int }

var rangePattern = regexp.MustCompile(`^([A-Z]{1,3})([1-9][0-9]{0,6})(?::([A-Z]{1,3})([1-9][0-9]{0,6})?)?$`)

// rangeOf reads B3:F200, B3:F or B3.
func rangeOf(s string) (sheetRange, bool) {
	m := rangePattern.FindStringSubmatch(strings.ToUpper(strings.ReplaceAll(s, "$", "")))
	if m == nil {
		return sheetRange{}, false
	}
	row, _ := strconv.Atoi(m[2])
	last, _ := strconv.Atoi(m[4])
	r := sheetRange{row: row, column: columnNumber(m[1]), lastRow: last, lastColumn: columnNumber(m[3])}
	return r, (r.lastColumn == 0 || r.lastColumn >= r.column) && (last == 0 || last >= row)
}

// cells reads the next row of the range.
func (r *xlsxReader) cells() ([]cell.Cell, error) {
	for {
		cells, err := r.rowCells()
		if err != nil {
			return nil, err
		}
		w := r.within
		switch {
		case r.row < w.row:
			continue
		case w.lastRow > 0 && r.row > w.lastRow:
			return nil, io.EOF
		case w.column > 0:
			if w.lastColumn > 0 {
				cells = cells[:min(len(cells), w.lastColumn)]
			}
			cells = cells[min(len(cells), w.column-1):]
		}
		return cells, nil
	}
}

// shortList refuses an archive whose list of members would take memory without bound.
func shortList(f io.ReaderAt, size int64) error {
	const tail = 64<<10 + 22
	b := make([]byte, min(size, tail))
	if _, err := f.ReadAt(b, size-int64(len(b))); err != nil && err != io.EOF {
		return err
	}
	at := bytes.LastIndex(b, []byte("PK\x05\x06")) // end of central directory; ISO/IEC 21320-1
	if at < 0 || at+16 > len(b) {
		return zip.ErrFormat
	}
	if binary.LittleEndian.Uint32(b[at+12:]) > maxListed {
		return fmt.Errorf("its directory has more than %d MiB", maxListed>>20)
	}
	return nil
}

// unpack opens a member that may unpack to a number of bytes, and not to far more than
// it is packed.
func unpack(m *zip.File, most int64) (io.ReadCloser, error) {
	if m == nil {
		return nil, errors.New("a part is missing")
	}
	size := m.UncompressedSize64
	if size > uint64(most) || size > ratioFrom && size/maxRatio > m.CompressedSize64 {
		return nil, fmt.Errorf(
			"%s would unpack from %d to %d bytes, which is more than a sheet of rows does",
			m.Name,
			m.CompressedSize64,
			size,
		)
	}
	r, err := m.Open()
	if err != nil {
		return nil, err
	}
	return struct {
		io.Reader
		io.Closer
	}{io.LimitReader(r, most), r}, nil
}

// decode reads one part of the package as XML, within the limit for its size.
func decode(m *zip.File, into any) error {
	r, err := unpack(m, maxPart)
	if err != nil {
		return err
	}
	defer r.Close()
	return xml.NewDecoder(r).Decode(into)
}

// sharedTexts reads the texts that cells refer to by number.
func sharedTexts(m *zip.File) ([]string, error) {
	if m == nil {
		return nil, nil
	}
	r, err := unpack(m, maxShared)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var texts []string
	d := xml.NewDecoder(r)
	for {
		t, err := d.Token()
		if err == io.EOF {
			return texts, nil
		}
		if err != nil {
			return nil, err
		}
		if s, ok := t.(xml.StartElement); ok && s.Name.Local == "si" {
			text, err := innerText(d, s)
			if err != nil {
				return nil, err
			}
			if texts = append(texts, text); len(texts) > maxTexts {
				return nil, fmt.Errorf("more than %d texts", maxTexts)
			}
		}
	}
}

// innerText joins the t elements inside an element, without phonetic hints.
func innerText(d *xml.Decoder, start xml.StartElement) (string, error) {
	var b strings.Builder
	depth, inText, skip := 1, false, 0
	for depth > 0 {
		t, err := d.Token()
		if err != nil {
			return "", err
		}
		switch t := t.(type) {
		case xml.StartElement:
			if depth++; depth > maxDepth {
				return "", errors.New("elements are nested too deep")
			}
			if t.Name.Local == "rPh" {
				skip = depth
			}
			inText = t.Name.Local == "t" && skip == 0
		case xml.EndElement:
			if skip == depth {
				skip = 0
			}
			depth--
			inText = false
		case xml.CharData:
			if inText {
				b.Write(t)
			}
		}
		if b.Len() > maxLine {
			return "", fmt.Errorf("a text of more than %d bytes", maxLine)
		}
	}
	return unescaped(b.String()), nil
}

func (r *xlsxReader) Names() []string { return r.names }
func (r *xlsxReader) Close() error {
	err := r.sheet.Close()
	return errors.Join(err, r.file.Close())
}

func (r *xlsxReader) Next() (Record, error) {
	for {
		cells, err := r.cells()
		if err != nil {
			return Record{}, err
		}
		if len(cells) > len(r.names) {
			for _, c := range cells[len(r.names):] {
				if c.Kind != cell.Absent {
					return Record{}, &Error{r.path, r.row, c.Column, "a cell after the last named column", ""}
				}
			}
			cells = cells[:len(r.names)]
		}
		empty := true
		for _, c := range cells {
			empty = empty && c.Kind == cell.Absent
		}
		if empty {
			continue // rows that somebody only formatted
		}
		for len(cells) < len(r.names) {
			cells = append(cells, cell.Cell{Column: len(cells) + 1})
		}
		return Record{Line: r.row, Names: r.names, Cells: cells}, nil
	}
}

// rowNumber is the number that a row says it has, or else the next one.
func rowNumber(t xml.StartElement, next int) int {
	for _, a := range t.Attr {
		if n, err := strconv.Atoi(a.Value); a.Name.Local == "r" && err == nil {
			next = n
		}
	}
	return next
}

// rowCells reads the next row of the sheet.
func (r *xlsxReader) rowCells() ([]cell.Cell, error) {
	var cells []cell.Cell
	r.bytes.next()
	for {
		t, err := r.xml.Token()
		if err == io.EOF {
			return nil, io.EOF
		}
		if err != nil {
			return nil, &Error{File: r.path, Line: max(r.row, 1), Message: "the sheet is broken: " + err.Error()}
		}
		switch t := t.(type) {
		case xml.StartElement:
			if r.depth++; r.depth > maxDepth {
				return nil, &Error{File: r.path, Line: max(r.row, 1), Message: "the sheet is broken: elements " +
					"are nested too deep"}
			}
			switch t.Name.Local {
			case "row":
				r.row = rowNumber(t, r.row+1)
			case "c":
				r.depth-- // its end is read with it
				c, err := r.cell(t, len(cells)+1)
				if err != nil {
					return nil, err
				}
				if c.Column > maxColumns {
					return nil, &Error{r.path, r.row, c.Column, fmt.Sprintf("more than %d columns", maxColumns), ""}
				}
				for len(cells) < c.Column {
					cells = append(cells, cell.Cell{Column: len(cells) + 1})
				}
				if cells[c.Column-1].Kind != cell.Absent {
					return nil, &Error{r.path, r.row, c.Column, "the sheet is broken: this cell is there twice", ""}
				}
				cells[c.Column-1] = c
			}
		case xml.EndElement:
			r.depth--
			if t.Name.Local == "row" {
				return cells, nil
			}
		}
	}
}

// cell reads one c element.
func (r *xlsxReader) cell(start xml.StartElement, column int) (cell.Cell, error) {
	kind, style := "", -1
	for _, a := range start.Attr {
		switch a.Name.Local {
		case "s":
			if n, err := strconv.Atoi(a.Value); err == nil {
				style = n
			}
		case "t":
			kind = a.Value
		case "r":
			if n := columnNumber(a.Value); n > 0 {
				column = n
			}
		}
	}

	var c struct {
		F *string `xml:"f"`
		V string  `xml:"v"`
		I struct {
			T []string `xml:"t"`
			R []struct {
				T string `xml:"t"`
			} `xml:"r"`
		} `xml:"is"`
	}
	fail := func(message string) (cell.Cell, error) {
		return cell.Cell{}, &Error{r.path, r.row, column, message, ""}
	}
	if err := r.xml.DecodeElement(&c, &start); err != nil {
		return fail("the cell is broken: " + err.Error())
	}
	if c.F != nil {
		return fail(
			"the cell holds a formula, whose value depends on the program that computed it: paste the value instead",
		)
	}
	out := cell.Cell{Kind: cell.Number, Text: c.V, Column: column}
	switch kind {
	case "s":
		i, err := strconv.Atoi(c.V)
		if err != nil || i < 0 || i >= len(r.shared) {
			return fail("the cell refers to a text that does not exist")
		}
		out.Kind, out.Text = cell.Quoted, r.shared[i]
	case "inlineStr":
		out.Kind, out.Text = cell.Quoted, strings.Join(c.I.T, "")
		for _, run := range c.I.R {
			out.Text += run.T
		}
		out.Text = unescaped(out.Text)
	case "str":
		out.Kind = cell.Quoted
	case "b":
		out.Kind, out.Text = cell.Boolean, map[string]string{"0": "false", "1": "true"}[c.V]
	case "e":
		return fail("the cell holds the error " + c.V)
	case "d":
		out.Kind = cell.Text
	default:
		out.Text = cell.PlainNumber(strings.ToLower(c.V))
		out = r.asShown(out, style)
	}

	if out.Text == "" {
		out.Kind = cell.Absent
	}
	if bad := checkText(out.Text); bad != "" {
		return fail(bad)
	}
	return out, nil
}

// columnNumber reads the letters of a cell's name: B7 is 2.
func columnNumber(name string) int {
	n := 0
	for _, c := range name {
		if c < 'A' || c > 'Z' {
			break
		}
		if n = n*26 + int(c-'A') + 1; n > 1<<20 {
			return 0
		}
	}
	return n
}
