package plan

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"evensprout/internal/derive"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// operands compiles a mapping of columns to values that are known before the step.
func (u *unitCompiler) operands(s *Step, n *node, of string) []Operand {
	if n == nil {
		return nil
	}
	var out []Operand
	for _, x := range n.pairs {
		col := u.columnNamed(s, x.key.text)
		if col == nil {
			u.noColumn(x.key.place, s, x.key.text)
			continue
		}
		if slices.ContainsFunc(out, func(o Operand) bool { return o.Column == col }) {
			u.c.add(x.key.place, "%s: the column %s appears twice in %s", s.Label(), col.Name, of)
			continue
		}
		if e := u.value(s, x.value, col, false); e != nil {
			out = append(out, Operand{col, e.Input, x.key.place})
			if slot := u.out.Slots[e.Input]; of == "match" && slot.Type == value.Null &&
				(slot.Field < 0 || u.of.fields[slot.Field].state == compiled) {
				u.c.add(x.value.place, "%s: nothing equals null, so no row matches", s.Label())
			}
		}
	}
	return out
}

// assignments compiles set.
func (u *unitCompiler) assignments(s *Step) []Assignment {
	if s.set == nil {
		return nil
	}
	var out []Assignment
	row := s.Word == StepUpdate || s.Word == StepUpsert
	for _, x := range s.set.pairs {
		col := u.columnNamed(s, x.key.text)
		if col == nil {
			u.noColumn(x.key.place, s, x.key.text)
			continue
		}
		if slices.ContainsFunc(out, func(a Assignment) bool { return a.Column == col }) {
			u.c.add(x.key.place, "%s: the column %s is set twice", s.Label(), col.Name)
			continue
		}
		if e := u.value(s, x.value, col, row); e != nil {
			out = append(out, Assignment{col, e, x.key.place})
		}
	}

	for _, a := range out {
		for _, b := range out {
			if a.Column != b.Column && a.Expr.Reads(b.Column) {
				u.c.add(a.place, "%s: %s is computed from %s, which the same step sets: databases differ in "+
					"whether they use the value before or after", s.Label(), a.Column.Name, b.Column.Name).
					Advise("set %s in a step of its own", a.Column.Name)
			}
		}
	}
	return out
}

// value compiles what a column is matched with or set to. What is in quotes is text, and
// what looks like a number, a date, true, false or null is just that; else it is an
// expression over fields of the occasion, rows of earlier steps and, if row, columns of
// the row as it is. nil if something is wrong, which is told.
func (u *unitCompiler) value(s *Step, n *node, col *schema.Column, row bool) *schema.Expr {
	text, at := n.text, n
	if n.mapping {
		if len(n.pairs) != 1 || n.pairs[0].key.text != "derive" && n.pairs[0].key.text != "value" ||
			!n.pairs[0].value.scalar() && !n.pairs[0].value.null {
			u.c.add(
				n.place,
				"%s: a value must be plain, {derive: EXPRESSION} or {value: LITERAL}, got %s",
				s.Label(),
				n.what(),
			)
			return nil
		}
		if at = n.pairs[0].value; n.pairs[0].key.text == "value" {
			return u.literal(s, at, col)
		}
		text = at.text
	} else if n.list || isLiteral(n) {
		return u.literal(s, n, col)
	}
	return u.expression(s, at, text, col, row)
}

// isLiteral reports whether a scalar stands for itself: text in quotes, NULL, a number, a truth, a moment.
func isLiteral(n *node) bool {
	text := n.text
	if n.null || n.quoted || numberPattern.MatchString(text) || oddNumber.MatchString(text) ||
		text == "true" || text == "false" {
		return true
	}
	_, looks, _ := value.ReadMoment(text)
	return looks
}

// literal is a value that the plan says.
func (u *unitCompiler) literal(s *Step, n *node, col *schema.Column) *schema.Expr {
	v, ok := u.c.plan.literal(n)
	if !ok {
		return nil
	}
	if v.Type == value.Text {
		if w, err := asColumn(v, col); err != nil {
			u.c.add(n.place, "%s: %s", s.Label(), err)
			return nil
		} else {
			v = w
		}
		if col.Length > 0 && utf8.RuneCountInString(v.S) > col.Length && v.Type == value.Text {
			u.c.missing(
				n.place,
				"%s: %q has %d characters, and the column %s is %s",
				s.Label(),
				v.S,
				utf8.RuneCountInString(v.S),
				col.Name,
				col.Declared,
			)
			return nil
		}
		if col.Values != nil && !slices.Contains(col.Values, v.S) {
			u.c.missing(n.place, "%s: %q is not one of the values of %s, which is %s", s.Label(), v.S, col.Name,
				col.Declared).
				Nearest(v.S, col.Values)
			return nil
		}
	}

	slot := Slot{Name: n.what(), Type: v.Type, Scale: v.Scale, Field: -1, Step: -1, Value: v}
	if !u.holds(s, n.place, col, slot) {
		return nil
	}
	return schema.Given(u.slot(slot))
}

