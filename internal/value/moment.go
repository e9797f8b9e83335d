package value

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
)

// Microseconds of the units of time.
const (
	Second = int64(1_000_000)
	Minute = 60 * Second
	Hour   = 60 * Minute
	Day    = 24 * Hour
)

// Civil returns the date of a day number. Source: H. Hinnant, "chrono-Compatible
// Low-Level Date Algorithms" (proleptic Gregorian calendar, integers only).
func Civil(days int64) (year int64, month, day int) {
	days += 719468
	era := FloorDiv(days, 146097)
	doe := days - era*146097
	yoe := (doe - doe/1460 + doe/36524 - doe/146096) / 365
	doy := doe - (365*yoe + yoe/4 - yoe/100)
	mp := (5*doy + 2) / 153
	day = int(doy - (153*mp+2)/5 + 1)
	month = int(mp) + 3
	if month > 12 {
		month -= 12
	}
	year = yoe + era*400
	if month <= 2 {
		year++
	}
	return year, month, day
}

// daysOf is the inverse of Civil.
func daysOf(year int64, month, day int) int64 {
	if month <= 2 {
		year--
	}
	era := FloorDiv(year, 400)
	yoe := year - era*400
	mp := int64(month+9) % 12
	doy := (153*mp+2)/5 + int64(day) - 1
	return era*146097 + yoe*365 + yoe/4 - yoe/100 + doy - 719468
}

// monthDays is the number of days of a month.
func monthDays(year int64, month int) int {
	switch month {
	case 4, 6, 9, 11:
		return 30
	case 2:
		if year%4 == 0 && (year%100 != 0 || year%400 == 0) {
			return 29
		}
		return 28
	}
	return 31
}

// FloorDiv divides and rounds down.
func FloorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

// appendDate appends a date; days count from 1970-01-01.
func appendDate(b []byte, days int64) []byte {
	y, m, d := Civil(days)
	if y < 0 {
		b = append(b, '-')
		y = -y
	}
	for limit := int64(1000); limit > y && limit > 1; limit /= 10 {
		b = append(b, '0')
	}
	b = strconv.AppendInt(b, y, 10)
	return append(b, '-', '0'+byte(m/10), '0'+byte(m%10), '-', '0'+byte(d/10), '0'+byte(d%10))
}

// appendClock appends a time of day; us are microseconds since midnight.
func appendClock(b []byte, us int64, digits uint8) []byte {
	s := us / Second
	h, m := s/3600, s/60%60
	s %= 60
	b = append(
		b,
		'0'+byte(h/10),
		'0'+byte(h%10),
		':',
		'0'+byte(m/10),
		'0'+byte(m%10),
		':',
		'0'+byte(s/10),
		'0'+byte(s%10),
	)
	if digits > 0 {
		b = append(b, '.')
		unit, fraction := int64(100_000), us%Second
		for range min(digits, 6) {
			b = append(b, '0'+byte(fraction/unit%10))
			unit /= 10
		}
	}
	return b
}

// appendTimestamp appends a moment in UTC; us are microseconds since 1970.
func appendTimestamp(b []byte, us int64, digits uint8, between byte) []byte {
	days := FloorDiv(us, Day)
	b = append(appendDate(b, days), between)
	return appendClock(b, us-days*Day, digits)
}

// AppendTimestamp appends a moment in UTC as YYYY-MM-DD hh:mm:ss, without zone,
// the way most databases read it.
func AppendTimestamp(b []byte, v Value) []byte { return appendTimestamp(b, v.N, v.Scale, ' ') }

// ParseDate reads YYYY-MM-DD.
func ParseDate(s string) (Value, error) {
	y, m, d, ok := cutDate(s)
	if !ok {
		return Value{}, fmt.Errorf("%q is not a date (YYYY-MM-DD)", s)
	}
	return Value{Type: Date, N: daysOf(y, m, d)}, nil
}

