package plan

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/scanner"
	"github.com/goccy/go-yaml/token"
)

// Limits on plan files.
const (
	MaxFileBytes = 8 << 20 // some 10,000 tables
	maxBrackets  = 500_000
	maxOpen      = 10_000 // more than in any text of a person, and few enough for the memory of the lexer
	maxMarks     = 1_500_000
	maxBlanks    = 1000 // keys and list entries without a value: for each, the parser moves all tokens behind it
	maxDepth     = 20   // of mappings and lists inside each other

	// The parser copies the keys of a mapping once for each of its keys.
	fewKeys  = 1000   // of a mapping, which always pass
	manyKeys = 20_000 // of all mappings together, beyond the first fewKeys of each
)

// node is a part of a plan file: a scalar, a mapping or a list.
type node struct {
	place
	text    string // of a scalar
	quoted  bool   // the scalar is text, whatever it looks like
	null    bool
	mapping bool
	braces  bool // the mapping is written in braces
	list    bool
	pairs   []pair
	index   map[string]int // places in pairs, by key
	items   []*node
}

// pair is a key of a mapping and its value.
type pair struct{ key, value *node }

// what names the node's form for people.
func (n *node) what() string {
	switch {
	case n.mapping:
		return "a mapping"
	case n.list:
		return "a list"
	case n.null:
		return "nothing"
	}
	return fmt.Sprintf("%q", n.text)
}

// scalar reports whether the node is text, a number or a truth.
func (n *node) scalar() bool { return !n.mapping && !n.list && !n.null }

// get returns the value of a key of a mapping, or nil.
func (n *node) get(key string) *node {
	if i, ok := n.index[key]; ok {
		return n.pairs[i].value
	}
	return nil
}

// parse reads YAML into nodes. It returns nil after adding a problem.
func parse(c *collector, data []byte) *node {
	switch {
	case bytes.HasPrefix(data, []byte("SQLite format 3\x00")):
		c.add(place{}, "this is a SQLite database, not a plan").
			Advise("name it with --db sqlite:%s; draft a plan from it with evensprout survey --db "+
				"sqlite:%s", c.file, c.file)
		return nil
	case len(data) > MaxFileBytes:
		c.add(place{}, "the plan is longer than %d MiB", MaxFileBytes>>20)
		return nil
	case !utf8.Valid(data):
		c.add(invalidLine(data), "the plan is not valid UTF-8").Advise("save it as UTF-8 text")
		return nil
	case bytes.IndexByte(data, 0) >= 0:
		c.add(place{}, "the plan contains a NUL byte: this is not a text file")
		return nil
	}

	// the lexer counts a comment's line end twice if it is CR LF
	text := strings.ReplaceAll(strings.TrimPrefix(string(data), "\ufeff"), "\r\n", "\n")

	if !fewMarks(c, text) {
		return nil
	}
	if blank(text) {
		c.add(place{}, "the plan is empty").
			Advise("draft a plan from a database with evensprout survey --db URL --out FILE, or create an " +
				"example with evensprout demo")
		return nil
	}

	tokens, ok := tokenize(c, text)
	if !ok {
		return nil
	}
	file, err := parser.Parse(tokens, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		notYAML(c, err)
		return nil
	}
	var bodies []ast.Node
	for _, d := range file.Docs {
		if d.Body != nil {
			bodies = append(bodies, d.Body)
		}
	}
	if len(bodies) != 1 {
		c.add(place{}, "a plan must be one YAML document, and this file has %d", len(bodies))
		return nil
	}
	r := reader{c: c}
	n := r.node(bodies[0], 0)
	if r.failed {
		return nil
	}
	return n
}

// fewMarks refuses a plan with very many marks of YAML: each costs the parser far more than a byte.
func fewMarks(c *collector, text string) bool {
	count := func(marks ...string) (n int) {
		for _, mark := range marks {
			n += strings.Count(text, mark)
		}
		return n
	}
	if n := count("[", "{"); n > maxBrackets {
		c.add(place{}, "the plan has %d brackets that open lists and mappings; at most %d are allowed", n, maxBrackets)
		return false
	}
	if n := count("[", "{") - count("]", "}"); n > maxOpen {
		c.add(place{}, "the plan opens %d brackets more than it closes; at most %d are allowed", n, maxOpen).
			Advise("close each [ with ] and each { with }, and keep long texts with brackets in a file of their own: " +
				"kinds: {NAME: {file: FILE}}")
		return false
	}
	if n := count(",", ":", "#", "*", "&", "!", "?", "- ", "-\n"); n > maxMarks {
		c.add(place{}, "the plan has %d commas, colons and other marks of YAML; at most %d are allowed", n, maxMarks).
			Advise("keep long lists of values in a file of their own: kinds: {NAME: {file: FILE}}")
		return false
	}
	return true
}

