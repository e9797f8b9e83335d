// Package lexicon knows what the names of columns and tables mean, in several languages, with abbreviations and
// prefixes, and which values suit a column that is called so.
package lexicon

import (
	_ "embed"
	"slices"
	"strings"
	"sync"
	"unicode"

	"evensprout/internal/schema"
	"evensprout/internal/value"
)

//go:embed data/words.txt
var wordsData string

//go:embed data/sources.txt
var sourcesData string

// lexicon knows what words in names mean, and which source a text has whose name means so.
type lexicon struct {
	notions map[string][]string // by word
	ways    []way
}

// way is notions that a name says, and the source that it suggests then.
type way struct {
	notions []string
	subject string // a notion, or one of the groups of subjects: of the column or its table; empty: any
	source  string
	order   int
}

// theLexicon is read once: it never changes.
var theLexicon = sync.OnceValue(func() *lexicon {
	l := &lexicon{notions: map[string][]string{}}
	for _, line := range dataLines(wordsData) {
		notion, list, _ := strings.Cut(line, ":")
		for _, word := range append(strings.Fields(list), notion) {
			if !slices.Contains(l.notions[word], notion) {
				l.notions[word] = append(l.notions[word], notion)
			}
		}
	}
	for i, line := range dataLines(sourcesData) {
		source, ways, _ := strings.Cut(line, " = ")
		l.ways = append(l.ways, waysOf(ways, source, i)...)
	}
	return l
})

// dataLines are the lines of a file of data, without comments.
func dataLines(data string) []string {
	var out []string
	for _, line := range strings.Split(data, "\n") {
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
			out = append(out, line)
		}
	}
	return out
}

// subjects are groups of notions that a row, or a part of its columns, is about.
var subjects = map[string][]string{
	"person": {
		"customer",
		"person",
		"employee",
		"manager",
		"member",
		"patient",
		"student",
		"teacher",
		"doctor",
		"driver",
		"guest",
		"author",
		"owner",
		"recipient",
		"sender",
		"player",
		"agent",
		"user",
		"signed",
	},
	"firm":    {"company", "supplier", "manufacturer", "employer", "bank"},
	"product": {"product"},
	"text":    {"text", "note", "message", "comment", "review", "summary"},
}

// Meaning is what a name says: the notions of each of its words.
type Meaning struct {
	words [][]string // the notions of each word that is known
	alien int        // words that are not known
}

// empty words say nothing about what a value is: prefixes of types, and which of several.
var emptyWords = map[string]bool{
	"txt": true, "str": true, "int": true, "chr": true, "vch": true, "varchar": true, "fld": true, "col": true,
	"my": true, "the": true, "of": true, "de": true, "du": true, "da": true, "do": true, "di": true, "la": true,
	"main": true, "primary": true, "secondary": true, "current": true, "default": true, "old": true, "new": true,
	"billing": true, "shipping": true, "home": true, "work": true, "legal": true, "public": true, "private": true,
	"internal": true, "external": true, "local": true, "original": true, "display": true, "official": true,
	"preferred": true, "alternative": true, "alt": true, "by": true, "at": true, "on": true, "in": true, "for": true,
}

// Of is what a name says.
func Of(name string) Meaning {
	l := theLexicon()
	var m Meaning
	list := Words(name)
	for i, w := range list {
		word := strings.TrimRightFunc(plainLetters(w), unicode.IsDigit)
		if word == "" {
			continue
		}
		if emptyWords[word] && len(list) > 1 && (l.notions[word] == nil || i == 0) {
			continue
		}
		known := l.known(word)
		if known == nil {
			m.alien++
			continue
		}
		m.words = append(m.words, known...)
	}
	return m
}

// plainLetters is a word in lower-case letters without accents.
func plainLetters(w string) string {
	return schema.Plain(value.Fold(written.Replace(strings.ToLower(w))))
}

// written are letters whose accent is written as a letter of its own.
var written = strings.NewReplacer("ß", "ss", "ł", "l", "ı", "i", "ä", "ae", "ö", "oe", "ü", "ue")

// known are the notions of a word, or of the words that it is put together from; nil if it is not known.
func (l *lexicon) known(word string) [][]string {
	if n := l.one(word); n != nil {
		return [][]string{n}
	}
	const shortest = 3                                     // letters of a part
	for at := len(word) - shortest; at >= shortest; at-- { // the longest first part
		first := l.one(word[:at])
		if first == nil {
			continue
		}
		rest := strings.TrimPrefix(word[at:], "s") // German and Dutch put an s between
		for _, part := range []string{word[at:], rest} {
			if len(part) < 2 {
				continue
			}
			if more := l.known(part); more != nil {
				return append([][]string{first}, more...)
			}
		}
	}
	return nil
}

// one are the notions of a word, or of its singular.
func (l *lexicon) one(word string) []string {
	if n := l.notions[word]; n != nil {
		return n
	}
	for _, ending := range []string{"ies", "es", "s", "en", "n", "e", "i", "lar", "ler", "y", "a", "u"} {
		stem, ok := strings.CutSuffix(word, ending)
		if ending == "ies" {
			stem += "y"
		}
		if ok && len(stem) > 2 && l.notions[stem] != nil {
			return l.notions[stem]
		}
	}
	return nil
}