// cutDate reads YYYY-MM-DD; not ok if it is no day of the calendar.
func cutDate(s string) (y int64, m, d int, ok bool) {
	if len(s) != 10 || s[4] != '-' || s[7] != '-' || !allDigits(s[:4]) || !allDigits(s[5:7]) || !allDigits(s[8:]) {
		return 0, 0, 0, false
	}
	y = int64(twoDigits(s)*100 + twoDigits(s[2:]))
	m, d = twoDigits(s[5:]), twoDigits(s[8:])
	return y, m, d, m >= 1 && m <= 12 && d >= 1 && d <= monthDays(y, m)
}

// twoDigits is the number that a text of digits begins with.
func twoDigits(s string) int { return int(s[0]-'0')*10 + int(s[1]-'0') }

// hasClockForm reports whether a text has the form hh:mm:ss.
func hasClockForm(s string) bool {
	return len(s) == 8 && s[2] == ':' && s[5] == ':' &&
		allDigits(s[:2]) && allDigits(s[3:5]) && allDigits(s[6:])
}

// ParseTime reads hh:mm, hh:mm:ss or hh:mm:ss.ffffff.
func ParseTime(s string) (Value, error) {
	bad := func() error { return fmt.Errorf("%q is not a time of day (hh:mm:ss)", s) }
	body, fraction, point := strings.Cut(s, ".")
	if len(body) == 5 && !point {
		body += ":00"
	}
	if !hasClockForm(body) || point && (fraction == "" || len(fraction) > 6 || !allDigits(fraction)) {
		return Value{}, bad()
	}
	h, m, sec := twoDigits(body), twoDigits(body[3:]), twoDigits(body[6:])
	if h > 23 || m > 59 || sec > 59 {
		return Value{}, bad()
	}
	v := Value{Type: Time, Scale: uint8(len(fraction)), N: int64(h)*Hour + int64(m)*Minute + int64(sec)*Second}
	if point {
		f, _ := strconv.ParseInt((fraction + "000000")[:6], 10, 64)
		v.N += f
	}
	return v, nil
}

// ParseTimestamp reads an RFC 3339 moment; without a zone it is UTC. A space
// may stand for the T.
func ParseTimestamp(s string) (Value, error) {
	bad := func() error { return fmt.Errorf("%q is not a moment (YYYY-MM-DDThh:mm:ssZ)", s) }
	if len(s) < 16 || s[10] != 'T' && s[10] != ' ' {
		return Value{}, bad()
	}
	day, err := ParseDate(s[:10])
	if err != nil {
		return Value{}, bad()
	}
	rest, zone := s[11:], int64(0)
	if r, ok := strings.CutSuffix(rest, "Z"); ok {
		rest = r
	} else if i := strings.LastIndexAny(rest, "+-"); i > 0 {
		off, err := ParseTime(rest[i+1:])
		if err != nil || len(rest[i+1:]) != 5 {
			return Value{}, bad()
		}
		zone = off.N
		if rest[i] == '-' {
			zone = -zone
		}
		rest = rest[:i]
	}

	clock, err := ParseTime(rest)
	if err != nil {
		return Value{}, bad()
	}
	return Value{Type: Timestamp, Scale: clock.Scale, N: day.N*Day + clock.N - zone}, nil
}

// ReadMoment reads a date, a moment or a time of day by its looks. The second result
// reports whether the text looks like one of them; it may be wrong all the same, such as
// the 30th of February.
func ReadMoment(s string) (Value, bool, error) {
	const longest = 40
	if len(s) < len("99:99") || len(s) > longest || !isDigit(s[0]) {
		return Value{}, false, nil
	}
	form := strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return '9'
		}
		return r
	}, s)
	read := func(parse func(string) (Value, error)) (Value, bool, error) {
		v, err := parse(s)
		return v, true, err
	}
	switch {
	case form == "9999-99-99":
		return read(ParseDate)
	case strings.HasPrefix(form, "9999-99-99T99:"), strings.HasPrefix(form, "9999-99-99 99:"):
		return read(ParseTimestamp)
	case form == "99:99", form == "99:99:99", strings.HasPrefix(form, "99:99:99.9"):
		return read(ParseTime)
	}
	return Value{}, false, nil
}