// asColumn reads a text as what a column holds.
func asColumn(v value.Value, col *schema.Column) (value.Value, error) {
	switch col.Kind {
	case schema.UUID:
		return value.ParseUUID(v.S)
	case schema.Date:
		return value.ParseDate(v.S)
	case schema.Time:
		return value.ParseTime(v.S)
	case schema.Timestamp:
		return value.ParseTimestamp(v.S)
	}
	return v, nil
}

// slot returns the place of a slot; equal ones are one.
func (u *unitCompiler) slot(s Slot) int {
	for i, x := range u.out.Slots {
		if x.Expr == nil && s.Expr == nil && x.Field == s.Field && x.Step == s.Step && x.Column == s.Column &&
			x.Value == s.Value &&
			x.Type == s.Type && samePart(x, s) {
			return i
		}
	}
	u.out.Slots = append(u.out.Slots, s)
	return len(u.out.Slots) - 1
}

// holds reports whether a column takes values of a slot's type.
func (u *unitCompiler) holds(s *Step, at place, col *schema.Column, v Slot) bool {
	whole := v.Part != nil && v.Type == value.JSON // a list or an object
	fits := holds(col.Kind, v.Type) && !(whole && col.Kind == schema.Text && col.Length > 0)
	if v.Type == value.Null || fits || v.Part != nil && v.Part.Empty {
		return true
	}
	p := u.c.missing(
		at,
		"%s: %s is of type %s, and the column %s.%s is %s",
		s.Label(),
		v.Name,
		v.Type,
		s.Table.Name,
		col.Name,
		col.Declared,
	)
	if whole {
		p.Advise("go through a list with for: NAME in %s, or name a part of an object: %s.KEY", v.Name, v.Name)
	}
	if v.Field >= 0 && u.of.fields[v.Field].decl.word == wordStored {
		if want, ok := columnTypes[col.Kind]; ok {
			u.c.plan.collector.found = append(
				u.c.plan.collector.found,
				u.of.rowFile.Misfits(u.of.fields[v.Field].fileColumn, want)...)
		}
		p.Advise("set the type of a column of the file with as: in the columns of rows_from")
	}
	return false
}

// computedAlike is the type of columns of a kind, and whether all engines compute with
// them alike.
func computedAlike(k schema.Kind) (value.Type, bool) {
	switch k {
	case schema.Text:
		return value.Text, true
	case schema.Real, schema.JSON, schema.UUID, schema.Time:
		return 0, false
	}
	t, known := columnTypes[k]
	return t, known
}

// expression compiles an expression for a column.
func (u *unitCompiler) expression(s *Step, n *node, text string, col *schema.Column, row bool) *schema.Expr {
	if want, ok := columnTypes[col.Kind]; ok && want == value.JSON && !isName(text) {
		u.c.add(n.place, "%s: an expression cannot produce JSON", s.Label())
		return nil
	}
	parsed, err := derive.Parse(text)
	if err != nil {
		return u.wrong(n, text, s, err)
	}
	var inputs []derive.Input
	columns, slots := map[string]*schema.Column{}, map[string]int{}
	alone := len(parsed.Names()) == 1 && parsed.Names()[0] == strings.TrimSpace(text)
	for _, name := range parsed.Names() {
		slot, c, err := u.named(s, name, row, alone)
		if err != nil {
			return u.wrong(n, text, s, parsed.Missing(name, err.Error()))
		}
		if c != nil {
			t, alike := computedAlike(c.Kind)
			if !alike {
				u.c.missing(n.place, "%s: the column %s is %s, with which databases do not compute alike", s.Label(),
					c.Name, c.Declared).
					Advise("look the row up with find, and compute with what it holds")
				return nil
			}
			columns[name] = c
			inputs = append(inputs, derive.Input{Name: name, Type: t, Scale: uint8(max(c.Scale, 0))})
			continue
		}
		slots[name] = slot
		inputs = append(inputs, derive.Input{Name: name, Type: u.out.Slots[slot].Type, Scale: u.out.Slots[slot].Scale})
	}

	if alone && len(slots) == 1 {
		slot := u.asText(slots[parsed.Names()[0]], col)
		if !u.holds(s, n.place, col, u.out.Slots[slot]) {
			return nil
		}
		return schema.Given(slot)
	}

	scale := -1
	if col.Kind == schema.Decimal {
		scale = max(col.Scale, 0)
	}
	if len(columns) == 0 {
		x, err := parsed.Compile(inputs, scale)
		if err != nil {
			return u.wrong(n, text, s, err)
		}
		slot := u.computed(derive.Known{Expression: x, Names: parsed.Names()}, text, slots)
		if !u.holds(s, n.place, col, u.out.Slots[slot]) {
			return nil
		}
		return schema.Given(slot)
	}

	e, known, err := parsed.Split(inputs, columns, scale)
	if err != nil {
		return u.wrong(n, text, s, err)
	}
	if t, err := parsed.Compile(inputs, scale); err == nil && !holds(col.Kind, t.Type) {
		u.c.missing(
			n.place,
			"%s: %s is of type %s, and the column %s.%s is %s",
			s.Label(),
			text,
			t.Type,
			s.Table.Name,
			col.Name,
			col.Declared,
		)
		return nil
	}

	places := make([]int, len(known))
	for i, k := range known {
		places[i] = u.computed(k, text, slots)
	}
	e.Visit(func(x *schema.Expr) {
		if x.Op == schema.OpInput {
			x.Input = places[x.Input]
		}
	})
	return e
}

