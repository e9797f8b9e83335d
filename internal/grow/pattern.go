package grow

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// Patterns are regular expressions of bounded length: literals, classes such as
// [A-HJ-NP-Z0-9], \d, \w, . (printable ASCII), groups, alternatives, ?, {n} and
// {m,n}. What has no upper bound (*, +, {2,}) is refused.

// PatternError is a fault at a byte offset of a pattern.
type PatternError struct {
	Offset  int
	Message string
}

func (e *PatternError) Error() string { return e.Message }

const (
	maxPatternBytes = 2_000
	maxPatternRunes = 1_000 // longest text
	maxPatternDepth = 50
)

type nodeOp uint8

const (
	opClass  nodeOp = iota // one of runes
	opJoin                 // all subs in order
	opEither               // one of subs
	opRepeat               // subs[0], min to max times
	opFree                 // subs[0], drawn even where texts are numbered
)

type node struct {
	op       nodeOp
	runes    []rune
	subs     []*node
	min, max int
	size     uint64 // in a unique form: the number of texts
	div      rng.Divisor
}

// pattern is text that a regular expression describes.
type pattern struct {
	root   *node
	unique *node
	free   bool // some of the unique form is drawn
}

// Pattern compiles a regular expression into a source of texts that match it.
func Pattern(expr string) (Source, error) {
	if len(expr) > maxPatternBytes {
		return nil, &PatternError{0, fmt.Sprintf("the pattern is longer than %d bytes", maxPatternBytes)}
	}
	if !utf8.ValidString(expr) {
		return nil, &PatternError{0, "the pattern is not valid UTF-8"}
	}
	p := patternParser{text: expr}
	root, err := p.either(0)
	if err == nil && p.at < len(expr) {
		err = p.fault("this ) has no matching (")
	}
	if err != nil {
		return nil, err
	}
	if n := root.longest(); n > maxPatternRunes {
		return nil, &PatternError{
			0,
			fmt.Sprintf("the pattern makes texts of up to %d characters; at most %d are possible", n, maxPatternRunes),
		}
	}

	s := &pattern{root: root}
	s.unique = root.folded().uniqueForm(MaxSpace)
	s.unique.prepare()
	s.free = s.unique.hasFree()
	return s, nil
}

func (s *pattern) Type() value.Type { return value.Text }
func (s *pattern) Scale() uint8     { return 0 }
func (s *pattern) Space() uint64    { return s.unique.size }

func (s *pattern) grow(c cell, v *value.Value) {
	draws := c.stream()
	b := s.root.draw(&draws, c.g.take())
	c.setText(v, b)
	c.g.give(b)
}

func (s *pattern) at(c cell, index uint64, v *value.Value) {
	var draws stream
	if s.free {
		draws = c.stream()
	}
	b, _ := s.unique.unrank(index, &draws, c.g.take())
	c.setText(v, b)
	c.g.give(b)
}

type patternParser struct {
	text string
	at   int
}

func (p *patternParser) fault(format string, args ...any) error {
	return &PatternError{p.at, fmt.Sprintf(format, args...)}
}

func (p *patternParser) more() bool { return p.at < len(p.text) }

func (p *patternParser) next() rune {
	r, size := utf8.DecodeRuneInString(p.text[p.at:])
	p.at += size
	return r
}

func (p *patternParser) peek() byte {
	if p.more() {
		return p.text[p.at]
	}
	return 0
}

func (p *patternParser) either(depth int) (*node, error) {
	if depth > maxPatternDepth {
		return nil, p.fault("groups are nested more than %d deep", maxPatternDepth)
	}
	n := &node{op: opEither}
	for {
		sub, err := p.join(depth)
		if err != nil {
			return nil, err
		}
		n.subs = append(n.subs, sub)
		if p.peek() != '|' {
			break
		}
		p.at++
	}
	if len(n.subs) == 1 {
		return n.subs[0], nil
	}
	return n, nil
}

func (p *patternParser) join(depth int) (*node, error) {
	n := &node{op: opJoin}
	for p.more() && p.peek() != '|' && p.peek() != ')' {
		sub, err := p.atom(depth)
		if err != nil {
			return nil, err
		}
		if sub == nil {
			continue // an anchor
		}
		if sub, err = p.repeat(sub); err != nil {
			return nil, err
		}
		n.subs = append(n.subs, sub)
	}
	return n, nil
}

func (p *patternParser) atom(depth int) (*node, error) {
	start := p.at
	switch r := p.next(); r {
	case '^':
		if start != 0 {
			return nil, &PatternError{start, "^ is only possible at the start"}
		}
		return nil, nil
	case '$':
		if p.more() {
			return nil, &PatternError{start, "$ is only possible at the end"}
		}
		return nil, nil
	case '(':
		if strings.HasPrefix(p.text[p.at:], "?:") {
			p.at += 2
		} else if p.peek() == '?' {
			return nil, &PatternError{start, "of groups that begin with (? only (?: is supported"}
		}
		n, err := p.either(depth + 1)
		if err != nil {
			return nil, err
		}
		if p.peek() != ')' {
			return nil, &PatternError{start, "this ( has no matching )"}
		}
		p.at++
		return n, nil
	case '[':
		return p.class(start)
	case '.':
		return &node{op: opClass, runes: runeRange(' ', '~')}, nil
	case '\\':
		runes, err := p.escape(start)
		return &node{op: opClass, runes: runes}, err
	case '*', '+', '?', '{':
		return nil, &PatternError{start, fmt.Sprintf("%c has nothing to repeat", r)}
	default:
		return &node{op: opClass, runes: []rune{r}}, nil
	}
}

func (p *patternParser) escape(start int) ([]rune, error) {
	if !p.more() {
		return nil, &PatternError{start, "a \\ at the end"}
	}
	switch r := p.next(); r {
	case 'd':
		return runeRange('0', '9'), nil
	case 'w':
		return slices.Concat(runeRange('0', '9'), runeRange('A', 'Z'), []rune{'_'}, runeRange('a', 'z')), nil
	case 's':
		return []rune{' '}, nil
	case 't':
		return []rune{'\t'}, nil
	case 'n':
		return []rune{'\n'}, nil
	default:
		if r < utf8.RuneSelf && (r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9') {
			return nil, &PatternError{
				start,
				fmt.Sprintf("\\%c is not supported; use \\d, \\w, \\s, \\t, \\n, or \\ before a punctuation "+
					"character", r),
			}
		}
		return []rune{r}, nil
	}
}

func (p *patternParser) class(start int) (*node, error) {
	var runes []rune
	negated := p.peek() == '^'
	if negated {
		p.at++
	}
	for first := true; ; first = false {
		if !p.more() {
			return nil, &PatternError{start, "this [ has no matching ]"}
		}
		at := p.at
		r := p.next()
		if r == ']' && !first {
			break
		}
		set := []rune{r}
		if r == '\\' {
			var err error
			if set, err = p.escape(at); err != nil {
				return nil, err
			}
		}
		if p.peek() == '-' && p.at+1 < len(p.text) && p.text[p.at+1] != ']' && len(set) == 1 {
			p.at++
			hi := p.next()
			if hi == '\\' {
				one, err := p.escape(p.at - 1)
				if err != nil {
					return nil, err
				}
				hi = one[len(one)-1]
			}
			if hi < set[0] {
				return nil, &PatternError{at, fmt.Sprintf("the range %c-%c is reversed", set[0], hi)}
			}
			if hi-set[0] > 70_000 {
				return nil, &PatternError{at, "the class is too large"}
			}
			set = runeRange(set[0], hi)
		}
		runes = append(runes, set...)
	}

	slices.Sort(runes)
	runes = slices.Compact(runes)

	// Surrogates are no characters.
	runes = slices.DeleteFunc(runes, func(r rune) bool { return r >= 0xd800 && r <= 0xdfff })
	if negated {
		runes = slices.DeleteFunc(runeRange(' ', '~'), func(r rune) bool { return slices.Contains(runes, r) })
	}
	if len(runes) == 0 {
		return nil, &PatternError{start, "the class is empty"}
	}
	return &node{op: opClass, runes: runes}, nil
}

func runeRange(lo, hi rune) []rune {
	var runes []rune
	for r := lo; r <= hi; r++ {
		runes = append(runes, r)
	}
	return runes
}

func (p *patternParser) repeat(sub *node) (*node, error) {
	for first := true; ; first = false {
		start := p.at
		lo, hi := 0, 1
		switch p.peek() {
		case '?':
			p.at++
		case '*', '+':
			return nil, p.fault("%c has no upper bound: say how many, such as {1,8}", p.peek())
		case '{':
			end := strings.IndexByte(p.text[p.at:], '}')
			if end < 0 {
				return nil, p.fault("this { has no matching }; write \\{ for a brace")
			}
			from, to, comma := strings.Cut(p.text[p.at+1:p.at+end], ",")
			if comma && to == "" {
				return nil, p.fault("{%s,} has no upper bound: say how many, such as {%s,8}", from, from)
			}
			var err1, err2 error
			lo, err1 = strconv.Atoi(from)
			hi = lo
			if comma {
				hi, err2 = strconv.Atoi(to)
			}
			if err1 != nil || err2 != nil || lo < 0 || hi > maxPatternRunes {
				return nil, p.fault("write {n} or {m,n} with numbers up to %d", maxPatternRunes)
			}
			if hi < lo {
				return nil, p.fault("the range {%d,%d} is reversed", lo, hi)
			}
			p.at += end + 1
		default:
			return sub, nil
		}
		if !first {
			return nil, &PatternError{start, "two repeats in a row: put the first in ( )"}
		}
		sub = &node{op: opRepeat, subs: []*node{sub}, min: lo, max: hi}
	}
}

// longest is the length of the longest text, capped well above the limit.
func (n *node) longest() int {
	const most = 1 << 20
	sum := 0
	switch n.op {
	case opClass:
		return 1
	case opJoin:
		for _, s := range n.subs {
			sum = min(sum+s.longest(), most)
		}
	case opEither:
		for _, s := range n.subs {
			sum = max(sum, s.longest())
		}
	case opRepeat:
		sum = min(n.subs[0].longest()*n.max, most)
	}
	return sum
}

// draw appends a text: every class, alternative and length is drawn by itself.
func (n *node) draw(s *stream, b []byte) []byte {
	switch n.op {
	case opClass:
		r := n.runes[0]
		if len(n.runes) > 1 {
			r = n.runes[s.below(uint64(len(n.runes)))]
		}
		return utf8.AppendRune(b, r)
	case opEither:
		return n.subs[s.below(uint64(len(n.subs)))].draw(s, b)
	case opRepeat:
		times := n.min
		if n.max > n.min {
			times += int(s.below(uint64(n.max - n.min + 1)))
		}
		for range times {
			b = n.subs[0].draw(s, b)
		}
		return b
	}
	for _, sub := range n.subs {
		b = sub.draw(s, b)
	}
	return b
}

// uniqueForm returns a folded pattern written out as classes, joins and
// alternatives whose texts are numbered: size tells how many there are. What
// would exceed the limit is left to free draws: front parts of a join; of an
// alternative or a repeat without fixed length only the longest is kept.
func (n *node) uniqueForm(limit uint64) *node {
	switch n.op {
	case opClass:
		return &node{op: opClass, runes: n.runes, size: uint64(len(n.runes))}
	case opEither:
		u := &node{op: opEither}
		for _, s := range n.subs {
			form := s.uniqueForm(limit)
			if u.size += form.size; u.size > limit || form.hasFree() {
				longest := slices.MaxFunc(n.subs, func(a, b *node) int { return a.longest() - b.longest() })
				return longest.uniqueForm(limit)
			}
			u.subs = append(u.subs, form)
		}
		return u
	case opRepeat:
		lengths := &node{op: opEither}
		for times := n.min; times <= n.max; times++ {
			lengths.subs = append(lengths.subs, &node{op: opJoin, subs: slices.Repeat(n.subs[:1], times)})
		}
		if len(lengths.subs) == 1 {
			return lengths.subs[0].uniqueForm(limit)
		}
		return lengths.uniqueForm(limit)
	}

	u := &node{op: opJoin, size: 1, subs: make([]*node, len(n.subs))}
	for i := len(n.subs) - 1; i >= 0; i-- {
		form := n.subs[i].uniqueForm(limit)
		if form.size > limit/u.size {
			u.subs[i] = &node{op: opFree, subs: []*node{n.subs[i]}, size: 1}
			continue
		}
		u.subs[i] = form
		u.size *= form.size
	}
	return u
}