// notYAML adds the problem of a text that the YAML parser refuses.
func notYAML(c *collector, err error) {
	at, message := place{}, ""
	var syntax yaml.Error
	if !errors.As(err, &syntax) {
		message = err.Error()
	} else { // whose Error() quotes the file, in a time that grows with the square of it
		message = syntax.GetMessage()
		if t := syntax.GetToken(); t != nil {
			at = placeOf(t)
		}
	}
	c.add(at, "this is not YAML: %s", message).
		Advise("use two spaces for each level, a space after every colon, and quotes around text that contains : " +
			"or #")
}

// invalidLine returns the place of the first line that is not valid UTF-8.
func invalidLine(data []byte) place {
	for i, line := range bytes.Split(data, []byte("\n")) {
		if !utf8.Valid(line) {
			return place{i + 1, 1}
		}
	}
	return place{1, 1}
}

// blank reports whether nothing but white space and comments is there.
func blank(text string) bool {
	for line := range strings.Lines(text) {
		if t := strings.TrimSpace(line); t != "" && t != "---" && t[0] != '#' {
			return false
		}
	}
	return true
}

// tokenize splits a plan into tokens. It stops at the first that would make the parser recurse deeply or take a time
// out of proportion to the file, so that what is refused has not filled the memory.
func tokenize(c *collector, text string) (tokens token.Tokens, ok bool) {
	var s scanner.Scanner
	s.Init(text)
	var g guard
	for {
		some, err := s.Scan()
		if errors.Is(err, io.EOF) {
			return tokens, true
		}
		for _, t := range some {
			tokens.Add(t)
			if !g.pass(c, t) {
				return nil, false
			}
		}
	}
}

// guard is what the tokens of a plan have been so far.
type guard struct {
	depth    int // of brackets
	blanks   int // keys and list entries without a value
	keys     int // of mappings, beyond the first fewKeys of each
	mappings []keyed
	recent   recent
}

// keyed is a mapping that is open: the column of its keys, and how many there were.
type keyed struct{ column, keys int }

// pass reports whether the plan may hold the next token; if not, it adds the problem.
func (g *guard) pass(c *collector, t *token.Token) bool {
	if t.Type == token.CommentType {
		return true
	}
	if !g.shallow(c, t) || !g.filled(c, t) || !g.fewKeys(c, t) {
		return false
	}
	g.recent.push(t)
	return true
}

// shallow refuses what would make the parser recurse deeply, and what makes small files large.
func (g *guard) shallow(c *collector, t *token.Token) bool {
	const deepest = 8 * maxDepth // columns
	deep := false
	switch t.Type {
	case token.MappingStartType, token.SequenceStartType:
		g.depth++
	case token.MappingEndType, token.SequenceEndType:
		g.depth--
	case token.AnchorType, token.AliasType, token.MergeKeyType:
		c.add(placeOf(t), "plans cannot use anchors, aliases and merge keys (&, *, <<)").
			Advise("write the value out, or put text that begins with one of these characters in quotes")
		return false
	case token.TagType, token.DirectiveType:
		c.add(placeOf(t), "plans cannot use tags and directives (!, %%)").
			Advise("put text that begins with one of these characters in quotes")
		return false
	case token.MappingKeyType:
		c.add(placeOf(t), "plans cannot use keys that begin with a question mark (?)").
			Advise("write key: value, or put text that begins with this character in quotes")
		return false
	case token.SequenceEntryType, token.MappingValueType:
		deep = t.Position.IndentNum > deepest || t.Type == token.SequenceEntryType && t.Position.Column > deepest
	}
	if deep || g.depth > maxDepth {
		c.add(placeOf(t), "the plan is nested more than %d levels deep", maxDepth)
		return false
	}
	return true
}

// filled refuses a plan with very many keys and list entries that have no value.
func (g *guard) filled(c *collector, next *token.Token) bool {
	if g.recent.blank(next) {
		g.blanks++
	}
	if g.blanks > maxBlanks {
		c.add(placeOf(g.recent.last), "more than %d keys and list entries of the plan have no value", maxBlanks).
			Advise("write null where a value is NULL, or remove the key")
		return false
	}
	return true
}

// fewKeys refuses a plan that has very many keys in one mapping without braces, or in several large ones.
func (g *guard) fewKeys(c *collector, t *token.Token) bool {
	key := g.recent.last
	switch {
	case g.depth > 0 || t.Position == nil:
		return true
	case t.Type == token.SequenceEntryType:
		g.close(t.Position.Column)
		return true
	case t.Type != token.MappingValueType || key == nil || key.Position == nil:
		return true
	}
	g.close(key.Position.Column)
	if n := len(g.mappings); n == 0 || g.mappings[n-1].column < key.Position.Column {
		g.mappings = append(g.mappings, keyed{column: key.Position.Column})
	}
	m := &g.mappings[len(g.mappings)-1]
	if m.keys++; m.keys > fewKeys {
		g.keys++
	}
	if g.keys > manyKeys {
		c.add(placeOf(key), "the plan has more than %d keys in its mappings, beyond the first %d of each",
			manyKeys, fewKeys).
			Advise("divide the plan into several, each with its entities and fields")
		return false
	}
	return true
}

// close forgets the mappings whose keys are to the right of a column.
func (g *guard) close(column int) {
	for n := len(g.mappings); n > 0 && g.mappings[n-1].column > column; n-- {
		g.mappings = g.mappings[:n-1]
	}
}

