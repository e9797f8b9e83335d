package draft

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/predicate"
	"evensprout/internal/schema"
)

// Source is where a field gets its values, as a flow mapping of YAML.
type Source struct {
	Text    string
	Space   uint64 // how many different values there are; 0 if they cannot be made to differ
	Fixed   bool   // the same in every row
	Follows bool   // it follows from another field
	Own     string // the column of its own row that it repeats, if any
	Alone   bool   // its values differ by themselves

	plain string // of a part of a draw: the source that it stands for
}

func countable(text string, space uint64) Source { return Source{Text: text, Space: space} }

// with adds a modifier to a source.
func (s Source) with(modifier string) string {
	if !strings.HasSuffix(s.Text, "}") {
		return s.Text
	}
	return strings.TrimSuffix(s.Text, "}") + ", " + modifier + "}"
}

// fill decides where each field gets its values.
func (t *Table) fill(ctx context.Context) error {
	for _, f := range t.Fields {
		wordy := f.Column.Kind == schema.Text || f.Column.Kind == schema.Any || f.Column.Kind == schema.JSON
		if f.ref == nil && wordy && slices.Contains(t.Schema.Watched, f.Column.Name) && (f.Column.Default || !f.Column.NotNull) && !t.Schema.IsKey(f.Column.Name) && !t.d.targeted(f) {
			f.unsaid = true // a trigger looks at it, and does not say what it expects
		}
	}
	if err := t.fillRest(ctx); err != nil {
		return err
	}
	for _, f := range t.Fields {
		if f.Source.Follows || f.lead {
			t.meetOther(f)
		}
	}
	t.pair()
	t.Meets = append(t.Meets, t.rest...)
	return t.askTogether(ctx)
}

// fillRest decides about the fields that have no source yet.
func (t *Table) fillRest(ctx context.Context) error {
	if t.existing {
		return nil
	}
	for _, f := range t.Fields {
		switch {
		case f.unsaid, f.Source.Text != "", t.parent != nil && f.ref == t.parent, f.lead, t.plannedKey(f):
			continue
		}
		if err := t.fillField(ctx, f); err != nil {
			return err
		}
	}
	return nil
}

// plannedKey tells whether a field is a key that the plan need not mention.
func (t *Table) plannedKey(f *Field) bool {
	key := t.Schema.PrimaryKey
	return len(key) == 1 && key[0] == f.Column.Name && t.held().Rows == 0 && f.named() && t.domains[key[0]] == nil && f.ref == nil &&
		(f.Column.Kind == schema.UUID || f.Column.Kind == schema.Integer && (f.Column.Bits == 0 || f.Column.Bits > 16))
}

func (t *Table) fillField(ctx context.Context, f *Field) error {
	c, d := f.Column, t.domain(f.Column)
	delete(t.domains, c.Name) // an empty one was made
	if len(d.conditions) > 0 || len(d.opaque) > 0 || !isFree(d) {
		t.domains[c.Name] = d
	}
	if key := t.Schema.PrimaryKey; len(key) == 1 && key[0] == c.Name && c.Kind == schema.Integer && isFree(d) {
		if highest, ok := t.held().Highest[c.Name]; ok {
			_, most := typeRange(c)
			first := beyond(highest, c)
			f.Source = Source{Text: fmt.Sprintf("{count: %d}", first), Space: uint64(max(most-first, 0)), Alone: true}
			f.Comment = fmt.Sprintf("the table has keys up to %d", highest)
			return nil
		}
	}
	f.Nulls = !c.NotNull && !d.NotNull && !t.d.targeted(f) && !slices.Contains(t.Schema.Watched, c.Name) && !t.nullsEqual(c)
	if d.Null {
		f.null("a condition leaves nothing else")
		return nil
	}
	for _, from := range d.from {
		f.Comment = "from CHECK (" + from + ")"
	}
	if d.constants {
		f.Comment = "the constants of its type"
	}
	candidates := t.candidates(f, d)
	several := slices.ContainsFunc(candidates, func(s Source) bool { return s.Space != 1 })
	for _, s := range candidates {
		if s.Space == 1 && several {
			continue // always the same: only if nothing else will do
		}
		if admits(c, d, s, 1) {
			f.Source = s
			if len(d.opaque) > 0 {
				return t.ask(ctx, f, d, candidates)
			}
			return nil
		}
	}
	if len(d.opaque) > 0 {
		return t.ask(ctx, f, d, candidates)
	}
	// None passes always: the one that passes most often, drawn until it does.
	best := -1.0
	const rare = 0.02
	for _, s := range candidates {
		if s.Space == 1 && several && best >= rare {
			continue
		}
		if share := passes(c, d, s); share > best {
			best, f.Source = share, s
		}
	}
	if best == 1 {
		return nil
	}
	if best <= 0 && !c.NotNull {
		f.null(f.Comment)
		return nil
	}
	if len(candidates) == 0 {
		if !c.NotNull || c.Default {
			f.null("values of the type " + c.Declared + " are not known here")
			if c.NotNull {
				f.Source = Source{} // the database has a default
			}
			return nil
		}
		t.leave(fmt.Sprintf("no values are known for %s, of the type %s", c.Name, c.Declared))
		return nil
	}
	for _, from := range d.from {
		t.Meets = append(t.Meets, Condition{Text: from, From: from})
	}
	return nil
}