// prepare readies a unique form for unrank: joins inside joins become one.
func (n *node) prepare() {
	n.div = rng.NewDivisor(n.size)
	var flat []*node
	for _, s := range n.subs {
		s.prepare()
		if n.op == opJoin && s.op == opJoin {
			flat = append(flat, s.subs...)
		} else {
			flat = append(flat, s)
		}
	}
	n.subs = flat
}

func (n *node) hasFree() bool {
	return n.op == opFree || slices.ContainsFunc(n.subs, (*node).hasFree)
}

// plain reports whether a pattern is one class of signs of ASCII behind the other, always
// as many: then texts differ under Fold as soon as one of their letters does.
func (n *node) plain() bool {
	if n.op == opFree || n.op == opEither && len(n.subs) > 1 || n.op == opRepeat && n.min != n.max {
		return false
	}
	for _, r := range n.runes {
		if r <= ' ' || r > '~' {
			return false
		}
	}
	return !slices.ContainsFunc(n.subs, func(s *node) bool { return !s.plain() })
}

// folded returns the pattern reduced to characters that stay different under Fold.
func (n *node) folded() *node {
	f := *n
	if n.op == opClass {
		seen := map[string]bool{}
		f.runes = nil
		for _, r := range n.runes {
			key := value.Fold(string(r))
			if len(n.runes) > 1 && (seen[key] || utf8.RuneCountInString(key) != 1) {
				continue
			}
			seen[key] = true
			f.runes = append(f.runes, r)
		}
		if f.runes == nil {
			f.runes = n.runes[:1]
		}
		return &f
	}
	f.subs = make([]*node, len(n.subs))
	for i, s := range n.subs {
		f.subs[i] = s.folded()
	}
	return &f
}

// unrank appends the text with an index and returns what of the index is left
// for the parts behind it.
func (n *node) unrank(index uint64, s *stream, b []byte) ([]byte, uint64) {
	switch n.op {
	case opClass:
		rest, i := n.div.DivMod(index)
		return utf8.AppendRune(b, n.runes[i]), rest
	case opEither:
		rest, i := n.div.DivMod(index)
		for _, sub := range n.subs {
			if i < sub.size {
				b, _ = sub.unrank(i, s, b)
				break
			}
			i -= sub.size
		}
		return b, rest
	case opFree:
		return n.subs[0].draw(s, b), index
	}

	for _, sub := range n.subs {
		if sub.op != opClass {
			b, index = sub.unrank(index, s, b)
			continue
		}
		rest, i := sub.div.DivMod(index)
		index = rest
		if r := sub.runes[i]; r < utf8.RuneSelf {
			b = append(b, byte(r))
		} else {
			b = utf8.AppendRune(b, r)
		}
	}
	return b, index
}

