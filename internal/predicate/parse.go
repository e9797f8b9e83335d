package predicate

import (
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/value"
)

var keywords = strings.Fields(
	"and or not in is null like ilike between case when then else end similar to escape regexp rlike glob distinct " +
		"from isnull notnull any some all array cast true false collate interval at div mod xor as binary match " +
		"unknown",
)

// isKeyword reports whether a word is a keyword of conditions.
func isKeyword(s string) bool { return slices.Contains(keywords, strings.ToLower(s)) }

// firm are the keywords that no column is called by without quotes.
var firm = strings.Fields("and or not in is null like between case when then else end from as")

const maxDepth = 200

// Parse reads an expression. An error is an *Error.
func Parse(text string) (*Node, error) {
	tokens, err := scan(text)
	if err != nil {
		return nil, err
	}
	p := &parser{tokens: tokens}
	n := p.or()
	if p.err == nil && p.peek().kind != tokenEnd {
		p.fail("%s is not expected here", p.peek().describe())
	}
	if p.err != nil {
		return nil, p.err
	}
	return n, nil
}

// ParseDomain reads the condition of a domain, in which the value is called VALUE, as one
// on a column of that domain.
func ParseDomain(text, column string) (*Node, error) {
	n, err := Parse(text)
	if err != nil {
		return nil, err
	}
	return n.Rename(func(name string) string {
		if strings.EqualFold(name, "value") {
			return column
		}
		return name
	}), nil
}

// parser reads tokens by recursive descent, one method for each level of precedence.
type parser struct {
	tokens []token
	at     int
	depth  int
	err    error
}

// describe is the token as a message names it.
func (t token) describe() string {
	if t.kind == tokenEnd {
		return "the end"
	}
	return fmt.Sprintf("%q", t.text)
}

// fail notes the first error; what is read after it is thrown away.
func (p *parser) fail(format string, args ...any) *Node {
	if p.err == nil {
		p.err = &Error{p.peek().at, fmt.Sprintf(format, args...)}
	}
	p.at = len(p.tokens) - 1 // whoever loops, ends
	return &Node{Op: Literal}
}

// peek returns the next token without taking it.
func (p *parser) peek() token { return p.tokens[p.at] }

// ahead returns the token n places on.
func (p *parser) ahead(n int) token {
	return p.tokens[min(p.at+n, len(p.tokens)-1)]
}

// next takes the next token.
func (p *parser) next() token {
	t := p.tokens[p.at]
	if t.kind != tokenEnd {
		p.at++
	}
	return t
}

// is reports whether the token is a keyword or a sign.
func (t token) is(word string) bool {
	switch t.kind {
	case tokenName:
		return !t.quoted && strings.EqualFold(t.text, word)
	case tokenSign:
		return t.text == word
	}
	return false
}

// take passes over words, if just these come.
func (p *parser) take(words ...string) bool {
	for i, w := range words {
		if !p.ahead(i).is(w) {
			return false
		}
	}
	p.at += len(words)
	return true
}

// need takes a word, or fails.
func (p *parser) need(word string) {
	if !p.take(word) {
		p.fail("expected %s, got %s", word, p.peek().describe())
	}
}

// deeper counts a level of nesting, and returns the function that ends it.
func (p *parser) deeper() func() {
	if p.depth++; p.depth > maxDepth {
		p.fail("conditions are nested more than %d levels deep", maxDepth)
	}
	return func() { p.depth-- }
}

// or reads conditions joined by OR.
func (p *parser) or() *Node {
	defer p.deeper()()
	return p.several(Or, "or", p.and)
}

// and reads conditions joined by AND.
func (p *parser) and() *Node { return p.several(And, "and", p.not) }

// several reads one or more operands with the same word between them.
func (p *parser) several(op Op, word string, read func() *Node) *Node {
	n := read()
	for p.take(word) {
		if n.Op == op {
			n.Args = append(n.Args, read())
		} else {
			n = &Node{Op: op, Args: []*Node{n, read()}}
		}
	}
	return n
}

// not reads a condition, or its negation.
func (p *parser) not() *Node {
	defer p.deeper()()
	if p.take("not") || p.peek().is("!") && p.take("!") {
		return negation(p.not())
	}
	return p.comparison()
}

// negation is NOT of a node.
func negation(n *Node) *Node { return &Node{Op: Not, Args: []*Node{n}} }

// comparisons are the operators that signs stand for.
var comparisons = map[string]Op{
	"=":   Equal,
	"==":  Equal,
	"<>":  Differs,
	"!=":  Differs,
	"<":   Less,
	"<=":  AtMost,
	">":   More,
	">=":  AtLeast,
	"<=>": Same,
}