// nullsEqual tells whether a key lets only one row have NULL in a column.
func (t *Table) nullsEqual(c *schema.Column) bool {
	return slices.ContainsFunc(t.Schema.Uniques, func(u schema.Unique) bool { return u.NullsEqual && slices.Contains(u.Columns, c.Name) })
}

func isFree(d *domain) bool {
	return d.Only == nil && d.Min == nil && d.Max == nil && !d.NotNull && !d.Null && len(d.Shapes) == 0 && d.Longest == 0 && d.Shortest == 0 && len(d.Not) == 0
}

// meetOther keeps the conditions on a field whose values come from elsewhere.
func (t *Table) meetOther(f *Field) {
	if d := t.domains[f.Column.Name]; d != nil {
		for _, from := range d.from {
			t.Meets = append(t.Meets, Condition{Text: from, From: from})
		}
	}
}

// candidates are sources for a column, the most telling first.
func (t *Table) candidates(f *Field, d *domain) []Source {
	c := f.Column
	if values := d.Values(); values != nil {
		return []Source{chosen(c, values)}
	}
	if c.Values != nil {
		return []Source{chosenTexts(c.Values)}
	}
	switch c.Kind {
	case schema.Integer, schema.Decimal, schema.Real:
		return numbers(c, d)
	case schema.Boolean:
		return []Source{countable("{share: 50%}", 2), countable("{choose: [true]}", 1), countable("{choose: [false]}", 1)}
	case schema.Date, schema.Timestamp, schema.Time:
		return moments(c, d)
	case schema.UUID:
		return []Source{{Text: "{uuid: v4}", Space: grow.MaxSpace, Alone: true}}
	case schema.JSON:
		return []Source{{Text: "{value: \"{}\"}", Fixed: true}, {Text: "{value: \"[]\"}", Fixed: true}}
	case schema.Bytes:
		n := c.Length
		if n == 0 || n > 16 {
			n = 16
		}
		sources := []Source{}
		if d.Longest > 0 || d.Shortest > 0 {
			n = max(d.Shortest, 1)
			if d.Longest > 0 && d.Longest < n || d.Shortest == 0 && n > d.Longest {
				n = d.Longest
			}
			if d.Shortest == 0 {
				n = min(16, d.Longest)
			}
		} else if c.Type == "binary" {
			n = c.Length // else the server fills it up
		}
		return append(sources, Source{Text: fmt.Sprintf("{bytes: %d}", n)}, patterned(fmt.Sprintf("[a-z0-9]{%d}", n)))
	}
	if c.Form != "" {
		return []Source{patterned(c.Form)}
	}
	if c.Kind == schema.Any && c.Declared != "" {
		return t.anything(f, d)
	}
	return t.texts(f, d)
}

// anything is for a type that nobody here knows: one engine takes numbers and texts
// everywhere, the others may understand a text.
func (t *Table) anything(f *Field, d *domain) []Source { return t.texts(f, d) }

func chosen(c *schema.Column, values []grow.Value) Source {
	seen := map[string]bool{}
	var items []string
	for _, v := range values {
		text := v.String()
		switch {
		case v.IsNull():
			continue
		case c.Kind == schema.Text || c.Kind == schema.Bytes || c.Kind == schema.Any && v.Type == grow.Text:
			if c.Length > 0 && utf8.RuneCountInString(text) > c.Length {
				continue
			}
			text = plan.Scalar(text)
			if v.Type != grow.Text {
				text = strconv.Quote(v.String())
			}
		case c.Kind == schema.Boolean:
			text = strconv.FormatBool(v.N != 0 || strings.HasPrefix(strings.ToLower(v.S), "t") || strings.HasPrefix(strings.ToLower(v.S), "y"))
		case c.Kind == schema.Date && v.Type == grow.Timestamp:
			text = grow.Value{Type: grow.Date, N: v.N / grow.Day}.String()
		case v.Type == grow.Text:
			text = v.S // a number or moment in quotes
		}
		if key := grow.Fold(text); !seen[key] {
			seen[key] = true
		}
		if !slices.Contains(items, text) {
			items = append(items, text)
		}
	}
	return countable("{choose: ["+strings.Join(items, ", ")+"]}", uint64(len(seen)))
}