// ambiguous reports whether some text can be made in two ways, in which case
// counting ways is not counting texts. It follows two readings of the same text
// at once (the square of the position automaton; Book, Even, Greibach and Ott,
// "Ambiguity in Graphs and Expressions", 1971) and looks for readings that part
// and still end together. A pattern too large to tell counts as ambiguous.
func (n *node) ambiguous() bool {
	a := &positions{}
	whole := a.add(n)
	if whole.twoWays || len(a.runes) > maxPositions {
		return true
	}
	back := map[pair][]pair{} // from where a pair is reached
	var todo []pair
	push := func(from pair, p, q int) {
		if to := (pair{min(p, q), max(p, q)}); meet(a.runes[p], a.runes[q]) {
			if _, seen := back[to]; !seen {
				todo = append(todo, to)
			}
			back[to] = append(back[to], from)
		}
	}
	start := pair{-1, -1}
	follow := func(p int) []int {
		if p < 0 {
			return whole.first
		}
		return a.follow[p]
	}
	todo = append(todo, start)
	var ends []pair
	for len(todo) > 0 {
		at := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		if at.p >= 0 && slices.Contains(whole.last, at.p) && slices.Contains(whole.last, at.q) {
			ends = append(ends, at)
		}
		for i, p := range follow(at.p) {
			if at.p == at.q && slices.Contains(follow(at.p)[i+1:], p) {
				return true // two ways from one place to another
			}
			for _, q := range follow(at.q) {
				push(at, p, q)
			}
		}
	}
	return parted(ends, back)
}

// parted reports whether two readings that end together stand at different positions somewhere
// on the way back to the start.
func parted(ends []pair, back map[pair][]pair) bool {
	seen := map[pair]bool{}
	for len(ends) > 0 {
		at := ends[len(ends)-1]
		ends = ends[:len(ends)-1]
		if seen[at] {
			continue
		}
		seen[at] = true
		if at.p != at.q {
			return true
		}
		ends = append(ends, back[at]...)
	}
	return false
}

// pair is the positions of two readings of the same text; p is at most q, and -1 is the start.
type pair struct{ p, q int }

const maxPositions = 600

// positions is a position (Glushkov) automaton; repeats are written out.
type positions struct {
	runes  [][]rune
	follow [][]int
}

// piece is a part of the automaton: where it begins and ends, whether it can be
// empty, and whether it can be empty in two ways.
type piece struct {
	first, last    []int
	empty, twoWays bool
}

func (a *positions) add(n *node) piece {
	if len(a.runes) > maxPositions {
		return piece{}
	}
	var out piece
	switch n.op {
	case opClass:
		p := len(a.runes)
		a.runes = append(a.runes, n.runes)
		a.follow = append(a.follow, nil)
		return piece{first: []int{p}, last: []int{p}}
	case opEither:
		for _, s := range n.subs {
			x := a.add(s)
			out.first, out.last = append(out.first, x.first...), append(out.last, x.last...)
			out.twoWays = out.twoWays || x.twoWays || x.empty && out.empty
			out.empty = out.empty || x.empty
		}
		return out
	case opRepeat:
		// The copies beyond the least number only stand behind the one before:
		// one way for each length.
		out.empty = n.min == 0
		var before piece
		for i := range n.max {
			x := a.add(n.subs[0])
			out.twoWays = out.twoWays || x.twoWays || x.empty && (n.min == 0 || n.max > 1)
			out.empty = out.empty || x.empty
			if i == 0 {
				out.first = x.first
			}
			a.link(before.last, x.first)
			if i+1 >= n.min {
				out.last = append(out.last, x.last...)
			}
			before = x
		}
		return out
	}

	out.empty = true
	for _, s := range n.subs {
		x := a.add(s)
		a.link(out.last, x.first)
		if out.empty {
			out.first = slices.Concat(out.first, x.first)
		}
		if x.empty {
			out.last = slices.Concat(out.last, x.last)
		} else {
			out.last = x.last
		}
		out.empty = out.empty && x.empty
		out.twoWays = out.twoWays || x.twoWays
	}
	return out
}

func (a *positions) link(from, to []int) {
	for _, p := range from {
		a.follow[p] = append(a.follow[p], to...)
	}
}

// meet reports whether two sorted classes share a character.
func meet(a, b []rune) bool {
	for i, j := 0, 0; i < len(a) && j < len(b); {
		switch {
		case a[i] == b[j]:
			return true
		case a[i] < b[j]:
			i++
		default:
			j++
		}
	}
	return false
}

func (s *pattern) longest() string { return string(s.root.appendLongest(nil)) }