// comparison reads an operand and the comparisons behind it.
func (p *parser) comparison() *Node {
	n := p.other()
	for p.err == nil {
		not := p.peek().is("not") && slices.ContainsFunc(negated, p.ahead(1).is)
		if not {
			p.next()
		}
		t := p.peek()
		if not && p.take("null") {
			n = negation(&Node{Op: IsNull, Args: []*Node{n}})
			continue
		}
		m := p.compared(n, t)
		if m == nil {
			if not {
				p.fail("%s is not expected here", t.describe())
			}
			return n
		}
		if not {
			m = negation(m)
		}
		n = m
	}
	return n
}

// negated are the words that may follow NOT behind an operand.
var negated = []string{"in", "like", "ilike", "between", "regexp", "rlike", "glob", "similar", "null"}

// compared reads a comparison of an operand that begins with a token; nil if none does.
func (p *parser) compared(n *Node, t token) (m *Node) {
	switch {
	case t.kind == tokenSign && comparisons[t.text] != "":
		p.next()
		m = p.compare(n, comparisons[t.text])
	case p.take("between"):
		p.take("symmetric")
		lo := p.other()
		p.need("and")
		m = &Node{
			Op:   And,
			Args: []*Node{{Op: AtLeast, Args: []*Node{n, lo}}, {Op: AtMost, Args: []*Node{n, p.other()}}},
		}
	case p.take("in"):
		m = &Node{Op: In, Args: []*Node{n, p.list()}}
	case t.is("like"), t.is("ilike"), t.is("~~"), t.is("~~*"), t.is("!~~"), t.is("!~~*"):
		p.next()
		m = &Node{Op: Like, Args: []*Node{n, p.other()}, Fold: t.is("ilike") || strings.HasSuffix(t.text, "*")}
		if p.take("escape") {
			m.Args = append(m.Args, p.other())
		}
		if t.text[0] == '!' {
			m = negation(m)
		}
	case t.is("~"), t.is("~*"), t.is("!~"), t.is("!~*"), t.is("regexp"), t.is("rlike"):
		p.next()
		m = &Node{Op: Matches, Args: []*Node{n, p.other()}, Fold: strings.HasSuffix(t.text, "*")}
		if t.text[0] == '!' {
			m = negation(m)
		}
	case p.take("glob"):
		m = &Node{Op: Call, Name: "glob", Args: []*Node{p.other(), n}}
	case p.take("similar"):
		p.need("to")
		m = &Node{Op: Other, Name: "SIMILAR TO", Args: []*Node{n, p.other()}}
	case p.take("isnull"):
		m = &Node{Op: IsNull, Args: []*Node{n}}
	case p.take("notnull"):
		m = negation(&Node{Op: IsNull, Args: []*Node{n}})
	case p.take("is"):
		m = p.is(n)
	}
	return m
}

// compare reads what stands behind a comparison: a value, or ANY and ALL of a list.
func (p *parser) compare(n *Node, op Op) *Node {
	any := p.take("any") || p.take("some")
	if !any && !p.take("all") {
		return &Node{Op: op, Args: []*Node{n, p.other()}}
	}
	p.need("(")
	list := p.or()
	p.need(")")
	for list.Op == Cast {
		list = list.Args[0]
	}
	if list.Op == Literal && list.Value.Type == value.Text { // '{a,b}'
		list = arrayOf(list.Value.S)
	}
	if list.Op != List {
		return &Node{Op: Other, Name: string(op) + " ANY", Args: []*Node{n, list}}
	}
	switch {
	case op == Equal && any:
		return &Node{Op: In, Args: []*Node{n, list}}
	case op == Differs && !any:
		return negation(&Node{Op: In, Args: []*Node{n, list}})
	}

	m := &Node{Op: Or}
	if !any {
		m.Op = And
	}
	for _, x := range list.Args {
		m.Args = append(m.Args, &Node{Op: op, Args: []*Node{n, x}})
	}
	if len(m.Args) == 1 {
		return m.Args[0]
	}
	return m
}

// arrayOf reads the text form of a plain array.
func arrayOf(s string) *Node {
	list := &Node{Op: List}
	for _, item := range strings.Split(strings.Trim(s, "{}"), ",") {
		list.Args = append(list.Args, &Node{Op: Literal, Value: value.String(strings.Trim(item, `" `))})
	}
	return list
}

// list reads a list in brackets.
func (p *parser) list() *Node {
	p.need("(")
	list := &Node{Op: List}
	for p.err == nil && !p.peek().is(")") {
		list.Args = append(list.Args, p.or())
		if !p.take(",") {
			break
		}
	}
	p.need(")")
	return list
}

// is reads what follows IS: NULL, TRUE, FALSE, DISTINCT FROM, and NOT before each.
func (p *parser) is(n *Node) *Node {
	not := p.take("not")
	var m *Node
	switch {
	case p.take("null"), p.take("unknown"):
		m = &Node{Op: IsNull, Args: []*Node{n}}
	case p.take("true"):
		m = &Node{Op: IsTrue, Args: []*Node{n}}
	case p.take("false"):
		m = &Node{Op: IsFalse, Args: []*Node{n}}
	case not && p.take("distinct", "from"):
		return &Node{Op: Same, Args: []*Node{n, p.other()}}
	case p.take("distinct", "from"):
		m = &Node{Op: Unlike, Args: []*Node{n, p.other()}}
	default: // one engine's IS compares
		m = &Node{Op: Same, Args: []*Node{n, p.other()}}
	}
	if not {
		return negation(m)
	}
	return m
}

// other reads operators between comparisons and sums.
func (p *parser) other() *Node {
	n := p.sum()
	for {
		t := p.peek()
		switch {
		case p.take("||"):
			n = &Node{Op: Join, Args: []*Node{n, p.sum()}}
		case p.take("at", "time", "zone"):
			n = &Node{Op: Call, Name: "timezone", Args: []*Node{p.sum(), n}}
		case t.kind == tokenSign && (slices.Contains(signs, t.text) && comparisons[t.text] == "" && t.text != "::" &&
			!strings.Contains(t.text, "~") || t.text == "&" || t.text == "|" || t.text == "#" || t.text == "?"):
			p.next()
			n = &Node{Op: Other, Name: t.text, Args: []*Node{n, p.sum()}}
		default:
			return n
		}
	}
}

// sum reads operands joined by +, - and ||.
func (p *parser) sum() *Node {
	n := p.product()
	for {
		switch {
		case p.take("+"):
			n = &Node{Op: Add, Args: []*Node{n, p.product()}}
		case p.take("-"):
			n = &Node{Op: Subtract, Args: []*Node{n, p.product()}}
		default:
			return n
		}
	}
}

// product reads operands joined by *, / and %.
func (p *parser) product() *Node {
	n := p.signed()
	for {
		switch {
		case p.take("*"):
			n = &Node{Op: Multiply, Args: []*Node{n, p.signed()}}
		case p.take("/"):
			n = &Node{Op: Divide, Args: []*Node{n, p.signed()}}
		case p.take("%"), p.take("mod"):
			n = &Node{Op: Modulo, Args: []*Node{n, p.signed()}}
		default:
			return n
		}
	}
}

// signed reads an operand with an optional sign.
func (p *parser) signed() *Node {
	defer p.deeper()()
	switch {
	case p.take("-"):
		n := p.signed()
		if n.Op == Literal && (n.Value.Type == value.Integer || n.Value.Type == value.Decimal) && n.Value.N > 0 {
			n.Value.N = -n.Value.N
			return n
		}
		return &Node{Op: Negate, Args: []*Node{n}}
	case p.take("+"):
		return p.signed()
	case p.take("binary"):
		return &Node{Op: Cast, Name: "binary", Args: []*Node{p.signed()}}
	}
	return p.behind(p.atom())
}

// behind reads casts, indexes and collations behind a value.
func (p *parser) behind(n *Node) *Node {
	for p.err == nil {
		switch {
		case p.take("::"):
			n = cast(n, p.typeName())
		case p.take("collate"):
			p.next()
			for p.take(".") {
				p.next()
			}
		case p.take("["):
			n = &Node{Op: Call, Name: "element", Args: []*Node{n, p.or()}}
			p.need("]")
		default:
			return n
		}
	}
	return n
}

// typeName reads the name of a type, with its length and dimensions.
func (p *parser) typeName() string {
	var b strings.Builder
	t := p.next()
	if t.kind != tokenName {
		p.fail("expected the name of a type")
		return ""
	}
	b.WriteString(strings.ToLower(t.text))
	for {
		switch {
		case p.take("."):
			b.WriteString("." + strings.ToLower(p.next().text))
		case p.take("varying"), p.take("precision"), p.take("signed"), p.take("unsigned"), p.take("integer"):
		case p.take("with", "time", "zone"):
			b.WriteString("tz")
		case p.take("without", "time", "zone"):
		case p.take("character", "set"):
			p.next()
		case p.peek().is("("):
			for p.next(); p.err == nil && !p.take(")"); {
				if p.next().kind == tokenEnd {
					p.fail("a type is not complete")
				}
			}
		case p.take("["):
			p.need("]")
			b.WriteString("[]")
		default:
			return b.String()
		}
	}
}