// allDigits reports whether a text is digits only.
func allDigits(s string) bool {
	for _, c := range []byte(s) {
		if c < '0' || c > '9' {
			return false
		}
	}
	return s != ""
}

// Span is a length of time: whole months, whose length depends on where they
// start, plus microseconds.
type Span struct {
	Months int64
	Micros int64
}

// spanUnit is a unit that spans are written in.
type spanUnit struct {
	name string
	span Span
}

var spanUnits = []spanUnit{
	{"mo", Span{Months: 1}}, {"us", Span{Micros: 1}}, {"ms", Span{Micros: 1000}},
	{"s", Span{Micros: Second}}, {"m", Span{Micros: Minute}}, {"h", Span{Micros: Hour}},
	{"d", Span{Micros: Day}}, {"w", Span{Micros: 7 * Day}}, {"y", Span{Months: 12}},
}

// ParseSpan reads spans such as 90d, 4h, 13mo or 1h30m.
func ParseSpan(s string) (Span, error) {
	bad := fmt.Errorf(
		"%q is not a span: a number with one of s, m (minutes), h, d, w, mo (months), y, such as 90d or 1h30m",
		s,
	)
	var total Span
	rest := s
	for rest != "" {
		i := 0
		for i < len(rest) && rest[i] >= '0' && rest[i] <= '9' {
			i++
		}
		n, err := strconv.ParseInt(rest[:i], 10, 64)
		if err != nil {
			return Span{}, bad
		}
		j := i
		for j < len(rest) && (rest[j] < '0' || rest[j] > '9') {
			j++
		}
		u := slices.IndexFunc(spanUnits, func(u spanUnit) bool { return u.name == rest[i:j] })
		if u < 0 {
			return Span{}, bad
		}
		if !total.add(n, spanUnits[u].span) {
			return Span{}, fmt.Errorf("%q is longer than 10,000 years", s)
		}
		rest = rest[j:]
	}

	if total == (Span{}) {
		return Span{}, bad
	}
	return total, nil
}

// add adds a number of spans; it is not ok if the sum is longer than 10,000 years.
func (s *Span) add(n int64, unit Span) (ok bool) {
	const (
		mostMicros = 10_000 * 366 * Day
		mostMonths = 10_000 * 12
	)
	if unit.Micros > 0 && n > mostMicros/unit.Micros || unit.Months > 0 && n > mostMonths/unit.Months {
		return false
	}
	s.Micros += n * unit.Micros
	s.Months += n * unit.Months
	return s.Micros <= mostMicros && s.Months <= mostMonths
}

// After adds a span to a moment; a day that the month does not have becomes its
// last day.
func (s Span) After(us int64, sign int64) int64 {
	if s.Months != 0 {
		days := FloorDiv(us, Day)
		y, m, d := Civil(days)
		months := y*12 + int64(m-1) + sign*s.Months
		y, m = FloorDiv(months, 12), int(months-FloorDiv(months, 12)*12)+1
		us += (daysOf(y, m, min(d, monthDays(y, m))) - days) * Day
	}
	if us > math.MaxInt64/4 || us < math.MinInt64/4 {
		return us
	}
	return us + sign*s.Micros
}

const (
	minYear = 1
	maxYear = 9999
)

var (
	firstDay = daysOf(minYear, 1, 1)
	lastDay  = daysOf(maxYear, 12, 31)
)

// InCalendar reports whether a date or moment lies in the years 1 to 9999: those that all
// engines and formats know. The error says which it is; other values have none.
func InCalendar(v *Value) error {
	days := v.N
	switch v.Type {
	case Timestamp:
		days = FloorDiv(v.N, Day)
	case Date:
	default:
		return nil
	}
	if days < firstDay || days > lastDay {
		return errors.New("the date is not in the years 1 to 9999")
	}
	return nil
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }
