// Package fit holds values against the columns that take them, as these are declared, so
// that every engine refuses the same, also one that enforces nothing, and so that no
// server cuts or rounds.
package fit

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Reason is the kind of a misfit, spelled as that of the violation it would be.
type Reason string

// The reasons.
const (
	NotNull    Reason = "not_null"
	TooLong    Reason = "too_long"
	OutOfRange Reason = "out_of_range"
	BadValue   Reason = "bad_value"
)

// Misfit is why a column does not take a value.
type Misfit struct {
	Reason     Reason
	Constraint string // what refuses it: the declared type, or NOT NULL
	Message    string
}

// Value is nil if a column takes a value.
func Value(c *schema.Column, v *value.Value) *Misfit {
	switch v.Type {
	case value.Null:
		if c.NotNull {
			return &Misfit{NotNull, "NOT NULL", "the column is NOT NULL"}
		}
	case value.Text, value.JSON:
		if c.Most > 0 {
			return boundsMisfit(c, v)
		}
		return textMisfit(c, v.S)
	case value.Bytes:
		if c.Length > 0 && len(v.S) > c.Length {
			return refused(c, TooLong, "%d bytes are too long for %s", len(v.S), c.Declared)
		}
	case value.Integer:
		return integerMisfit(c, v)
	case value.Decimal:
		if c.Kind == schema.Decimal || c.Kind == schema.Real || c.Kind == schema.Any {
			return decimalMisfit(c, v)
		}
	case value.Time, value.Timestamp:
		return momentMisfit(c, v)
	}
	return nil
}

// integerMisfit tells why a column cannot take an integer; nil if it can.
func integerMisfit(c *schema.Column, v *value.Value) *Misfit {
	switch {
	case c.Most > 0:
		return boundsMisfit(c, v)
	case c.Kind == schema.Real, c.Kind == schema.Any, c.Kind == schema.Decimal:
		return decimalMisfit(c, v)
	case c.Kind == schema.Integer && !fitsInteger(c, v.N):
		lo, hi := c.Range()
		return refused(c, OutOfRange, "%d is out of range for %s, which goes from %d to %d", v.N, c.Declared, lo, hi)
	}
	return nil
}

// refused is a misfit with the column's type.
func refused(c *schema.Column, r Reason, format string, args ...any) *Misfit {
	return &Misfit{r, c.Declared, fmt.Sprintf(format, args...)}
}

// textMisfit says why a column does not take a text: its length.
func textMisfit(c *schema.Column, text string) *Misfit {
	if kept := numberOf(text); c.Numbers && kept != text {
		return refused(c, BadValue, "the engine keeps the number %s in place of the text %q in a column declared %s: declare it TEXT", kept, text, c.Declared)
	}
	if c.Length > 0 && len(text) > c.Length {
		if c.Kind == schema.Bytes {
			return refused(c, TooLong, "%d bytes are too long for %s", len(text), c.Declared)
		}
		if n := utf8.RuneCountInString(text); n > c.Length {
			return refused(c, TooLong, "%d characters are too long for %s", n, c.Declared)
		}
	}
	if c.Values != nil && !slices.Contains(c.Values, text) {
		return refused(c, BadValue, "it is not one of the values of %s", c.Declared)
	}
	return nil
}

// momentMisfit says why a column does not take a moment: digits of a second, years.
func momentMisfit(c *schema.Column, v *value.Value) *Misfit {
	if v.Type == value.Timestamp && c.Latest > 0 && (v.N <= 0 || v.N > c.Latest) {
		latest := value.Value{Type: value.Timestamp, N: c.Latest}
		return refused(c, OutOfRange, "%s holds moments from 1970 to %s", c.Declared, latest)
	}
	if (c.Kind == schema.Time || c.Kind == schema.Timestamp) && c.Digits < 6 && c.Digits >= 0 && c.Type != "" {
		unit := int64(1_000_000)
		for range c.Digits {
			unit /= 10
		}
		if v.N%unit != 0 {
			return refused(
				c,
				OutOfRange,
				"%s keeps %d digits of a second; the others would be lost",
				c.Declared,
				c.Digits,
			)
		}
	}
	return nil
}

