package derive

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// shape writes an expression down, with its known parts as k0, k1, ...
func shape(e *schema.Expr) string {
	switch e.Op {
	case schema.OpColumn:
		return e.Column.Name
	case schema.OpInput:
		return fmt.Sprintf("k%d", e.Input)
	}
	var args []string
	for _, a := range e.Args {
		args = append(args, shape(a))
	}
	return "(" + strings.Join(append([]string{string(e.Op)}, args...), " ") + ")"
}

func splitUp(t *testing.T, text string) (string, []string, error) {
	t.Helper()
	columns := map[string]*schema.Column{
		"seats": {
			Name: "seats",
			Kind: schema.Integer,
		}, "price": {Name: "price", Kind: schema.Decimal, Scale: 2}, "row.note": {Name: "note", Kind: schema.Text},
	}
	inputs := map[string]Input{
		"seats": {
			Type: value.Integer,
		}, "price": {Type: value.Decimal, Scale: 2}, "row.note": {Type: value.Text}, "n": {Type: value.Integer},
		"rate": {Type: value.Decimal, Scale: 2}, "found.name": {Type: value.Text},
	}
	p, err := Parse(text)
	require.NoError(t, err, text)
	var used []Input
	row := map[string]*schema.Column{}
	for _, name := range p.Names() {
		in, ok := inputs[name]
		require.True(t, ok, name)
		in.Name = name
		used = append(used, in)
		if columns[name] != nil {
			row[name] = columns[name]
		}
	}
	e, known, err := p.Split(used, row, 2)
	if err != nil {
		return "", nil, err
	}
	var parts []string
	for _, k := range known {
		parts = append(parts, strings.Join(k.Names, " "))
	}
	return shape(e), parts, nil
}

// What does not read the row is computed before, in parts as large as can be; the rest is
// the database's.
func TestSplit(t *testing.T) {
	for text, want := range map[string]string{
		"seats - 1":                           "(- seats k0) | ",
		"seats - (n * 2 + 1)":                 "(- seats k0) | n",
		"price + rate * 2":                    "(+ price k0) | rate",
		"price * n":                           "(* price k0) | n",
		"-seats + n":                          "(+ (negate seats) k0) | n",
		`row.note + "-" + upper(found.name)`:  "(join (join note k0) k1) | , found.name",
		"seats > n ? seats - n : 0":           "(if (> seats k0) (- seats k1) k2) | n, n, ",
		"!(seats == n) && price < rate":       "(AND (NOT (= seats k0)) (< price k1)) | n, rate",
		"seats != 1 || seats >= 2 || 3 >= n":  "(OR (OR (<> seats k0) (>= seats k1)) k2) | , , n",
		"n + 1":                               "k0 | n",
		`price + decimal("1.50")`:             "(+ price k0) | ",
		"(seats <= 5 ? rate : price) - price": "(- (if (<= seats k0) k1 price) price) | , rate",
	} {
		got, parts, err := splitUp(t, text)
		if assert.NoError(t, err, text) {
			assert.Equal(t, want, got+" | "+strings.Join(parts, ", "), text)
		}
	}
}

// What databases compute in different ways is refused, with its place.
func TestSplitRefuses(t *testing.T) {
	for text, want := range map[string]string{
		"n + seats / 2":    "databases compute a division in different ways",
		"seats % 2":        "databases compute a division in different ways",
		"upper(row.note)":  "databases compute upper in different ways",
		"price * rate":     "a product of decimals has more digits than the column",
		"price * price":    "a product of decimals has more digits than the column",
		"[seats, 1][0]":    "databases compute",
		"1 + price * rate": "a product of decimals has more digits than the column",
	} {
		_, _, err := splitUp(t, text)
		if assert.Error(t, err, text) {
			assert.Contains(t, err.Error(), want, text)
		}
	}
	_, _, err := splitUp(t, "n + seats / 2")
	var e *Error
	require.ErrorAs(t, err, &e)
	assert.Equal(t, [2]int{1, 11}, [2]int{e.Line, e.Column})
	assert.Contains(t, e.Hint, "find")
}

// The known parts compute what the whole would.
func TestKnownParts(t *testing.T) {
	p, err := Parse("seats - (n * 2 + 1)")
	require.NoError(t, err)
	seats := &schema.Column{Name: "seats", Kind: schema.Integer}
	_, known, err := p.Split(
		[]Input{{Name: "seats", Type: value.Integer}, {Name: "n", Type: value.Integer}},
		map[string]*schema.Column{"seats": seats},
		0,
	)
	require.NoError(t, err)
	require.Len(t, known, 1)
	v, err := known[0].Eval([]value.Value{value.Int(20)})
	require.NoError(t, err)
	assert.Equal(t, value.Int(41), v)
}

func FuzzSplit(f *testing.F) {
	f.Add("seats - 1 > 0 ? price : price * 2")
	f.Fuzz(func(t *testing.T, text string) {
		p, err := Parse(text)
		if err != nil {
			return
		}
		var inputs []Input
		row := map[string]*schema.Column{}
		for i, name := range p.Names() {
			inputs = append(
				inputs,
				Input{
					Name:  name,
					Type:  []value.Type{value.Integer, value.Decimal, value.Text, value.Boolean}[i%4],
					Scale: 2,
				},
			)
			if i%2 == 0 {
				row[name] = &schema.Column{Name: name, Kind: schema.Integer}
			}
		}
		e, known, err := p.Split(inputs, row, 2)
		if err != nil {
			return
		}
		e.Visit(func(x *schema.Expr) {
			if x.Op == schema.OpInput && x.Input >= len(known) {
				t.Fatalf("%s: a part that is not known", text)
			}
		})
	})
}
