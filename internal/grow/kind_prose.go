package grow

import (
	"bytes"
	"strings"
	"unicode"
	"unicode/utf8"

	"evensprout/internal/words"
)

// grammar makes text of one language about one subject: rules whose lines contain other rules.
type grammar struct {
	rules map[string]*rule
	plain bool   // words are set apart by blanks, as in most languages
	space string // between sentences
}

// rule is a list of lines, of which one is chosen.
type rule struct {
	lines []line
	sums  []uint64 // running totals of the weights; nil: all lines are as frequent
}

// line is text and rules in turn.
type line []symbol

// symbol is literal text, or a rule; what a rule makes may begin with a large or a small letter.
type symbol struct {
	text string
	rule *rule
	cap  rune // 'A': a large first letter, 'a': a small one
}

// proseRules are the rules that texts begin with.
var proseRules = []string{"sentence", "headline", "words", "noun", "adjective", "complaint", "request", "comment",
	"good", "middling", "bad", "commit.verb", "commit.what", "commit.why", "error", "log.what", "service",
	"product.thing", "product.material", "when"}

// newGrammar reads the rules of a locale about a subject.
func newGrammar(l *words.Locale, subject string) *grammar {
	g := &grammar{rules: map[string]*rule{}, plain: l.About["language"] != "ja", space: " "}
	if !g.plain {
		g.space = ""
	}
	for _, name := range proseRules {
		g.read(l, subject, name)
	}
	return g
}

// read returns a rule, which is read the first time. A list of the subject comes before one for all.
func (g *grammar) read(l *words.Locale, subject, name string) *rule {
	if r := g.rules[name]; r != nil {
		return r
	}
	list := l.List(subject + "." + name)
	if list == nil || l.Own(name) { // lists of subjects are English
		list = l.List(name)
	}
	if list == nil && name == "words" {
		list = l.List("noun")
	}
	if list == nil {
		panic(l.Name + " has no rule " + name)
	}
	r := &rule{sums: runningTotals(list.Weights)}
	g.rules[name] = r // before its lines: a rule may not contain itself, but two may share one
	for _, e := range list.Entries {
		r.lines = append(r.lines, g.line(l, subject, e.Text))
	}
	return r
}

// line reads a line. Between braces stands a rule: {np}, {np/cap}, {np/low}.
func (g *grammar) line(l *words.Locale, subject, text string) line {
	var out line
	for text != "" {
		before, rest, braced := strings.Cut(text, "{")
		if before != "" {
			out = append(out, symbol{text: before})
		}
		if !braced {
			break
		}
		inner, after, _ := strings.Cut(rest, "}")
		text = after
		name, filter, _ := strings.Cut(inner, "/")
		p := symbol{rule: g.read(l, subject, name)}
		switch filter {
		case "cap":
			p.cap = 'A'
		case "low", "lower":
			p.cap = 'a'
		}
		out = append(out, p)
	}
	return out
}

// put appends a line of a rule.
func (r *rule) put(s *stream, b []byte) []byte {
	at := 0
	if r.sums == nil {
		at = int(s.below(uint64(len(r.lines))))
	} else {
		n := s.below(r.sums[len(r.sums)-1])
		for r.sums[at] <= n {
			at++
		}
	}
	for i := range r.lines[at] {
		p := &r.lines[at][i]
		if p.rule == nil {
			b = append(b, p.text...)
			continue
		}
		from := len(b)
		b = p.rule.put(s, b)
		if p.cap != 0 {
			b = recase(b, from, p.cap)
		}
	}
	return b
}

// recase makes the letter at a place large ('A') or small ('a').
func recase(b []byte, at int, how rune) []byte {
	if at == len(b) {
		return b
	}
	if c := b[at]; c < utf8.RuneSelf {
		switch {
		case how == 'A' && c >= 'a' && c <= 'z':
			b[at] = c - 'a' + 'A'
		case how == 'a' && c >= 'A' && c <= 'Z':
			b[at] = c - 'A' + 'a'
		}
		return b
	}
	r, n := utf8.DecodeRune(b[at:])
	to := unicode.ToLower(r)
	if how == 'A' {
		to = unicode.ToUpper(r)
	}
	if to == r {
		return b
	}
	rest := bytes.Clone(b[at+n:])
	return append(utf8.AppendRune(b[:at], to), rest...)
}

// rule appends a line of a rule.
func (g *grammar) rule(name string, s *stream, b []byte) []byte { return g.rules[name].put(s, b) }

// sentence appends a sentence with its point.
func (g *grammar) sentence(s *stream, b []byte) []byte {
	b = g.rule("sentence", s, b)
	if last := b[len(b)-1]; last != '.' && !bytes.HasSuffix(b, []byte("。")) {
		b = append(b, '.')
	}
	return b
}

// paragraph appends sentences.
func (g *grammar) paragraph(s *stream, b []byte, n Range) []byte {
	for i := range n.draw(s) {
		if i > 0 {
			b = append(b, g.space...)
		}
		b = g.sentence(s, b)
	}
	return b
}