// castText is a text as a literal of another type; nil if it is none, or the type another.
func castText(text, typ string) *Node {
	switch typ {
	case "integer", "int", "int2", "int4", "int8", "smallint", "bigint",
		"numeric", "decimal", "double", "real", "float", "float4", "float8":
		if v, ok := number(text); ok {
			return &Node{Op: Literal, Value: v}
		}
		switch strings.ToLower(text) {
		case "nan", "infinity", "-infinity":
			return &Node{Op: Call, Name: strings.ToLower(text)}
		}
	case "date", "timestamp", "timestamptz", "time":
		if v, ok := moment(text); ok {
			return &Node{Op: Literal, Value: v}
		}
	case "boolean", "bool":
		switch strings.ToLower(text) {
		case "t", "true", "1", "yes", "on":
			return &Node{Op: Literal, Value: value.Bool(true)}
		case "f", "false", "0", "no", "off":
			return &Node{Op: Literal, Value: value.Bool(false)}
		}
	}
	return nil
}

// cast makes a cast, which literals take over at once.
func cast(n *Node, typ string) *Node {
	base := strings.TrimPrefix(typ, "pg_catalog.")
	if n.Op == Literal && n.Value.Type == value.Text {
		if fixed := castText(n.Value.S, base); fixed != nil {
			return fixed
		}
	}
	switch base {
	case "text", "character", "varchar", "bpchar", "char", "name", "citext":
		if n.Op == Column || n.Op == Literal && (n.Value.Type == value.Text || n.Value.IsNull()) {
			return n // servers write it, and it changes nothing
		}
	case "numeric", "decimal", "double", "float8":
		if n.Op == Literal && (n.Value.Type == value.Integer || n.Value.Type == value.Decimal) {
			return n
		}
	}
	if n.Op == List {
		return n
	}
	return &Node{Op: Cast, Name: base, Args: []*Node{n}}
}

// atom reads a literal, a name, a call, or a condition in brackets.
func (p *parser) atom() *Node {
	defer p.deeper()()
	t := p.next()
	switch t.kind {
	case tokenNumber:
		v, ok := number(t.text)
		if !ok {
			// More digits than we keep: nobody here computes it.
			return &Node{Op: Call, Name: "number", Args: []*Node{{Op: Literal, Value: value.String(t.text)}}}
		}
		return &Node{Op: Literal, Value: v}
	case tokenText:
		s := t.text
		for p.peek().kind == tokenText {
			s += p.next().text
		}
		return &Node{Op: Literal, Value: value.String(s)}
	case tokenSign:
		if t.text == "(" {
			n := p.or()
			if p.peek().is(",") { // a row
				row := &Node{Op: Call, Name: "row", Args: []*Node{n}}
				for p.take(",") {
					row.Args = append(row.Args, p.or())
				}
				n = row
			}
			p.need(")")
			return n
		}
	case tokenName:
		return p.named(t)
	}

	if t.kind != tokenEnd {
		p.at--
	}
	return p.fail("expected a value, got %s", t.describe())
}

// named reads what begins with a name: a keyword, a column, or a call.
func (p *parser) named(t token) *Node {
	if !t.quoted {
		if n := p.keyword(t); n != nil || p.err != nil {
			return n
		}
	}
	name, schema := t.text, ""
	for p.peek().is(".") && p.ahead(1).kind == tokenName {
		p.next()
		schema, name = name, p.next().text // the last part is a table's column, or a schema's function
	}
	if !p.peek().is("(") {
		return &Node{Op: Column, Name: name}
	}
	n := p.call(strings.ToLower(name))
	if n != nil && n.Op == Call && !strings.EqualFold(schema, "pg_catalog") {
		n.Schema = schema
	}
	return n
}

// array reads what stands behind ARRAY.
func (p *parser) array() *Node {
	p.need("[")
	list := &Node{Op: List}
	for p.err == nil && !p.peek().is("]") {
		list.Args = append(list.Args, p.or())
		if !p.take(",") {
			break
		}
	}
	p.need("]")
	return list
}

