package files

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/cell"
	"evensprout/internal/plan"
	"evensprout/internal/value"
)

func write(t testing.TB, name, text string) string {
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	return path
}

// workbook makes an XLSX file of a sheet's XML.
func workbook(t testing.TB, rows string, shared ...string) string {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	add := func(name, text string) {
		w, err := z.Create(name)
		require.NoError(t, err)
		_, err = io.WriteString(w, text)
		require.NoError(t, err)
	}
	add(
		"xl/workbook.xml",
		`<workbook xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet `+
			`name="Prices" r:id="rId1"/><sheet name="Other" r:id="rId2"/></sheets></workbook>`,
	)
	add(
		"xl/_rels/workbook.xml.rels",
		`<Relationships><Relationship Id="rId1" Target="worksheets/sheet1.xml"/><Relationship Id="rId2" `+
			`Target="/xl/worksheets/sheet2.xml"/></Relationships>`,
	)
	texts := ""
	for _, s := range shared {
		texts += "<si><t>" + s + "</t></si>"
	}
	add("xl/sharedStrings.xml", "<sst>"+texts+"</sst>")
	add("xl/worksheets/sheet1.xml", "<worksheet><sheetData>"+rows+"</sheetData></worksheet>")
	add(
		"xl/worksheets/sheet2.xml",
		`<worksheet><sheetData><row r="1"><c r="A1" t="inlineStr"><is><t>Only</t></is></c></row><row r="2"><c `+
			`r="A2"><v>7</v></c></row></sheetData></worksheet>`,
	)
	require.NoError(t, z.Close())
	return write(t, "book.xlsx", b.String())
}

// records reads a file to its end.
func records(path string, o Options) ([]string, error) {
	r, err := Open(path, o)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var out []string
	for {
		rec, err := r.Next()
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return out, err
		}
		var cells []string
		for i, c := range rec.Cells {
			if c.Kind != cell.Absent {
				cells = append(cells, rec.Names[i]+"="+c.Text)
			}
		}
		out = append(out, fmt.Sprintf("%d %s", rec.Line, strings.Join(cells, " ")))
	}
}

func TestFormats(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		o    Options
		want []string
	}{
		"a.csv": {"a,b\r\n1,x\r\n,\"y, \"\"z\"\"\nline\"\r\n2,\r\n", Options{}, []string{"2 a=1 b=x", "3 b=y, " +
			"\"z\"\nline", "5 a=2"}},
		"bom.csv": {"\ufeffa;b\n1;2\n", Options{Separator: ';'}, []string{"2 a=1 b=2"}},
		"a.tsv":   {"a\tb\n1\t2\n", Options{}, []string{"2 a=1 b=2"}},
		"a.ndjson": {"{\"a\": 1, \"b\": \"x\"}\n\n{\"b\": null, \"a\": 1e3}\n{\"c\": [1, 2], \"d\": true}\n",
			Options{}, []string{"1 a=1 b=x", "3 a=1000", "4 c=[1,2] " +
				"d=true"}},
		"a.json":     {"[\n {\"a\": 1.50},\n {\"a\": \"ü\"}\n]\n", Options{}, []string{"2 a=1.50", "3 a=ü"}},
		"empty.json": {"[]", Options{}, nil},
	} {
		got, err := records(write(t, name, c.text), c.o)
		require.NoError(t, err, name)
		assert.Equal(t, c.want, got, name)
	}
}

func TestWorkbooks(t *testing.T) {
	rows := `<row r="1"><c r="A1" t="s"><v>0</v></c><c r="B1" t="s"><v>1</v></c>` +
		`<c r="C1" t="inlineStr"><is><t>Day</t></is></c></row>
		<row r="3"><c r="A3" t="s"><v>2</v></c><c r="C3"><v>46174</v></c></row>
		<row r="4"><c r="B4"><v>4.5</v></c><c r="C4"/></row><row r="5"></row>`
	path := workbook(t, rows, "Code", "Amount", "DECK")
	got, err := records(path, Options{})
	require.NoError(t, err)
	assert.Equal(t, []string{"3 Code=DECK Day=46174", "4 Amount=4.5"}, got)
	got, err = records(path, Options{Sheet: "Other"})
	require.NoError(t, err)
	assert.Equal(t, []string{"2 Only=7"}, got)
}