// recent is where in a plan a token stands.
type recent struct {
	before, last *token.Token // the two tokens before it that are no comments
	flow         []token.Type // the brackets that are open
}

func (r *recent) push(t *token.Token) {
	switch t.Type {
	case token.MappingStartType, token.SequenceStartType:
		r.flow = append(r.flow, t.Type)
	case token.MappingEndType, token.SequenceEndType:
		r.flow = r.flow[:max(len(r.flow)-1, 0)]
	}
	r.before, r.last = r.last, t
}

// blank reports whether the next token shows that the last one is a key or list entry without a value.
func (r *recent) blank(next *token.Token) bool {
	ends := next.Type == token.CollectEntryType || next.Type == token.MappingEndType ||
		next.Type == token.SequenceEndType
	switch {
	case r.last == nil:
		return false
	case r.last.Type == token.SequenceEntryType:
		return below(r.last, r.last, next)
	case r.before == nil:
		return false
	case r.last.Type == token.MappingValueType:
		return ends || below(r.last, r.before, next) && next.Type != token.SequenceEntryType
	case ends && len(r.flow) > 0 && r.flow[len(r.flow)-1] == token.MappingStartType:
		return r.before.Type == token.MappingStartType || r.before.Type == token.CollectEntryType
	}
	return false
}

// below reports whether next, on a later line than t, is no further to the right than the key or dash: it does not
// belong to it.
func below(t, key, next *token.Token) bool {
	return next.Position.Line > t.Position.Line && next.Position.Column <= key.Position.Column
}

// placeOf is the place where a token begins.
func placeOf(t *token.Token) place {
	if t.Position == nil {
		return place{}
	}
	return place{t.Position.Line, t.Position.Column}
}

// reader turns the parser's tree into nodes.
type reader struct {
	c      *collector
	failed bool
}

// node turns a node of the YAML parser into one of ours, with all that is below it.
func (r *reader) node(n ast.Node, depth int) *node {
	out := &node{}
	if n == nil {
		out.null = true
		return out
	}
	t := n.GetToken()
	if t != nil {
		out.place = placeOf(t)
	}
	if depth > maxDepth {
		r.fail(out.place, "the plan is nested more than %d levels deep", maxDepth)
		return out
	}
	switch x := n.(type) {
	case *ast.NullNode:
		out.null = true
	case *ast.MappingNode:
		out.mapping, out.braces = true, x.IsFlowStyle
		for _, v := range x.Values {
			r.pair(out, v, depth)
		}
		if !x.IsFlowStyle && len(out.pairs) > 0 {
			out.place = out.pairs[0].key.place
			out.rejoin()
		}
	case *ast.MappingValueNode:
		out.mapping = true
		r.pair(out, x, depth)
		out.place = out.pairs[0].key.place
		out.rejoin()
	case *ast.SequenceNode:
		out.list = true
		for _, v := range x.Values {
			out.items = append(out.items, r.node(v, depth+1))
		}
	case *ast.StringNode:
		out.text = x.Value
		out.quoted = t.Type == token.SingleQuoteType || t.Type == token.DoubleQuoteType
	case *ast.LiteralNode:
		out.text, out.quoted = x.Value.Value, true
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.InfinityNode, *ast.NanNode:
		out.text = t.Value
	default:
		r.fail(out.place, "plans cannot use %s", strings.ToLower(n.Type().String()))
	}
	return out
}

// rejoin makes a scalar again of a time of day such as 06:00, which the parser takes
// for a mapping inside [ ] inside { }: YAML wants a blank behind the colon there.
func (n *node) rejoin() {
	if len(n.pairs) != 1 {
		return
	}
	k, v := n.pairs[0].key, n.pairs[0].value
	if k.scalar() && v.scalar() && !k.quoted && !v.quoted && k.line == v.line && v.column == k.column+len(k.text)+1 {
		*n = node{place: k.place, text: k.text + ":" + v.text}
	}
}

// pair adds a key and its value to a mapping, and refuses a key that is there already.
func (r *reader) pair(into *node, v *ast.MappingValueNode, depth int) {
	key := r.node(v.Key, depth+1)
	if !key.scalar() && !key.null {
		r.fail(key.place, "a key must be plain text")
	}
	if key.null {
		key.text, key.null = v.Key.GetToken().Value, false
	}
	value := r.node(v.Value, depth+1)
	if value.null {
		value.place = key.place
	}
	if i, ok := into.index[key.text]; ok {
		r.c.add(key.place, "the key %q is repeated here", key.text).
			Advise("it is already in line %d: keep one of them", into.pairs[i].key.line)
		return
	}
	if into.index == nil {
		into.index = map[string]int{}
	}
	into.index[key.text] = len(into.pairs)
	into.pairs = append(into.pairs, pair{key, value})
}

// fail adds a problem and marks the text as unreadable.
func (r *reader) fail(at place, message string, args ...any) {
	r.failed = true
	r.c.add(at, message, args...)
}
