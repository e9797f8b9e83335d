package files

import (
	"archive/zip"
	"bytes"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/cell"
	"evensprout/internal/value"
)

// styled makes a workbook with formats, and dates that count from 1904 if it says so.
func styled(t *testing.T, properties, rows string) string {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, text := range map[string]string{
		"xl/workbook.xml": `<workbook xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships">` + properties +
			`<sheets><sheet name="S" r:id="rId1"/></sheets></workbook>`,
		"xl/_rels/workbook.xml.rels": `<Relationships><Relationship Id="rId1" Target="worksheets/sheet1.xml"/></Relationships>`,
		"xl/styles.xml": `<styleSheet><numFmts><numFmt numFmtId="164" formatCode="00000"/><numFmt numFmtId="165" formatCode="dd/mm/yyyy"/>` +
			`<numFmt numFmtId="166" formatCode="[$-409]h:mm\ AM/PM;@"/><numFmt numFmtId="167" formatCode="#,##0.00 &quot;days&quot;"/></numFmts>` +
			`<cellXfs><xf numFmtId="0"/><xf numFmtId="14"/><xf numFmtId="22"/><xf numFmtId="164"/><xf numFmtId="165"/><xf numFmtId="166"/>` +
			`<xf numFmtId="167"/></cellXfs></styleSheet>`,
		"xl/worksheets/sheet1.xml": `<worksheet><sheetData>` + rows + `</sheetData></worksheet>`,
	} {
		w, err := z.Create(name)
		require.NoError(t, err)
		_, err = io.WriteString(w, text)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return write(t, "book.xlsx", b.String())
}

// A number means what the sheet shows: a date in either date system, a time, a code with zeros in front.
func TestNumbersMeanWhatSheetsShow(t *testing.T) {
	const head = `<row r="1"><c r="A1" t="inlineStr"><is><t>x</t></is></c></row>`
	for _, c := range []struct {
		properties, cell string
		as               value.Type
		want             string
	}{
		{"", `<c r="A2" s="1"><v>46143</v></c>`, value.Date, "2026-05-01"},
		{"", `<c r="A2" s="1"><v>46143</v></c>`, value.Text, "2026-05-01"},
		{"", `<c r="A2" s="4"><v>46143</v></c>`, value.Date, "2026-05-01"},
		{"", `<c r="A2" s="2"><v>46143.5</v></c>`, value.Timestamp, "2026-05-01T12:00:00Z"},
		{`<workbookPr date1904="1"/>`, `<c r="A2" s="1"><v>44681</v></c>`, value.Date, "2026-05-01"},
		{`<workbookPr date1904="true"/>`, `<c r="A2" s="4"><v>44681</v></c>`, value.Text, "2026-05-01"},
		{"", `<c r="A2" s="5"><v>0.75</v></c>`, value.Time, "18:00:00"},
		{"", `<c r="A2" s="3"><v>1234</v></c>`, value.Text, "01234"},
		{"", `<c r="A2" s="3"><v>1234</v></c>`, value.Integer, "1234"},
		{"", `<c r="A2" s="6"><v>46143</v></c>`, value.Integer, "46143"},
		{"", `<c r="A2" s="0"><v>46143</v></c>`, value.Text, "46143"},
		{"", `<c r="A2"><v>46143</v></c>`, value.Date, "2026-05-01"},
		{"", `<c r="A2" t="inlineStr"><is><t>a_x000D_b_x005F_c</t></is></c>`, value.Text, "a\rb_c"},
	} {
		r, err := Open(styled(t, c.properties, head+`<row r="2">`+c.cell+`</row>`), Options{})
		require.NoError(t, err, c.cell)
		record, err := r.Next()
		require.NoError(t, err, c.cell)
		v, err := cell.Parse(record.Cells[0], c.as)
		require.NoError(t, err, c.cell)
		assert.Equal(t, c.want, v.String(), "%s %s as %s", c.properties, c.cell, c.as)
		require.NoError(t, r.Close())
	}
}

// Cells stand in the columns that they name, in whatever order the sheet lists them.
func TestCellsOutOfOrder(t *testing.T) {
	text := func(at, s string) string { return `<c r="` + at + `" t="inlineStr"><is><t>` + s + `</t></is></c>` }
	r, err := Open(styled(t, "", `<row r="1">`+text("B1", "second")+text("A1", "first")+`</row><row r="2">`+text("B2", "b")+text("A2", "a")+
		`</row><row r="3">`+text("A3", "a")+text("A3", "again")+`</row>`), Options{})
	require.NoError(t, err)
	defer r.Close()
	assert.Equal(t, []string{"first", "second"}, r.Names())
	record, err := r.Next()
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b"}, []string{record.Cells[0].Text, record.Cells[1].Text})
	_, err = r.Next()
	assert.ErrorContains(t, err, "there twice")
}