// Each fault is told at its line and column.
func TestFaults(t *testing.T) {
	long := "a,b\n"
	for i := 2; i < 17; i++ {
		long += "1,2\n"
	}
	head := `<row r="1"><c r="A1" t="inlineStr"><is><t>a</t></is></c></row>`
	for name, c := range map[string]struct{ path, place, message string }{
		"missing":           {filepath.Join(t.TempDir(), "none.csv"), "", "no such file"},
		"another kind":      {write(t, "a.doc", ""), "", "this kind of file"},
		"an empty file":     {write(t, "a.csv", ""), "", "the file is empty"},
		"a short line 17":   {write(t, "a.csv", long+"1\n"), ":17", "not have 2 cells"},
		"a wrong quote":     {write(t, "a.csv", "a,b\n1,x\"y\n"), ":2:4", "a quote inside a cell"},
		"an open quote":     {write(t, "a.csv", "a,b\n1,\"x\n"), ":2", "is not closed,"},
		"a NUL byte":        {write(t, "a.csv", "a,b\n1,x\x00\n"), ":2:3", "NUL"},
		"invalid UTF-8":     {write(t, "a.csv", "a,b\n1,\xff\n"), ":2:3", "UTF-8"},
		"two equal columns": {write(t, "a.csv", "a,a\n"), ":1", "both called a"},
		"a nameless column": {write(t, "a.csv", "a,\n"), ":1", "has no name"},
		"not an object":     {write(t, "a.ndjson", "{}\n[1]\n"), ":2", "not an object"},
		"cut JSON":          {write(t, "a.ndjson", "{\"a\": 1\n"), ":1", "ends too early"},
		"a key twice":       {write(t, "a.ndjson", "{\"a\": 1, \"a\": 2}\n"), ":1", "appears twice"},
		"rest on a line":    {write(t, "a.ndjson", "{\"a\": 1} x\n"), ":1", "after the object"},
		"NUL in JSON":       {write(t, "a.ndjson", "{\"a\": \"x\x00\"}\n"), ":1", "NUL"},
		"no list":           {write(t, "a.json", "{}"), ":1:1", "not a list of objects"},
		"an endless list":   {write(t, "a.json", "[{\"a\": 1},\n"), ":1", "ends too early"},
		"after the list":    {write(t, "a.json", "[] []"), ":1", "after the list"},
		"no workbook":       {write(t, "a.xlsx", "PK"), "", "not an XLSX workbook:"},
		"a formula": {workbook(t, head+`<row r="2"><c r="A2"><f>1+1</f><v>2</v></c></row>`), ":2:1",
			"a formula"},
		"an error": {workbook(t, head+`<row r="2"><c r="A2" t="e"><v>#REF!</v></c></row>`), ":2:1", "#REF!"},
		"a text not there": {workbook(t, head+`<row r="2"><c r="A2" `+
			`t="s"><v>9</v></c></row>`), ":2:1", "does not exist"},
		"beyond the columns": {workbook(t, head+`<row r="2"><c r="D2"><v>1</v></c></row>`), ":2:4", "after the " +
			"last named"},
		"broken XML": {workbook(t, head+`<row r="2"><c`), ":2", "broken"},
	} {
		_, err := records(c.path, Options{})
		var e *Error
		require.ErrorAs(t, err, &e, name)
		assert.Contains(t, e.Message, c.message, name)
		assert.Contains(t, e.Error(), filepath.Base(c.path)+c.place, name)
	}
}

// A small archive that unpacks to gigabytes is refused before it is unpacked.
func TestZipBomb(t *testing.T) {
	path := workbook(t, strings.Repeat(" ", 64<<20))
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Less(t, info.Size(), int64(1<<20))
	_, err = records(path, Options{})
	assert.ErrorContains(t, err, "would unpack from")
}

func TestSeparators(t *testing.T) {
	r, err := ParseSeparator("tab")
	assert.NoError(t, err)
	assert.Equal(t, '\t', r)
	for _, bad := range []string{"", "ab", "\"", "\n"} {
		_, err := ParseSeparator(bad)
		assert.Error(t, err, bad)
	}
}