func chosenTexts(values []string) Source {
	list := make([]grow.Value, len(values))
	for i, v := range values {
		list[i] = grow.String(v)
	}
	return chosen(&schema.Column{Kind: schema.Text}, list)
}

// patterned is a source of a pattern; without values if it cannot be one.
func patterned(pattern string) Source {
	s := Source{Text: "{pattern: " + plan.Scalar(pattern) + "}"}
	src, err := grow.Pattern(pattern)
	if err != nil {
		return Source{}
	}
	if c, ok := src.(grow.Countable); ok && grow.Distinct(src) {
		s.Space = c.Space()
	}
	return s
}

func pow10(n int) int64 {
	p := int64(1)
	for range n {
		p *= 10
	}
	return p
}

// numbers are ranges of numbers within a column's type and conditions.
func numbers(c *schema.Column, d *domain) []Source {
	scale := 0
	if c.Kind != schema.Integer {
		if scale = 2; c.Kind == schema.Decimal && c.Precision > 0 {
			scale = max(c.Scale, 0)
		}
	}
	scale = min(scale, 6)
	whole := func(l *predicate.Limit, up bool) (int64, bool) {
		if l == nil {
			return 0, false
		}
		v, ok := l.Value.Rescale(uint8(scale))
		if l.Value.Type == grow.Text {
			if n, err := grow.ParseDecimal(l.Value.S); err == nil {
				v, ok = n.Rescale(uint8(scale))
			}
		}
		if l.Value.Type == grow.Decimal && !ok { // digits that the column does not have
			v = l.Value
			for v.Scale > uint8(scale) {
				v.Scale, v.N = v.Scale-1, v.N/10
			}
			if up && v.N >= 0 {
				return v.N + 1, true
			}
			return v.N, true
		}
		n := v.N
		switch {
		case l.Open && up:
			n++
		case l.Open:
			n--
		}
		return n, ok
	}
	unit := pow10(scale)
	least, most := typeRange(c)
	top := int64(100)
	if digits := c.Precision - c.Scale; c.Precision > 0 && digits < 3 {
		top = pow10(max(digits, 0)) - 1
		if digits <= 0 {
			top = 0
		}
	}
	lo, hi := unit, top*unit
	if top == 0 {
		lo, hi = 1, unit-1
		if scale == 0 {
			lo, hi = 0, 0
		}
	}
	low, isLow := whole(d.Min, true)
	high, isHigh := whole(d.Max, false)
	switch {
	case isLow && isHigh:
		lo, hi = low, high
		if lo == 0 && hi > 1 && d.Min != nil && !d.Min.Open {
			lo = min(1*unit, hi)
		}
	case isLow:
		if lo = max(low, lo); low > hi || low == lo {
			hi = max(hi, lo+99*unit)
		}
		if c.Kind == schema.Decimal && c.Precision > 0 && c.Precision < 18 {
			hi = min(hi, pow10(c.Precision)-1)
		}
	case isHigh:
		hi = min(hi, high)
		if lo > hi {
			lo = hi - 99*unit
		}
	}
	if c.Kind == schema.Integer {
		lo, hi = max(lo, least), min(hi, most)
	}
	show := func(lo, hi int64) Source {
		if hi < lo || hi-lo < 0 {
			return Source{}
		}
		a := grow.Value{Type: grow.Decimal, Scale: uint8(scale), N: lo}.String()
		b := grow.Value{Type: grow.Decimal, Scale: uint8(scale), N: hi}.String()
		return countable(fmt.Sprintf("{between: [%s, %s]}", a, b), uint64(hi)-uint64(lo)+1)
	}
	var list []Source
	if a, b, ok := rangeOf(c.Name); ok && !isLow && !isHigh && b <= most && (c.Kind == schema.Integer || c.Precision == 0 || b < pow10(max(c.Precision-c.Scale, 0))) {
		if c.Kind == schema.Integer {
			a = max(a, least)
		}
		list = append(list, show(a*unit, b*unit))
	}
	list = append(list, show(lo, hi))
	if isLow && low < lo {
		list = append(list, show(low, hi))
	}
	for _, n := range []int64{0, 1, -1} {
		if n*unit >= least || c.Kind != schema.Integer {
			list = append(list, chosen(c, []grow.Value{grow.Int(n)}))
		}
	}
	return slices.DeleteFunc(list, func(s Source) bool { return s.Text == "" })
}

