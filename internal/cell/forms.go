package cell

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"evensprout/internal/value"
)

// Forms says how numbers and dates are written in a file. The zero value is that of the standards: a decimal point, no
// thousands separators, ISO 8601.
type Forms struct {
	Decimal string // comma or point: then groups of three digits may be apart; empty: a point, and no groups
	Dates   string // the order of day, month and year and what stands between, such as d.m.y; empty: ISO 8601
}

// Decimals and DateForms are what Forms can be.
var (
	Decimals  = []string{"point", "comma"}
	DateForms = []string{"d.m.y", "d/m/y", "m/d/y", "d-m-y", "m-d-y", "y/m/d", "y.m.d"}
)

var (
	withComma = regexp.MustCompile(`^[-+]?(\d+|\d{1,3}(?:[. \x{a0}\x{202f}']\d{3})+)(,\d+)?$`)
	withPoint = regexp.MustCompile(`^[-+]?(\d+|\d{1,3}(?:[, \x{a0}\x{202f}']\d{3})+)(\.\d+)?$`)
	inGroups  = regexp.MustCompile(`^[-+]?\d{1,3}(?:\.\d{3})+$`)
	dateText  = regexp.MustCompile(
		`^(\d{1,4})([./-])(\d{1,2})([./-])(\d{1,4})(?:[ T](\d{1,2}:\d{2}(?::\d{2}(?:\.\d+)?)?))?$`,
	)
)

// Plain is a cell as the standards write it, if it is in one of the forms: 1.234,50 is 1234.50, and 31.12.2026 is
// 2026-12-31.
func (f Forms) Plain(c Cell) Cell {
	if f == (Forms{}) || c.Kind != Text && c.Kind != Quoted {
		return c
	}
	if text, ok := f.number(c.Text); ok {
		c.Kind, c.Text = Text, text
	} else if text, ok := f.date(c.Text); ok {
		c.Text = text
	}
	return c
}

// number writes a number with a decimal point and without groups.
func (f Forms) number(s string) (string, bool) {
	pattern := map[string]*regexp.Regexp{"comma": withComma, "point": withPoint}[f.Decimal]
	if pattern == nil {
		return "", false
	}
	m := pattern.FindStringSubmatch(s)
	if m == nil {
		return "", false
	}
	whole := strings.Map(func(r rune) rune {
		if r < '0' || r > '9' {
			return -1
		}
		return r
	}, m[1])
	if len(whole) > 1 && whole[0] == '0' {
		return "", false // a code, not a number
	}
	if strings.HasPrefix(s, "-") {
		whole = "-" + whole
	}
	return whole + strings.Replace(m[2], ",", ".", 1), true
}

// date writes a date, and the time behind it, as ISO 8601 does.
func (f Forms) date(s string) (string, bool) {
	m := dateText.FindStringSubmatch(s)
	if m == nil || f.Dates == "" || m[2] != m[4] || m[2] != f.Dates[1:2] {
		return "", false
	}
	parts := map[byte]string{f.Dates[0]: m[1], f.Dates[2]: m[3], f.Dates[4]: m[5]}
	if len(parts['y']) != 4 || len(parts['d']) > 2 || len(parts['m']) > 2 {
		return "", false
	}
	out := fmt.Sprintf("%s-%02s-%02s", parts['y'], parts['m'], parts['d'])
	if _, err := value.ParseDate(out); err != nil {
		return "", false
	}
	if m[6] != "" {
		out += fmt.Sprintf(" %08s", m[6]+map[bool]string{true: ":00"}[strings.Count(m[6], ":") == 1])
	}
	return out, true
}

// Recognise finds the forms in which texts are written that are to be numbers, and those that are to be dates. What
// can be read in two ways is an error. commas tells that something else about the file, such as its separator, speaks for
// decimal commas: then 1.234 can be read in two ways, too.
func Recognise(numbers, dates []string, commas bool) (Forms, error) {
	decimal, err := decimalOf(numbers, commas)
	if err != nil {
		return Forms{}, err
	}
	f := Forms{Decimal: decimal}
	f.Dates, err = datesOf(dates)
	return f, err
}

// readingOf says how a number can be read: with a decimal comma, a decimal point, either of them, or, if the reading
// is empty, with both alike. A reading that is not sure is likely, and holds unless another number says otherwise.
// commas tells that some number has a comma.
func readingOf(s string, commas bool) (reading string, sure bool) {
	commaFits, pointFits, groups := withComma.MatchString(s), withPoint.MatchString(s), inGroups.MatchString(s)
	if strings.Contains(s, ",") {
		switch {
		case commaFits && pointFits: // 1,234
			return "either", false
		case commaFits:
			return "comma", true
		case pointFits:
			return "point", true
		}
		return "", false
	}
	switch {
	case groups && strings.Count(s, ".") > 1: // 1.234.567
		return "comma", true
	case groups && commas: // 1.234
		return "either", false
	case pointFits && !groups && strings.Contains(s, "."): // 1.5
		return "point", false
	}
	return "", false
}

// decimalOf finds out whether numbers have a decimal comma or thousands separators; empty if they have neither.
func decimalOf(numbers []string, commas bool) (string, error) {
	ambiguous, point := "", false
	for _, s := range numbers {
		switch reading, sure := readingOf(s, commas); {
		case reading == "":
		case reading == "either":
			ambiguous = s
		case sure:
			return reading, nil
		default:
			point = true
		}
	}
	if ambiguous != "" && !(point && !strings.Contains(ambiguous, ",")) {
		return "", fmt.Errorf("%q can be a decimal comma or a thousands separator: say which with --decimal comma or "+
			"--decimal point", ambiguous)
	}
	return "", nil
}

// datesOf finds out in which order dates are written; empty if they are ISO 8601, or no dates.
func datesOf(dates []string) (string, error) {
	var seen []string
	for _, s := range dates {
		if !dateText.MatchString(s) {
			continue
		}
		if _, err := value.ParseDate(strings.Fields(strings.Replace(s, "T", " ", 1))[0]); err != nil {
			seen = append(seen, s)
		}
	}
	if len(seen) == 0 {
		return "", nil
	}
	var fits []string
	for _, form := range DateForms {
		g := Forms{Dates: form}
		if !slices.ContainsFunc(seen, func(s string) bool { _, ok := g.date(s); return !ok }) {
			fits = append(fits, form)
		}
	}
	switch len(fits) {
	case 0:
		return "", nil // each cell that is no date is reported
	case 1:
		return fits[0], nil
	}
	return "", fmt.Errorf("%q can be written as %s: say which with --dates", seen[0], strings.Join(fits, " or "))
}