// fitsInteger reports whether an integer is within the column's size.
func fitsInteger(c *schema.Column, n int64) bool {
	if c.Unsigned && n < 0 {
		return false
	}
	if c.Bits == 0 || c.Bits >= 64 {
		return true
	}
	if c.Unsigned {
		return n < 1<<c.Bits
	}
	return n < 1<<(c.Bits-1) && n >= -1<<(c.Bits-1)
}

// decimalMisfit says why a column does not take a decimal: too many digits on one side of the
// point.
func decimalMisfit(c *schema.Column, v *value.Value) *Misfit {
	if c.Exact > 0 {
		most := power(c.Exact)
		if v.N >= most || v.N <= -most {
			return refused(
				c,
				OutOfRange,
				"%s has more than %d digits, and the database would round it",
				v,
				c.Exact,
			)
		}
	}

	if c.Unsigned && v.N < 0 {
		return refused(c, OutOfRange, "%s is out of range for %s", v, c.Declared)
	}
	if c.Precision == 0 {
		return floatMisfit(c, v)
	}

	// Compared by digits, because the two scales together may not fit 64 bits.
	n, scale := v.N, int(v.Scale)
	if v.Type == value.Integer {
		scale = 0
	}
	for scale > c.Scale && n%10 == 0 {
		n /= 10
		scale--
	}
	if scale > c.Scale {
		return refused(c, OutOfRange, "%s has more decimal places than %s", v, c.Declared)
	}
	if whole := c.Precision - c.Scale + scale; whole < 19 {
		if most := power(max(whole, 0)); n >= most || n <= -most {
			return refused(c, OutOfRange, "%s is out of range for %s", v, c.Declared)
		}
	}
	return floatMisfit(c, v)
}

// floatMisfit says why a column of floating-point numbers does not take a number: it would be read back as another.
func floatMisfit(c *schema.Column, v *value.Value) *Misfit {
	if c.Float == 0 {
		return nil
	}
	was := v.String()
	f, err := strconv.ParseFloat(was, c.Float)
	if err != nil {
		return refused(c, OutOfRange, "%s is out of range for %s", v, c.Declared)
	}
	now := strconv.FormatFloat(f, 'f', -1, c.Float) // the shortest that means this number
	if trimmed(now) != trimmed(was) {
		return refused(c, OutOfRange, "%s keeps %s in place of %s: use fewer digits, or a decimal column", c.Declared, now, v)
	}
	return nil
}

// numberOf is what is read back of a text that an engine with numeric affinity takes for a number; the text itself if
// it is none.
func numberOf(text string) string {
	number := strings.Trim(text, " \t\n\v\f\r")
	if number == "" || strings.ContainsAny(number, "xXpP_nN") { // what only Go takes for a number
		return text
	}
	if n, err := strconv.ParseInt(number, 10, 64); err == nil {
		return strconv.FormatInt(n, 10)
	}
	f, err := strconv.ParseFloat(number, 64)
	if err != nil && !errors.Is(err, strconv.ErrRange) {
		return text
	}
	if whole := int64(f); float64(whole) == f && f > -1e15 && f < 1e15 {
		return strconv.FormatInt(whole, 10)
	}
	return strconv.FormatFloat(f, 'g', 15, 64)
}

// trimmed is a number without zeros at the end of its fraction.
func trimmed(number string) string {
	if !strings.Contains(number, ".") {
		return number
	}
	return strings.TrimSuffix(strings.TrimRight(number, "0"), ".")
}

// boundsMisfit says why a column that holds whole numbers between two bounds does not take a value.
func boundsMisfit(c *schema.Column, v *value.Value) *Misfit {
	n, err := strconv.ParseInt(v.String(), 10, 64)
	if err != nil || n < c.Least || n > c.Most {
		return refused(c, OutOfRange, "%s holds whole numbers from %d to %d, got %s", c.Declared, c.Least, c.Most, v)
	}
	return nil
}

// power is 10^n.
func power(n int) int64 {
	p := int64(1)
	for range min(n, 18) {
		p *= 10
	}
	return p
}