func TestPlainNumbers(t *testing.T) {
	for in, want := range map[string]string{"1e3": "1000", "-2.5E-2": "-0.025", "1.20e1": "12", "0e0": "0", "7": "7",
		"1e99": "1e99"} {
		assert.Equal(t, want, cell.PlainNumber(in))
	}
}

func columns(names ...string) []*plan.FileColumn {
	var out []*plan.FileColumn
	for _, n := range names {
		out = append(out, &plan.FileColumn{Field: n, Column: n})
	}
	return out
}

func values(t *testing.T, rows plan.FileRows) []string {
	var out []string
	r := rows.Reader()
	for n := range rows.Len() {
		cells, err := r.Row(n)
		require.NoError(t, err)
		var line []string
		for _, v := range cells {
			line = append(line, v.String())
		}
		out = append(out, strings.Join(line, "|"))
	}
	return out
}

func TestTypesByLooks(t *testing.T) {
	path := write(t, "a.csv", "n,d,t,day,at,yes,id,mixed,zero,big\n"+
		"1,1.5,x,2026-05-01,2026-05-01 08:00,true,019de28d-3c00-7cbb-955b-ce3417366a71,1,007,12345678901234567890\n"+
		"-20,2,true,,2026-05-02,false,,x,8,1\n")
	rows, problems := Rows(
		plan.FileSpec{Path: path, Columns: columns("n", "d", "t", "day", "at", "yes", "id", "mixed", "zero", "big")},
	)
	require.Empty(t, problems)
	var types []string
	for i := range 10 {
		typ, _ := rows.Type(i)
		types = append(types, typ.String())
	}
	assert.Equal(t, "integer decimal text date timestamp boolean uuid text text text", strings.Join(types, " "))
	assert.Equal(t, []string{
		"1|1.5|x|2026-05-01|2026-05-01T08:00:00Z|true|019de28d-3c00-7cbb-955b-ce3417366a71|1|007|12345678901234567890",
		"-20|2|true|NULL|2026-05-02T00:00:00Z|false|NULL|x|8|1",
	}, values(t, rows))
}

func TestTypesThatThePlanSays(t *testing.T) {
	spec := plan.FileSpec{
		Path:    write(t, "a.csv", "n,code\n1,7\n\"1,900\",8\n2.5,9\nx,10\n"),
		Columns: columns("n", "code"),
	}
	spec.Columns[0].As, spec.Columns[1].As = value.Decimal, value.Text
	_, problems := Rows(spec)
	require.Len(t, problems, 2)
	assert.Contains(
		t,
		problems[0].String(),
		`n: "1,900" is not a valid decimal: write it with a decimal point and without thousands separators`,
	)
	assert.Contains(t, problems[1].String(), `n: "x" is not a valid decimal`)
}

func TestDatesOfSheets(t *testing.T) {
	rows := `<row r="1"><c r="A1" t="inlineStr"><is><t>day</t></is></c>` +
		`<c r="B1" t="inlineStr"><is><t>at</t></is></c></row>
		<row r="2"><c r="A2"><v>46143</v></c><c r="B2"><v>46143.333333333336</v></c></row>`
	spec := plan.FileSpec{Path: workbook(t, rows), Columns: columns("day", "at")}
	spec.Columns[0].As, spec.Columns[1].As = value.Date, value.Timestamp
	table, problems := Rows(spec)
	require.Empty(t, problems)
	assert.Equal(t, []string{"2026-05-01|2026-05-01T08:00:00Z"}, values(t, table))
}

func TestDuplicates(t *testing.T) {
	path := write(t, "a.csv", "code,n\nA,1\nB,2\nA,3\n,4\n")
	spec := plan.FileSpec{Path: path, Columns: columns("code", "n"), Key: []int{0}}
	_, problems := Rows(spec)
	require.Len(t, problems, 2)
	assert.Contains(t, problems[0].String(), `the key "A" is also in line 2`)
	assert.Contains(t, problems[1].String(), "a.csv:5", "an empty key")
	spec.Path = write(t, "b.csv", "code,n\nA,1\nB,2\nA,3\n")
	for which, want := range map[string][]string{"first": {"A|1", "B|2"}, "last": {"B|2", "A|3"}} {
		spec.Duplicates = which
		rows, problems := Rows(spec)
		require.Empty(t, problems)
		assert.Equal(t, want, values(t, rows), which)
	}
}

