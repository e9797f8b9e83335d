package files

import (
	"archive/zip"
	"regexp"
	"strconv"
	"strings"

	"evensprout/internal/cell"
	"evensprout/internal/value"
)

// What a number in a sheet means stands in the format in which it is shown (ECMA-376, part 1, 18.8.30): a date, a time,
// or a code with zeros in front.

// xlsxStyles are the formats of a workbook.
type xlsxStyles struct {
	Formats []struct {
		ID   int    `xml:"numFmtId,attr"`
		Code string `xml:"formatCode,attr"`
	} `xml:"numFmts>numFmt"`
	Cells []struct {
		Format int `xml:"numFmtId,attr"`
	} `xml:"cellXfs>xf"`
}

// shownAs is how a number is shown.
type shownAs struct {
	day, time bool
	digits    int // with zeros in front up to so many; 0: as it is
}

var (
	quotedPart = regexp.MustCompile(`"[^"]*"|\\.|_.|\*.|\[[^\]]*\]`)
	zeros      = regexp.MustCompile(`^0{2,}$`)
)

// readStyles reads how cells are shown, by the number of their style.
func readStyles(m *zip.File) ([]shownAs, error) {
	if m == nil {
		return nil, nil
	}
	var s xlsxStyles
	if err := decode(m, &s); err != nil {
		return nil, err
	}
	codes := map[int]string{}
	for _, f := range s.Formats {
		codes[f.ID] = f.Code
	}
	out := make([]shownAs, len(s.Cells))
	for i, c := range s.Cells {
		out[i] = shown(c.Format, codes[c.Format])
	}
	return out, nil
}

// shown says how a format shows numbers: one that every workbook has, or one with a code.
func shown(id int, code string) shownAs {
	switch {
	case code != "":
		first, _, _ := strings.Cut(code, ";")
		plain := strings.ToLower(quotedPart.ReplaceAllString(first, ""))
		if zeros.MatchString(plain) {
			return shownAs{digits: len(plain)}
		}
		if strings.ContainsAny(plain, "0#?") {
			return shownAs{}
		}
		return shownAs{day: strings.ContainsAny(plain, "yd") || strings.Contains(plain, "mmm"), time: strings.ContainsAny(plain, "hs")}
	case id >= 14 && id <= 17, id >= 27 && id <= 31, id == 36, id >= 50 && id <= 58:
		return shownAs{day: true}
	case id == 22:
		return shownAs{day: true, time: true}
	case id >= 18 && id <= 21, id >= 32 && id <= 35, id >= 45 && id <= 47:
		return shownAs{time: true}
	}
	return shownAs{}
}

// days1904 is how many days the older date system of some workbooks begins later.
const days1904 = 1462

// asShown makes of a number what the sheet shows: a date and time as ISO 8601 writes them, or a text with zeros in front
// beside the number.
func (r *xlsxReader) asShown(c cell.Cell, style int) cell.Cell {
	if style < 0 || style >= len(r.styles) {
		return c
	}
	s := r.styles[style]
	v, err := value.ParseDecimal(c.Text)
	if err != nil || v.N < 0 {
		return c
	}
	whole := int64(1)
	for range v.Scale {
		whole *= 10
	}
	switch {
	case s.digits > len(c.Text) && v.Scale == 0:
		c.Shown = strings.Repeat("0", s.digits-len(c.Text)) + c.Text
	case s.time && !s.day && v.N < whole: // a time of day
		c.Text = strconv.FormatInt(v.N/whole+50_000, 10) + strings.TrimPrefix(c.Text, "0") // some day that all sheets know
		if m, err := cell.Parse(c, value.Timestamp); err == nil {
			c.Kind, c.Text = cell.Text, (value.Value{Type: value.Time, N: m.N % value.Day}).String()
		}
	case s.day:
		return r.dayShown(c, v, whole)
	}
	return c
}

// dayShown is a day, with a time if v has a fraction; whole is one day in units of v.
func (r *xlsxReader) dayShown(c cell.Cell, v value.Value, whole int64) cell.Cell {
	if r.later {
		v.N += days1904 * whole
		c.Text = v.String()
	}
	t := value.Date
	if v.N%whole != 0 {
		t = value.Timestamp
	}
	if m, err := cell.Parse(c, t); err == nil {
		c.Kind, c.Text = cell.Text, m.String()
	}
	return c
}

// escaped is a character that XML cannot hold, as sheets write it.
var escaped = regexp.MustCompile(`_x([0-9A-Fa-f]{4})_`)

// unescaped is a text of a sheet with the characters that its escapes stand for.
func unescaped(text string) string {
	if !strings.Contains(text, "_x") {
		return text
	}
	return escaped.ReplaceAllStringFunc(text, func(x string) string {
		n, err := strconv.ParseUint(x[2:6], 16, 16)
		if err != nil || n >= 0xd800 && n < 0xe000 {
			return x
		}
		return string(rune(n))
	})
}