// list appends words.
func (g *grammar) list(s *stream, b []byte, n Range) []byte {
	for i := range n.draw(s) {
		if i > 0 && g.plain {
			b = append(b, ' ')
		}
		b = g.rule("words", s, b)
	}
	return b
}

// proseKinds are the kinds of free text.
func proseKinds() []Kind {
	local := func(name, about string, params []string, usual []Range,
		prose func(*grammar, *stream, []byte, []Range) []byte) Kind {
		return Kind{Name: name, Section: sectionTexts, About: about, Params: params, usual: usual, prose: prose,
			Locales: true, Subjects: true}
	}
	english := func(name, about string, prose func(*grammar, *stream, []byte, []Range) []byte) Kind {
		return Kind{Name: name, Section: sectionTexts, About: about, prose: prose}
	}
	join := func(names ...string) func(*grammar, *stream, []byte, []Range) []byte {
		return func(g *grammar, s *stream, b []byte, _ []Range) []byte {
			from := len(b)
			for i, name := range names {
				if i > 0 {
					b = append(b, ' ')
				}
				b = g.rule(name, s, b)
			}
			return recase(b, from, 'A')
		}
	}
	sentences := []Range{{2, 5}}
	headline := local("headline", "heading of a text", nil, nil,
		func(g *grammar, s *stream, b []byte, _ []Range) []byte { return g.rule("headline", s, b) })
	headline.Locales = false
	subject := english("subject", "subject of a message", func(g *grammar, s *stream, b []byte, _ []Range) []byte {
		return g.rule("headline", s, b)
	})
	subject.Subjects = true
	return []Kind{
		local("words", "words without punctuation", []string{"words"}, []Range{{3, 6}},
			func(g *grammar, s *stream, b []byte, n []Range) []byte { return g.list(s, b, n[0]) }),
		local("sentence", "one sentence", nil, nil,
			func(g *grammar, s *stream, b []byte, _ []Range) []byte { return g.sentence(s, b) }),
		local("paragraph", "sentences in a row", []string{"sentences"}, sentences,
			func(g *grammar, s *stream, b []byte, n []Range) []byte { return g.paragraph(s, b, n[0]) }),
		headline,
		subject,
		local("html", "paragraphs of HTML with emphasis and a list", []string{"paragraphs", "sentences"},
			[]Range{{1, 3}, {2, 4}}, proseHTML),
		local("markdown", "Markdown with headings, paragraphs, a list and code", []string{"paragraphs", "sentences"},
			[]Range{{1, 3}, {2, 4}}, proseMarkdown),
		english("comment", "short comment of a reader", join("comment")),
		english("support-request", "message to support", func(g *grammar, s *stream, b []byte, _ []Range) []byte {
			return g.rule("request", s, append(g.rule("complaint", s, b), ". "...))
		}),
		english("commit-message", "message of a commit", join("commit.verb", "commit.what", "commit.why")),
		english("error-message", "message of an error", join("error")),
		english("log-line", "line of a log", func(g *grammar, s *stream, b []byte, _ []Range) []byte {
			b = append(g.rule("service", s, b), ": "...)
			b = append(g.rule("log.what", s, b), " in "...)
			return append(appendPadded(b, 1+s.below(900), 0), " ms"...)
		}),
		english("product-description", "what a product is", func(g *grammar, s *stream, b []byte, _ []Range) []byte {
			b = append(g.rule("product.thing", s, b), " in "...)
			from := len(b)
			b = append(recase(g.rule("product.material", s, b), from, 'a'), ", "...)
			b = append(g.rule("adjective", s, b), ". "...)
			return append(g.rule("good", s, b), '.')
		}),
	}
}

func proseHTML(g *grammar, s *stream, b []byte, n []Range) []byte {
	for range n[0].draw(s) {
		b = append(b, "<p>"...)
		b = g.paragraph(s, b, n[1])
		b = append(append(b, g.space...), "<strong>"...)
		b = g.sentence(s, b)
		b = append(b, "</strong></p>"...)
	}
	b = append(b, "<ul>"...)
	for range 2 + s.below(2) {
		b = append(b, "<li>"...)
		b = g.list(s, b, Range{2, 4})
		b = append(b, "</li>"...)
	}
	return append(b, "</ul>"...)
}

func proseMarkdown(g *grammar, s *stream, b []byte, n []Range) []byte {
	title := func(sign string) {
		b = append(b, sign...)
		from := len(b)
		b = recase(g.list(s, b, Range{2, 4}), from, 'A')
		b = append(b, "\n\n"...)
	}
	title("# ")
	for i := range n[0].draw(s) {
		if i > 0 {
			title("## ")
		}
		b = append(g.paragraph(s, b, n[1]), "\n\n"...)
	}
	for range 2 + s.below(3) {
		b = append(g.list(s, append(b, "- "...), Range{1, 3}), '\n')
	}
	b = append(b, "\nRun `"...)
	b = append(g.rule("service", s, b), " --help`.\n"...)
	return b
}