// asText lets a part of a value of JSON go into a text column as it stands in the file, whatever it looks like.
func (u *unitCompiler) asText(slot int, col *schema.Column) int {
	part := u.out.Slots[slot]
	if part.Part == nil || part.Part.Number || col.Kind != schema.Text || part.Type == value.JSON {
		return slot
	}
	part.Type, part.Scale = value.Text, 0
	return u.slot(part)
}

// computed makes the slot of an expression.
func (u *unitCompiler) computed(k derive.Known, text string, slots map[string]int) int {
	s := Slot{Name: text, Type: k.Type, Scale: k.Scale, Field: -1, Step: -1, Expr: k.Expression}
	for _, name := range k.Names {
		s.From = append(s.From, slots[name])
	}
	u.out.Slots = append(u.out.Slots, s)
	return len(u.out.Slots) - 1
}

// named finds what a name in an expression means: a slot, or a column of the row.
func (u *unitCompiler) named(s *Step, name string, row, alone bool) (int, *schema.Column, error) {
	if name == clockWord && !u.c.plan.Clock.IsNull() {
		return u.slot(
			Slot{Name: clockWord, Type: value.Timestamp, Field: -1, Step: -1, Value: u.c.plan.Clock},
		), nil, nil
	}
	head, rest, dotted := strings.Cut(name, ".")
	if slot, found, err := u.ofLoop(s, head, rest); found || err != nil {
		return slot, nil, err
	}
	if !dotted {
		return u.plainName(s, name, row, alone)
	}
	switch head {
	case occasionWord:
		return u.ofField(rest)
	case rowWord:
		if !row {
			return 0, nil, errors.New("this step changes no row, so it cannot use a row's values")
		}
		if col := u.columnNamed(s, rest); col != nil {
			return 0, col, nil
		}
		return 0, nil, fmt.Errorf("the table %s has no column %s", s.Table.Name, rest)
	}
	if u.field(head) >= 0 && !u.isRow(s, head) {
		return u.ofField(name)
	}
	return u.stepValue(s, head, rest)
}

// plainName finds what a name without a dot means.
func (u *unitCompiler) plainName(s *Step, name string, row, alone bool) (int, *schema.Column, error) {
	var col *schema.Column
	if row {
		col = u.columnNamed(s, name)
	}
	i := u.field(name)
	switch {
	case i >= 0 && col != nil && !alone:
		return 0, nil, fmt.Errorf(
			"%s is both a field of the occasion and a column of %s: write occasion.%s or row.%s",
			name,
			s.Table.Name,
			name,
			name,
		)
	case i >= 0:
		return u.fieldSlot(i), nil, nil
	case col != nil:
		return 0, col, nil
	}
	return 0, nil, fmt.Errorf("the occasions of %s have no field %s", u.said.Name, name)
}

// ofField finds a field of the occasion, or a part of one, as in customer.email.
func (u *unitCompiler) ofField(path string) (int, *schema.Column, error) {
	name, rest, parts := strings.Cut(path, ".")
	i := u.field(name)
	if i < 0 {
		return 0, nil, &noFieldError{u.of, name}
	}
	slot := u.fieldSlot(i)
	if !parts || u.of.fields[i].state != compiled {
		return slot, nil, nil
	}
	shape, err := u.shape(i)
	if err != nil {
		return 0, nil, err
	}
	slot, _, err = u.member(slot, shape, rest)
	return slot, nil, err
}

// field is the place of a field of the occasion; -1 if there is none that steps see.
func (u *unitCompiler) field(name string) int {
	f := u.of.find(name)
	if f == nil || f.decl.inner {
		return -1
	}
	return slices.Index(u.of.fields, f)
}