// typeRange is the least and the greatest whole number of a column's type.
func typeRange(c *schema.Column) (int64, int64) {
	const far = 1 << 62 // so that differences fit
	lo, hi := c.Range()
	return max(lo, -far), min(hi, far-1)
}

// wide is the source by which a column can be unique, for as many rows as possible.
func (t *Table) wide(f *Field) Source {
	c, d := f.Column, t.domains[f.Column.Name]
	if d == nil {
		d = &domain{}
	}
	s := f.Source
	if s.plain != "" && s.Space == 0 { // many share the part of a draw
		s = Source{Text: s.plain, Space: spaceOf(s.plain)}
	}
	if s.Alone || s.Fixed && c.Kind != schema.JSON || s.Follows || d.Only != nil || c.Values != nil || c.Kind == schema.Boolean {
		return s
	}
	if limit := t.beginning(f); limit > 0 && !fitsLength(s, limit) {
		s.Space = 0 // only the beginning counts
	}
	if len(d.opaque) > 0 {
		return s // the database was asked about these
	}
	for _, w := range t.wider(f, s, d) {
		if w.Alone || w.Space > s.Space && admits(c, d, w, 1) {
			return w
		}
	}
	if c.Kind == schema.Integer && len(d.conditions) > 0 && !admits(c, d, s, 1) {
		return t.listed(c, d)
	}
	return s
}

// listed are whole numbers that conditions let pass, one by one: of a unique column none
// can be drawn again.
func (t *Table) listed(c *schema.Column, d *domain) Source {
	const most, far = 500, 20_000
	lo, hi := typeRange(c)
	var list []grow.Value
	for n := max(lo, 0); n <= min(hi, far) && uint64(len(list)) < min(most, t.wish()); n++ {
		if takes(c, d, grow.Int(n)) {
			list = append(list, grow.Int(n))
		}
	}
	if list == nil {
		return Source{Fixed: true}
	}
	return chosen(c, list)
}

// wider are sources with many values for a column that must be unique; none if the one
// that it has will do.
func (t *Table) wider(f *Field, s Source, d *domain) []Source {
	c := f.Column
	var list []Source
	switch c.Kind {
	case schema.Integer:
		_, most := typeRange(c)
		if len(d.conditions) == 0 && most > 1<<15 && c.Identity == schema.NoIdentity && t.held().Rows <= heldMost {
			first := int64(1)
			if t.held().Rows > 0 {
				highest := int64(0)
				for _, v := range t.held().Values[c.Name] {
					highest = max(highest, v.N)
				}
				first = beyond(highest, c)
			}
			return []Source{{Text: fmt.Sprintf("{count: %d}", first), Space: uint64(most - first), Alone: true}}
		}
		w := *d
		if w.Max == nil {
			w.Max = &predicate.Limit{Value: grow.Int(min(most, 999_999_999))}
		}
		if w.Min == nil {
			w.Min = &predicate.Limit{Value: grow.Int(1)}
		}
		list = numbers(c, &w)
	case schema.Decimal, schema.Real:
		w := *d
		if w.Max == nil {
			digits := 9
			if c.Precision > 0 {
				digits = min(max(c.Precision-c.Scale, 0), 9)
			}
			w.Max = &predicate.Limit{Value: grow.Int(max(pow10(digits)-1, 1)), Open: digits == 0}
		}
		if w.Min == nil {
			w.Min = &predicate.Limit{Value: grow.Int(0)}
		}
		list = numbers(c, &w)
	case schema.Date, schema.Timestamp, schema.Time:
		list = wideMoments(c, d)
	case schema.Text, schema.Any, schema.Bytes:
		limit := t.beginning(f)
		if s.Space >= t.ample() && (limit == 0 || limit >= c.Length && c.Length > 0 || fitsLength(s, limit)) {
			return nil
		}
		n := 12
		for _, most := range []int{c.Length, d.Longest, limit} {
			if most > 0 {
				n = min(n, most)
			}
		}
		n = max(n, min(d.Shortest, 64))
		if c.Kind == schema.Any && c.Form != "" {
			return nil
		}
		if n >= 8 {
			list = append(list, patterned(fmt.Sprintf("[A-Z]{%d}[0-9]{%d}", (n+1)/2, n-(n+1)/2)))
		}
		list = append(list, patterned(fmt.Sprintf("[a-z0-9]{%d}", n)), patterned(fmt.Sprintf("[A-Z0-9]{%d}", n)), patterned(fmt.Sprintf("[0-9]{%d}", n)))
		if c.Type == "binary" && n < c.Length {
			list = slices.Insert(list, 0, patterned(fmt.Sprintf("[a-z0-9]{%d}", c.Length)))
		}
	}
	return list
}