func TestFilesWithoutRows(t *testing.T) {
	for name, text := range map[string]string{"a.csv": "a,b\n", "a.ndjson": "", "a.json": "[]"} {
		rows, problems := Rows(plan.FileSpec{Path: write(t, name, text), Columns: columns("a", "b"), Key: []int{0}})
		require.Empty(t, problems, name)
		assert.Zero(t, rows.Len())
	}
	rows, problems := Rows(plan.FileSpec{Path: write(t, "a.csv", "a,b\n1,\n2,\n"), Columns: columns("a", "b")})
	require.Empty(t, problems)
	typ, _ := rows.Type(1)
	assert.Equal(t, value.Null, typ, "an empty column fits every table")
}

func TestAnotherSeparatorIsGuessed(t *testing.T) {
	_, problems := Rows(plan.FileSpec{Path: write(t, "a.csv", "Code;Amount\nA;1\n"), Columns: columns("Code")})
	require.Len(t, problems, 1)
	assert.Contains(t, problems[0].Message, "not seem to be a comma:")
	assert.Equal(t, `separator: ";" in rows_from`, problems[0].Hint)
	rows, problems := Rows(
		plan.FileSpec{Path: write(t, "a.csv", "Code;Amount\nA;1\n"), Columns: columns("Code"), Separator: ";"},
	)
	require.Empty(t, problems)
	assert.Equal(t, []string{"A"}, values(t, rows))
}

func TestColumnsThatAreNotThere(t *testing.T) {
	_, problems := Rows(plan.FileSpec{Path: write(t, "a.csv", "Code,Amount\nA,1\n"), Columns: columns("Cod", "Amount")})
	require.Len(t, problems, 1)
	assert.Contains(t, problems[0].Message, "the file has no column Cod")
	assert.Contains(t, problems[0].Hint, `did you mean "Code"?`)
	_, problems = Rows(plan.FileSpec{Path: write(t, "a.ndjson", "{\"a\": 1}\n"), Columns: columns("a", "b")})
	require.Len(t, problems, 1)
	assert.Contains(t, problems[0].Message, "no row has the column b")
}

// Rows are read again in any order, by several readers, from memory and from disk.
func TestRowsInAnyOrder(t *testing.T) {
	var text strings.Builder
	text.WriteString("n,pad\n")
	const rows = 30_000
	for i := range rows {
		fmt.Fprintf(&text, "%d,%s\n", i, strings.Repeat("x", 400))
	}
	table, problems := Rows(plan.FileSpec{Path: write(t, "a.csv", text.String()), Columns: columns("n", "pad")})
	require.Empty(t, problems)
	spooled := table.(*Table).spool.file
	require.NotNil(t, spooled, "more than is kept in memory")
	a, b := table.Reader(), table.Reader()
	for i := range uint64(3000) {
		n := i * 7919 % rows
		x, err := a.Row(n)
		require.NoError(t, err)
		assert.Equal(t, int64(n), x[0].N)
		y, err := b.Row(rows - 1 - n)
		require.NoError(t, err)
		assert.Equal(t, int64(rows-1-n), y[0].N)
		_, line := table.Place(n)
		if i < 50 {
			assert.Equal(t, int(n)+2, line)
		}
	}
	name := spooled.Name()
	require.NoError(t, table.Close())
	_, err := os.Stat(name)
	assert.True(t, errors.Is(err, os.ErrNotExist), "nothing is left in the temporary folder")
}