// keyword reads what begins with a keyword; nil if the token is none.
func (p *parser) keyword(t token) *Node {
	switch strings.ToLower(t.text) {
	case "null":
		return &Node{Op: Literal}
	case "true":
		return &Node{Op: Literal, Value: value.Bool(true)}
	case "false":
		return &Node{Op: Literal, Value: value.Bool(false)}
	case "case":
		return p.cases()
	case "cast":
		p.need("(")
		n := p.or()
		p.need("as")
		n = cast(n, p.typeName())
		p.need(")")
		return n
	case "array":
		return p.array()
	case "interval":
		n := p.signed()
		if u := p.peek(); u.kind == tokenName && !u.quoted && !isKeyword(u.text) {
			p.next()
			return &Node{Op: Call, Name: "interval", Args: []*Node{n, {Op: Literal, Value: value.String(u.text)}}}
		}
		return cast(n, "interval")
	case "date", "timestamp", "time": // DATE '2026-01-01'
		if p.peek().kind == tokenText {
			return cast(&Node{Op: Literal, Value: value.String(p.next().text)}, strings.ToLower(t.text))
		}
	case "current_date", "current_timestamp", "localtimestamp", "current_user", "session_user", "user":
		if !p.peek().is("(") {
			return &Node{Op: Call, Name: strings.ToLower(t.text)}
		}
	case "exists", "select":
		return p.fail("a query inside the condition")
	}

	if slices.Contains(firm, strings.ToLower(t.text)) && !p.peek().is("(") {
		p.at--
		return p.fail("expected a value, got %q", t.text)
	}
	return nil
}

// call reads the operands of a function, in the forms that SQL has for some of them.
func (p *parser) call(name string) *Node {
	p.need("(")
	n := &Node{Op: Call, Name: name}
	p.take("distinct")
	switch {
	case name == "extract" && p.ahead(1).is("from"):
		field := p.next().text
		p.need("from")
		n.Name = "date_part"
		n.Args = []*Node{{Op: Literal, Value: value.String(strings.ToLower(field))}, p.or()}
		p.need(")")
		return n
	case name == "trim":
		p.trim(n)
		return n
	case name == "position":
		first := p.other()
		if p.take("in") {
			n.Name, n.Args = "strpos", []*Node{p.other(), first}
			p.need(")")
			return n
		}
		n.Args = append(n.Args, first)
		p.take(",")
	}

	for p.err == nil && !p.peek().is(")") {
		p.take("variadic")
		n.Args = append(n.Args, p.or())
		switch {
		case p.take(","):
		case name == "substring" && (p.take("from") || p.take("for")):
		case p.take("using"):
			p.next()
		case !p.peek().is(")"):
			p.fail("%s is not expected here", p.peek().describe())
		}
	}

	p.need(")")
	return n
}

// trim reads the operands of TRIM in its two forms: from a text, and with commas.
func (p *parser) trim(n *Node) {
	for _, side := range []string{"both", "leading", "trailing"} {
		if p.take(side) {
			n.Name = map[string]string{"both": "trim", "leading": "ltrim", "trailing": "rtrim"}[side]
		}
	}
	if p.take("from") {
		n.Args = []*Node{p.or()}
		p.need(")")
		return
	}
	first := p.or()
	if p.take("from") {
		n.Args = []*Node{p.or(), first}
	} else {
		n.Args = []*Node{first}
		if p.take(",") {
			n.Args = append(n.Args, p.or())
		}
	}
	p.need(")")
}

// cases reads a CASE.
func (p *parser) cases() *Node {
	n := &Node{Op: Case}
	var of *Node
	if !p.peek().is("when") {
		of = p.or()
	}
	for p.take("when") {
		w := p.or()
		if of != nil {
			w = &Node{Op: Equal, Args: []*Node{of, w}}
		}
		p.need("then")
		n.Args = append(n.Args, w, p.or())
	}
	if len(n.Args) == 0 {
		return p.fail("expected WHEN, got %s", p.peek().describe())
	}
	if p.take("else") {
		n.Args = append(n.Args, p.or())
	}
	p.need("end")
	return n
}

// number reads a number, as far as values keep it.
func number(s string) (value.Value, bool) {
	s = strings.TrimSpace(s)
	s = strings.TrimSuffix(s, ".")
	if strings.HasPrefix(s, ".") {
		s = "0" + s
	}
	v, err := value.ParseDecimal(s)
	return v, err == nil
}

// moment reads a date, a time of day or a moment in the spellings of databases.
func moment(s string) (value.Value, bool) {
	s = strings.TrimSpace(s)
	for _, zone := range []string{"+00:00", "+00", "Z"} {
		s = strings.TrimSuffix(s, zone)
	}
	if len(s) > 11 && s[10] == ' ' {
		s = s[:10] + "T" + s[11:]
	}
	if len(s) > 10 && s[10] == 'T' {
		if strings.Count(s, ":") == 1 {
			s += ":00"
		}
		v, err := value.ParseTimestamp(s + "Z")
		return v, err == nil
	}
	v, looks, err := value.ReadMoment(s)
	return v, looks && err == nil
}