// ample is how many values make a source unique without a second thought: a plan may
// grow.
func (t *Table) ample() uint64 { return 4 * t.wish() }

// beginning is how many characters count in the narrowest unique index of a column; 0
// for all.
func (t *Table) beginning(f *Field) int {
	n := 0
	for _, u := range t.Schema.Uniques {
		if b := u.Beginnings[f.Column.Name]; b > 0 && (n == 0 || b < n) {
			n = b
		}
	}
	return n
}

// values grows values of a source; nil if it is none.
func values(s Source, n int) []grow.Value {
	text := "name: probe\nseed: probe\nclock: " + clock + "\nentities:\n  Probe:\n    rows: " + strconv.Itoa(n) + "\n    fields:\n      value: " + s.Text + "\n"
	p, err := plan.Read("probe.yaml", []byte(text))
	if err != nil {
		return nil
	}
	c, err := p.Compile(plan.Options{})
	if err != nil {
		return nil
	}
	defer c.Close()
	g := grow.NewGrower(c.Set)
	defer g.Close()
	e := c.Targets[0].Grow
	at := slices.IndexFunc(e.Fields, func(f *grow.Field) bool { return f.Name == "value" })
	var b grow.Batch
	g.Grow(e, grow.Row{}, n, &b)
	out := make([]grow.Value, n)
	for i := range out {
		out[i] = b.Row(i)[at]
	}
	return out
}

const (
	clock  = "2026-05-01T08:00:00Z"
	probes = 128 // values by which a source is tried
)

// passes is the share of a source's values that a column takes.
func passes(c *schema.Column, d *domain, s Source) float64 {
	list := values(s, probes)
	if len(list) == 0 {
		return 0
	}
	good := 0
	for _, v := range list {
		if takes(c, d, v) {
			good++
		}
	}
	return float64(good) / float64(len(list))
}

func takes(c *schema.Column, d *domain, v grow.Value) bool {
	if v.Type == grow.Text {
		if c.Length > 0 && utf8.RuneCountInString(v.S) > c.Length {
			return false
		}
		if c.Narrow && strings.IndexFunc(v.S, func(r rune) bool { return r > 126 }) >= 0 {
			return false
		}
	}
	for _, k := range d.conditions {
		if !k.Holds([]grow.Value{v}) {
			return false
		}
	}
	return true
}

// admits tells whether a column takes the values of a source.
func admits(c *schema.Column, d *domain, s Source, least float64) bool {
	if s.Text == "" || c.Kind == schema.Text && c.Length > 0 && !fitsLength(s, c.Length) {
		return false
	}
	if len(d.conditions) == 0 && (!c.Narrow || strings.HasPrefix(s.Text, "{pattern")) {
		return true
	}
	return passes(c, d, s) >= least
}

var kindName = regexp.MustCompile(`^\{kind: ([a-z.-]+)`)

// fitsLength tells whether the texts of a source are short enough, as far as that can be
// told without growing some.
func fitsLength(s Source, length int) bool {
	m := kindName.FindStringSubmatch(s.Text)
	if m == nil {
		if p, ok := strings.CutPrefix(s.Text, "{uuid"); ok {
			return p != "" && length >= 36
		}
		return !strings.HasPrefix(s.Text, "{pattern") && !strings.HasPrefix(s.Text, "{choose") || passesLength(s, length)
	}
	kinds := grow.Kinds()
	i := slices.IndexFunc(kinds, func(k grow.Kind) bool { return k.Name == m[1] })
	if i < 0 {
		return false
	}
	if kinds[i].Space() == 0 {
		return length >= 4000
	}
	src, err := grow.NewKind(kinds[i], nil)
	if err != nil {
		return false
	}
	_, n := grow.LongestText(src)
	return n <= length
}

func passesLength(s Source, length int) bool {
	for _, v := range values(s, probes) {
		if utf8.RuneCountInString(v.String()) > length {
			return false
		}
	}
	return true
}