// says reports whether a name has a word for a notion.
func (m Meaning) says(notion string) bool {
	return slices.ContainsFunc(m.words, func(w []string) bool { return slices.Contains(w, notion) })
}

// Says reports whether a name has a word for one of some notions.
func (m Meaning) Says(notions ...string) bool { return slices.ContainsFunc(notions, m.says) }

// Alone reports whether a name says one thing only.
func (m Meaning) Alone() bool { return len(m.words) == 1 && m.alien == 0 }

// Shares reports whether two names have a notion in common.
func (m Meaning) Shares(o Meaning) bool {
	return slices.ContainsFunc(m.words, func(w []string) bool { return o.Says(w...) })
}

// isAbout reports whether a name has a word for a subject: a notion, or a group of them.
func (m Meaning) isAbout(subject string) bool {
	if group := subjects[subject]; group != nil {
		return m.Says(group...)
	}
	return m.says(subject)
}

// Weights of the score of a way.
const (
	notionScore   = 10 // for each notion that the name says
	lastScore     = 3  // if the way ends with the name's last word
	subjectScore  = 6  // if the name or the table is about its subject
	unspokenScore = -4 // for each further word whose notion the way does not need
	alienScore    = -2 // for each word that is not known
	leastScore    = 4
)

// score is how well a way suits a column's name in a table; below leastScore it does not.
func (w *way) score(column, table Meaning) int {
	used := make([]bool, len(column.words))
	score := 0
	for i, notion := range w.notions {
		at := -1
		for j := range column.words {
			if !used[j] && slices.Contains(column.words[j], notion) {
				at = j
			}
		}
		if at < 0 {
			return 0
		}
		used[at] = true
		score += notionScore
		if i == len(w.notions)-1 && at == len(column.words)-1 {
			score += lastScore
		}
	}
	own, fits := w.subjectOf(column, table, used)
	if !fits {
		return 0
	}
	if w.subject != "" {
		score += subjectScore
	}
	for j := range column.words {
		if used[j] || own && (Meaning{words: column.words[j : j+1]}).isAbout(w.subject) {
			continue
		}
		score += unspokenScore
	}
	return score + alienScore*column.alien
}

// subjectOf reports whether a name, or else its table, is about the way's subject; own: the name itself says so, by
// words that are not used otherwise.
func (w *way) subjectOf(column, table Meaning, used []bool) (own, fits bool) {
	if w.subject == "" {
		return false, true
	}
	about := Meaning{}
	for j, of := range column.words {
		if !used[j] {
			about.words = append(about.words, of)
		}
	}
	if about.isAbout(w.subject) {
		return true, true
	}
	// That a table is about persons says nothing about its column theme.
	return false, len(w.notions) > 0 && table.lastIs(w.subject) && !column.hasSubject()
}

// lastIs reports whether the last word that is known names a subject: order items are items.
func (m Meaning) lastIs(subject string) bool {
	n := len(m.words)
	return n > 0 && (Meaning{words: m.words[n-1:]}).isAbout(subject)
}

// hasSubject reports whether a name says of whom or what its value is.
func (m Meaning) hasSubject() bool {
	if len(m.words) < 2 {
		return false
	}
	first := Meaning{words: m.words[:len(m.words)-1]}
	for subject := range subjects {
		if first.isAbout(subject) {
			return true
		}
	}
	return false
}

// Sources are the sources of values, as plans write them, that the name of a column of text suggests, the best first.
func Sources(table, column string) []string {
	l := theLexicon()
	of, in := Of(column), Of(table)
	type scored struct {
		way   *way
		score int
	}
	var list []scored
	for i := range l.ways {
		if n := l.ways[i].score(of, in); n >= leastScore {
			list = append(list, scored{&l.ways[i], n})
		}
	}
	slices.SortStableFunc(list, func(a, b scored) int {
		if a.score != b.score {
			return b.score - a.score
		}
		return a.way.order - b.way.order
	})
	var out []string
	for _, s := range list {
		if !slices.Contains(out, s.way.source) {
			out = append(out, s.way.source)
		}
	}
	return out
}

// Words cuts a name into its words: given_name, givenName, GivenName, "given name".
func Words(name string) []string {
	var out []string
	var word []rune
	end := func() {
		if len(word) > 0 {
			out = append(out, string(word))
			word = nil
		}
	}
	runes := []rune(name)
	for i, r := range runes {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			end()
			continue
		}
		if unicode.IsUpper(r) && i > 0 &&
			(unicode.IsLower(runes[i-1]) || unicode.IsDigit(runes[i-1]) || i+1 < len(runes) &&
				unicode.IsUpper(runes[i-1]) && unicode.IsLower(runes[i+1])) {
			end()
		}
		word = append(word, r)
	}
	end()
	return out
}

// AllSources are the sources that a name can suggest.
func AllSources() []string {
	var out []string
	for _, w := range theLexicon().ways {
		if !slices.Contains(out, w.source) {
			out = append(out, w.source)
		}
	}
	return out
}

// Singular is an English word without the ending of its plural, where the ending shows it.
func Singular(w string) string {
	switch {
	case strings.HasSuffix(w, "ies"):
		return strings.TrimSuffix(w, "ies") + "y"
	case strings.HasSuffix(w, "sses"), strings.HasSuffix(w, "xes"):
		return strings.TrimSuffix(w, "es")
	}
	return strings.TrimSuffix(w, "s")
}
