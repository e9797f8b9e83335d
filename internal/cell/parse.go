package cell

import (
	"cmp"
	"encoding/base64"
	"encoding/json"
	"evensprout/internal/value"
	"fmt"
	"regexp"
	"strings"
)

var (
	integerPattern = regexp.MustCompile(`^-?(0|[1-9][0-9]{0,17})$`)
	decimalPattern = regexp.MustCompile(`^-?(0|[1-9][0-9]*)\.[0-9]+$`)
)

// Looks tells the narrowest type that a cell is of.
func Looks(c Cell) (value.Type, uint8) {
	switch c.Kind {
	case Boolean:
		return value.Boolean, 0
	case JSON:
		return value.JSON, 0
	case Number, Text:
		if c.Text == "true" || c.Text == "false" {
			return value.Boolean, 0
		}
		if integerPattern.MatchString(c.Text) || decimalPattern.MatchString(c.Text) {
			if v, err := value.ParseDecimal(c.Text); err == nil {
				return v.Type, v.Scale
			}
		}
	}

	if v, looks, err := value.ReadMoment(c.Text); looks && err == nil {
		return v.Type, v.Scale
	}
	const uuidLength = 36
	if len(c.Text) == uuidLength {
		if _, err := value.ParseUUID(c.Text); err == nil {
			return value.UUID, 0
		}
	}
	return value.Text, 0
}

// Join is the narrowest type that holds two.
func Join(a, b value.Type) value.Type {
	switch {
	case a == value.Null || a == b:
		return b
	case a == value.Integer && b == value.Decimal, a == value.Decimal && b == value.Integer:
		return value.Decimal
	case a == value.Date && b == value.Timestamp, a == value.Timestamp && b == value.Date:
		return value.Timestamp
	}
	return value.Text
}

// parseNumber reads a number without separators; whole numbers have no point.
func parseNumber(c Cell, t value.Type, bad func() error) (value.Value, error) {
	v, err := value.ParseDecimal(c.Text)
	if err == nil && (t == value.Decimal || v.Type == value.Integer) && !strings.Contains(c.Text, "_") {
		v.Type = t
		return v, nil
	}
	if !strings.ContainsAny(c.Text, ",'\u00a0\u202f ") {
		return v, bad()
	}
	if t == value.Integer {
		return v, fmt.Errorf("%w: write it without thousands separators", bad())
	}
	return v, fmt.Errorf("%w: write it with a decimal point and without thousands separators", bad())
}

// parseMoment reads a date, or a moment that may be a date.
func parseMoment(c Cell, t value.Type) (value.Value, error) {
	if t == value.Date {
		return value.ParseDate(c.Text)
	}
	if v, err := value.ParseDate(c.Text); err == nil {
		return value.Value{Type: value.Timestamp, N: v.N * value.Day}, nil
	}
	return value.ParseTimestamp(c.Text)
}

// Parse reads a cell strictly as a type.
func Parse(c Cell, t value.Type) (value.Value, error) {
	bad := func() error { return fmt.Errorf("%q is not a valid %s", Clip(c.Text), t) } // made only where it is returned
	switch t {
	case value.Text:
		return value.String(cmp.Or(c.Shown, c.Text)), nil
	case value.Integer:
		return parseNumber(c, value.Integer, bad)
	case value.Decimal:
		return parseNumber(c, value.Decimal, bad)
	case value.Boolean:
		return parseBool(c, bad)
	case value.Date, value.Timestamp:
		if c.Kind == Number {
			return serial(c, t)
		}
		return parseMoment(c, t)
	case value.Bytes:
		b, err := base64.StdEncoding.DecodeString(c.Text)
		if err != nil {
			return value.Value{}, fmt.Errorf("%q is not base64", Clip(c.Text))
		}
		return value.Value{Type: value.Bytes, S: string(b)}, nil
	case value.Time:
		return value.ParseTime(c.Text)
	case value.UUID:
		return value.ParseUUID(c.Text)
	case value.JSON:
		if c.Kind == Quoted {
			return value.Value{Type: value.JSON, S: string(AppendJSONText(nil, c.Text))}, nil
		}
		if !json.Valid([]byte(c.Text)) {
			return value.Value{}, bad()
		}
		return value.Value{Type: value.JSON, S: c.Text}, nil
	}
	return value.Value{}, bad()
}

// parseBool reads yes or no.
func parseBool(c Cell, bad func() error) (value.Value, error) {
	switch strings.ToLower(c.Text) {
	case "true", "1", "yes":
		return value.Bool(true), nil
	case "false", "0", "no":
		return value.Bool(false), nil
	}
	return value.Value{}, fmt.Errorf("%w: true or false, yes or no, 1 or 0", bad())
}

// serial reads the number of days since 1899-12-30 that sheets keep for dates.
func serial(c Cell, t value.Type) (value.Value, error) {
	v, err := value.ParseDecimal(c.Text)
	if err != nil || v.N < 0 {
		return v, fmt.Errorf("%q is not a valid %s", Clip(c.Text), t)
	}
	const epoch = -25569 // 1899-12-30
	whole := int64(1)
	for range v.Scale {
		whole *= 10
	}
	days, rest := v.N/whole, v.N%whole
	if days < 61 || days > 2_958_465 { // before March 1900, sheets disagree; the last is 9999-12-31
		return v, fmt.Errorf("%q is not a %s that all spreadsheets read alike", Clip(c.Text), t)
	}
	if t == value.Date {
		if rest != 0 {
			return v, fmt.Errorf("%q is a date with a time of day", Clip(c.Text))
		}
		return value.Value{Type: value.Date, N: days + epoch}, nil
	}

	// To the nearest second: the fraction of a day is not exact.
	for whole > 1e12 {
		whole, rest = whole/10, rest/10
	}
	seconds := (rest*86_400*2 + whole) / (2 * whole)
	return value.Value{Type: value.Timestamp, N: (days+epoch)*value.Day + seconds*value.Second}, nil
}

// Clip cuts a text for a message.
func Clip(s string) string {
	if len(s) > 40 {
		return strings.ToValidUTF8(s[:40], "") + "..."
	}
	return s
}