// Memory does not grow with the file.
func TestMemoryIsFlat(t *testing.T) {
	path := filepath.Join(t.TempDir(), "big.csv")
	f, err := os.Create(path)
	require.NoError(t, err)
	fmt.Fprintln(f, "n,pad")
	line := strings.Repeat("x", 1000)
	for i := range 100_000 {
		fmt.Fprintf(f, "%d,%s\n", i, line)
	}
	require.NoError(t, f.Close())
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	table, problems := Rows(plan.FileSpec{Path: path, Columns: columns("n", "pad")})
	require.Empty(t, problems)
	runtime.GC()
	runtime.ReadMemStats(&after)
	assert.Less(t, int64(after.HeapAlloc)-int64(before.HeapAlloc), int64(4<<20), "100 MB were read")
	require.NoError(t, table.Close())
}

func fuzz(f *testing.F, ending string, seeds ...string) {
	for _, s := range seeds {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		path := write(t, "f"+ending, text)
		_, err := records(path, Options{})
		var e *Error
		if err != nil && !errors.As(err, &e) {
			t.Fatalf("%T: %v", err, err)
		}
		rows, problems := Rows(plan.FileSpec{Path: path, Columns: columns("a", "b"), Key: []int{0}})
		if rows != nil {
			values(t, rows)
			rows.Close()
		}
		_ = problems.Error()
	})
}

func FuzzCSV(f *testing.F) {
	fuzz(f, ".csv", "a,b\n1,x\n", "a,b\n\"x\"\"y\",2026-05-01\n", "\ufeffa;b\n")
}
func FuzzNDJSON(f *testing.F) {
	fuzz(f, ".ndjson", "{\"a\":1,\"b\":\"x\"}\n", "{\"a\":[1],\"b\":null}\n{\"b\":1e5}\n")
}
func FuzzLines(f *testing.F) { fuzz(f, ".txt", "Kestrel\n\nTeal\r\n", "\ufeffa", "\x00") }

func FuzzJSON(f *testing.F) { fuzz(f, ".json", "[{\"a\":1},{\"b\":true}]", "[") }
func FuzzNested(f *testing.F) {
	f.Add(`{"Z": [1, {"x": []}], "A": [{"n": 1, "B": [{"m": "x"}, {"m": null}]}, {"B": null}, {}]}`)
	f.Add(`{"A": [{"B": 1}]}`)
	f.Add(`[{"A": 1}]`)
	f.Fuzz(func(t *testing.T, text string) {
		path := filepath.Join(t.TempDir(), "a.json")
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		_, err := records(path, Options{Inside: "A.B"})
		var e *Error
		if err != nil && !errors.As(err, &e) {
			t.Fatalf("%T: %v", err, err)
		}
	})
}

func FuzzXLSX(f *testing.F) {
	f.Add(`<row r="1"><c r="A1" t="inlineStr"><is><t>a</t></is></c></row><row r="2"><c r="A2"><v>1</v></c></row>`)
	f.Fuzz(func(t *testing.T, rows string) {
		_, err := records(workbook(t, rows, "a", "b"), Options{})
		var e *Error
		if err != nil && !errors.As(err, &e) {
			t.Fatalf("%T: %v", err, err)
		}
	})
}

// A range says where the table of a sheet begins and ends; what lies outside it is not read.
func TestRangesOfSheets(t *testing.T) {
	file := workbook(t, `<row r="1"><c r="A1" t="inlineStr"><is><t>Stock of May</t></is></c></row>`+
		`<row r="3"><c r="B3" t="inlineStr"><is><t>sku</t></is></c><c r="C3" t="inlineStr"><is><t>n</t></is></c></row>`+
		`<row r="4"><c r="A4"><v>9</v></c><c r="B4" t="inlineStr"><is><t>S1</t></is></c><c r="C4"><v>5</v></c>`+
		`<c r="D4"><v>8</v></c></row>`+
		`<row r="5"><c r="B5" t="inlineStr"><is><t>S2</t></is></c><c r="C5"><v>6</v></c></row>`+
		`<row r="9"><c r="C9"><v>11</v></c></row>`)
	read := func(sheet string) (string, error) {
		r, err := Open(file, Options{Sheet: sheet})
		if err != nil {
			return "", err
		}
		defer r.Close()
		out := strings.Join(r.Names(), " ")
		for {
			record, err := r.Next()
			if err != nil {
				return out, nil
			}
			for _, c := range record.Cells {
				out += " " + c.Text
			}
		}
	}
	for sheet, want := range map[string]string{
		"Prices!B3:C5": "sku n S1 5 S2 6", "!B3:C": "sku n S1 5 S2 6  " +
			"11", "Prices!$B$4:$C$5": "S1 5 S2 6", "!C3:C4": "n 5",
	} {
		got, err := read(sheet)
		require.NoError(t, err, sheet)
		assert.Equal(t, want, got, sheet)
	}
	for sheet, want := range map[string]string{
		"!B3:A4": "is not a range of cells", "!3": "is not a range of cells", "!B9:C": "column 1 has no name",
		"None!A1": `no sheet "None"`, "!A20:B": "the sheet is empty",
	} {
		_, err := read(sheet)
		assert.ErrorContains(t, err, want, sheet)
	}
	encrypted := filepath.Join(t.TempDir(), "a.xlsx")
	require.NoError(t, os.WriteFile(encrypted, []byte("\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1 and more"), 0o600))
	_, err := Open(encrypted, Options{})
	assert.ErrorContains(t, err, "encrypted with a password")
}

// A file that changes while it is read is refused.
func TestAFileThatChanges(t *testing.T) {
	path := write(t, "a.csv", "n\n1\n")
	stat := func() os.FileInfo {
		info, err := os.Stat(path)
		require.NoError(t, err)
		return info
	}
	before := stat()
	assert.True(t, sameFile(before, stat()))
	require.NoError(t, os.WriteFile(path, []byte("n\n1\n2\n"), 0o600))
	assert.False(t, sameFile(before, stat()))
	before = stat()
	require.NoError(t, os.Rename(path, path+".old"))
	require.NoError(t, os.WriteFile(path, []byte("n\n1\n2\n"), 0o600))
	assert.False(t, sameFile(before, stat()), "another file in its place")
	assert.False(t, sameFile(before, nil))

	// One that grows while it is read.
	grows := filepath.Join(t.TempDir(), "grows.csv")
	require.NoError(t, os.WriteFile(grows, []byte("n\n"+strings.Repeat("12345\n", 2_000_000)), 0o600))
	done := make(chan error)
	go func() {
		f, err := os.OpenFile(grows, os.O_APPEND|os.O_WRONLY, 0)
		if err == nil {
			for range 20 {
				if _, err = f.WriteString("1\n"); err != nil {
					break
				}
				time.Sleep(2 * time.Millisecond)
			}
			f.Close()
		}
		done <- err
	}()
	_, problems := Rows(plan.FileSpec{Path: grows})
	require.NoError(t, <-done)
	require.Len(t, problems, 1)
	assert.Contains(t, problems[0].Message, "changed while it was read")
}

// Rows below others are read from the lists that hold them, each with the line of the outermost row.
func TestNestedRows(t *testing.T) {
	path := write(
		t,
		"a.json",
		"{\"Pier\": [{\"id\": 9}],\n\"Order\": [\n{\"no\": 1, \"Line\": [{\"sku\": \"a\"}, {\"sku\": \"b\"}]},\n"+
			"{\"no\": 2},\n{\"no\": 3, \"Line\": [{\"sku\": \"c\"}]}\n]}",
	)
	got, err := records(path, Options{Inside: "Order.Line"})
	require.NoError(t, err)
	require.Len(t, got, 3)
	for inside, want := range map[string]int{"Order": 3, "Pier": 1, "Nobody": 0, "Order.Nobody": 0} {
		got, err := records(path, Options{Inside: inside})
		require.NoError(t, err, inside)
		assert.Len(t, got, want, inside)
	}
	for text, want := range map[string]string{
		`[{"a": 1}]`: "this is not an object with lists of rows", `{"A": 1}`: "A is not a " +
			"list", `{"A": [{"B": 1}]}`: "B is not a list",
		`{"A": [{"B": [1]}]}`: "this is not an object", `{"A": [`: "ends too early",
	} {
		_, err := records(write(t, "b.json", text), Options{Inside: "A.B"})
		assert.ErrorContains(t, err, want, text)
	}
	got, err = records(write(t, "list.json", `[{"a": 1}]`), Options{})
	require.NoError(t, err, "a list needs no inside")
	assert.Len(t, got, 1)
}