// fieldSlot returns the slot that holds a field of the occasion, and makes it if there is none.
func (u *unitCompiler) fieldSlot(i int) int {
	f := u.of.fields[i]
	if f.state != compiled {
		return u.slot(Slot{Name: f.decl.Name, Field: i, Step: -1}) // told
	}
	return u.slot(Slot{Name: f.decl.Name, Type: f.grow.Source.Type(), Scale: f.grow.Source.Scale(), Field: i, Step: -1})
}

// isRow reports whether steps call a row of an earlier one by a name.
func (u *unitCompiler) isRow(s *Step, name string) bool {
	return slices.ContainsFunc(u.out.Steps, func(x *Step) bool { return x.rowName() == name && x.seenBy(s) })
}

// stepNamed finds the earlier step whose row a later one calls by a name.
func (u *unitCompiler) stepNamed(s *Step, name string) (int, error) {
	at := -1
	for i, x := range u.out.Steps {
		if x.rowName() == name && x.seenBy(s) {
			if at >= 0 {
				return 0, fmt.Errorf(
					"two earlier steps have a row of %s: name one of them with as: NAME",
					name,
				)
			}
			at = i
		}
	}

	if at < 0 {
		return 0, fmt.Errorf("no earlier step finds or adds a row named %s", name)
	}
	return at, nil
}

// stepValue is the slot of a column of the row that an earlier step found or added.
func (u *unitCompiler) stepValue(s *Step, name, column string) (int, *schema.Column, error) {
	at, err := u.stepNamed(s, name)
	if err != nil {
		return 0, nil, err
	}
	of := u.out.Steps[at]
	if of.Table == nil || len(of.Table.Columns) == 0 {
		return u.slot(Slot{Name: name + "." + column, Field: -1, Step: at}), nil, nil // told
	}
	col := u.columnNamed(of, column)
	if col == nil {
		return 0, nil, fmt.Errorf("the table %s has no column %s", of.Table.Name, column)
	}
	if of.Word == StepInsert {
		for _, a := range of.Set {
			if a.Column == col {
				return a.Expr.Input, nil, nil
			}
		}
		if len(of.Table.PrimaryKey) != 1 || of.Table.PrimaryKey[0] != col.Name {
			return 0, nil, fmt.Errorf(
				"the step that adds %s does not set its %s: if the database sets it, look the row up with find",
				name,
				col.Name,
			)
		}
		of.Key = col
	}

	if !slices.Contains(of.Read, col) {
		of.Read = append(of.Read, col)
	}
	t, ok := columnTypes[col.Kind]
	if !ok {
		t = value.Text
	}
	if col.Kind == schema.Bytes {
		t = value.Bytes
	}
	return u.slot(
		Slot{Name: name + "." + column, Type: t, Scale: uint8(max(col.Scale, 0)), Field: -1, Step: at, Column: col},
	), nil, nil
}

// wrong tells of an expression where it is wrong.
func (u *unitCompiler) wrong(n *node, text string, s *Step, err error) *schema.Expr {
	var e *derive.Error
	if !errors.As(err, &e) {
		u.c.add(n.place, "%s: %s", s.Label(), err)
		return nil
	}
	p := u.c.add(n.expressionPlace(e, text), "%s: %s", s.Label(), e.Message).Advise("%s", e.Hint)
	if e.Name != "" && !slices.Contains(u.visible(s), e.Name) {
		if p.Nearest(e.Name, u.visible(s)); isName(text) && !strings.Contains(p.Hint, "did you mean") {
			p.Advise(
				"put text in quotes: %q; or use one of %s",
				text,
				strings.Join(firstFew(u.visible(s)), ", "),
			)
		}
	}
	return nil
}

const fewNames = 12

// firstFew is a list of names cut to a length that fits into a message.
func firstFew(names []string) []string {
	if len(names) > fewNames {
		return append(slices.Clone(names[:fewNames]), "...")
	}
	return names
}

// visible are the names that may stand in an expression of a step.
func (u *unitCompiler) visible(s *Step) []string {
	var names []string
	for _, f := range u.of.fields {
		if !f.decl.inner {
			names = append(names, f.decl.Name)
		}
	}
	names = append(names, u.loopNames(s)...)
	for _, x := range u.out.Steps {
		if name := x.rowName(); name != "" && x.Table != nil && x.seenBy(s) {
			for _, c := range x.Table.ColumnNames() {
				names = append(names, name+"."+c)
			}
		}
	}
	if s.Table != nil && (s.Word == StepUpdate || s.Word == StepUpsert) {
		names = append(names, s.Table.ColumnNames()...)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// rowName is what later steps call the row of a step; empty if they cannot.
func (s *Step) rowName() string {
	if s.Word != StepFind && s.Word != StepInsert {
		return ""
	}
	if s.As != "" {
		return s.As
	}
	return s.Target
}
