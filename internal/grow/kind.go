package grow

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// Kind is a named source of values in the catalogue. Where an open vocabulary
// (vCard, HTML autofill) has a word for it, that is its name.
type Kind struct {
	Name  string
	About string
	// Params are the names of its parameters: ranges of counts.
	Params []string
	// Parts are the names of what agrees in one value; such a kind is drawn once and
	// its parts are used in several fields.
	Parts []KindPart

	radices []uint64                                    // of a kind with parts
	form    form                                        // countable kinds
	prose   func(s *stream, b []byte, n []Range) []byte // free text
	folds   *folds
	usual   []Range // defaults of Params
}

// Range is a count from Lo to Hi, both included.
type Range struct{ Lo, Hi uint64 }

func (r Range) draw(s *stream) uint64 { return r.Lo + s.below(r.Hi-r.Lo+1) }

// maxKindCount bounds a parameter of a kind.
const maxKindCount = 1000

// form is text of several parts; each part is one of a list or a number.
type form []formPart

// formPart is a literal (one entry), a list, or the numbers from lo up to, but
// not including, hi, padded to a width.
type formPart struct {
	list   []string
	lo, hi uint64
	width  int
	div    rng.Divisor // by size; set by prepare
}

func one(list ...string) formPart { return formPart{list: list} }

func number(lo, hi uint64, width int) formPart { return formPart{lo: lo, hi: hi, width: width} }

func (p *formPart) size() uint64 {
	if p.list != nil {
		return uint64(len(p.list))
	}
	return p.hi - p.lo
}

func (f form) size() uint64 {
	n := uint64(1)
	for i := range f {
		n *= f[i].size()
	}
	return n
}

// prepare readies a form for append.
func (f form) prepare() {
	for i := range f {
		f[i].div = rng.NewDivisor(f[i].size())
	}
}

func (f form) append(b []byte, index uint64) []byte {
	for i := range f {
		p := &f[i]
		rest, at := p.div.DivMod(index)
		index = rest
		if p.list != nil {
			b = append(b, p.list[at]...)
			continue
		}
		b = appendPadded(b, p.lo+at, p.width)
	}
	return b
}

// eachText calls do for every text that a part can be, and for digits once.
func (f form) eachText(do func(string)) {
	for i := range f {
		for _, s := range f[i].list {
			do(s)
		}
		if f[i].list == nil {
			do("0123456789")
		}
	}
}

func appendPadded(b []byte, n uint64, width int) []byte {
	var digits [20]byte
	i := len(digits)
	for n > 0 || width > 0 || i == len(digits) {
		i--
		digits[i] = '0' + byte(n%10)
		n /= 10
		width--
	}
	return append(b, digits[i:]...)
}

// Kinds returns the catalogue, in the order of its names.
func Kinds() []Kind { return slices.Clone(catalogue()) }

// catalogue is made once: it never changes.
var catalogue = sync.OnceValue(makeKinds)

func makeKinds() []Kind {
	sentence := []Range{{5, 12}}
	kinds := []Kind{
		{Name: "given-name", About: "given name of a person", form: form{one(givenNames...)}},
		{Name: "family-name", About: "family name of a person", form: form{one(familyNames...)}},
		{
			Name:  "name",
			About: "given name and family name",
			form:  form{one(givenNames...), one(" "), one(familyNames...)},
		},
		{
			Name:  "honorific-prefix",
			About: "title before a name",
			form:  form{one("Ms", "Mr", "Mx", "Dr", "Prof")},
		},
		{
			Name:  "username",
			About: "login name: letters, an underscore, a number",
			form:  form{one(plainNouns...), one("_"), one(plainNouns...), number(10, 100, 0)},
		},
		{Name: "email", About: "address at a domain reserved for examples (RFC 2606)", form: form{
			one(plainNames(givenNames)...), one("."), one(plainNames(familyNames)...), number(1, 100, 0),
			one("@example.com", "@example.net", "@example.org")}},
		{Name: "tel", About: "telephone number from a range kept for fiction", form: form{
			one("+44 1632 960", "+44 20 7946 0", "+1 555 555 0"), number(100, 200, 3)}},
		{Name: "url", About: "web address at a domain reserved for examples (RFC 2606)", form: form{
			one(
				"https://www.example.com/",
				"https://www.example.net/",
				"https://www.example.org/",
			), one(plainNouns...), one("-"), one(plainNouns...)}},
		{
			Name:  "host",
			About: "host name under a reserved domain (RFC 2606)",
			form:  form{one(plainNouns...), one("-"), number(1, 100, 2), one(".example")},
		},
		{
			Name:  "ipv4",
			About: "IPv4 address reserved for documentation (RFC 5737)",
			form:  form{one("192.0.2.", "198.51.100.", "203.0.113."), number(1, 255, 0)},
		},
		{
			Name:  "mac",
			About: "hardware address reserved for documentation (RFC 7042)",
			form:  form{one("00:00:5e:00:53:"), one(hexBytes()...)},
		},
		{
			Name:  "org",
			About: "name of a company or society",
			form: form{
				one(orgFirst...),
				one(" "),
				one(orgSecond...),
				one(" Ltd", " Company", " & Daughters", " Trust", " Cooperative", " Works"),
			},
		},
		{
			Name:  "organization-title",
			About: "job title",
			form:  form{one(jobRanks...), one(" "), one(jobTrades...)},
		},
		{
			Name:  "street-address",
			About: "house number and street",
			form: form{
				number(1, 200, 0),
				one(" "),
				one(streetFirst...),
				one(" "),
				one("Street", "Road", "Lane", "Quay", "Walk", "Rise", "Terrace"),
			},
		},
		{Name: "locality", About: "town or village, invented", form: form{one(townFirst...), one(townSecond...)}},
		{Name: "region", About: "region, invented", form: form{one(regions...)}},
		{
			Name:  "postal-code",
			About: "postal code of an invented scheme",
			form:  form{one("Q", "X", "Z"), number(10, 100, 0), one(" "), number(100, 1000, 0)},
		},
		{Name: "digits", About: "eight digits, as on a ticket or a parcel", form: form{number(0, 100_000_000, 8)}},
		{
			Name:  "serial-number",
			About: "serial number: letters and digits",
			form:  form{one(letterPairs()...), one("-"), number(0, 10_000, 4), one("-"), number(0, 10_000, 4)},
		},
		{Name: "colour", About: "name of a colour", form: form{one(colours...)}},
		{Name: "noun", About: "a plain noun", form: form{one(plainNouns...)}},
		{
			Name:  "title",
			About: "a short heading",
			form:  form{one(titleCased(adjectives)...), one(" "), one(titleCased(plainNouns)...)},
		},
		{
			Name:   "words",
			About:  "words without punctuation",
			Params: []string{"words"},
			usual:  []Range{{3, 6}},
			prose:  proseWords,
		},
		{
			Name:   "sentence",
			About:  "one sentence",
			Params: []string{"words"},
			usual:  sentence,
			prose:  proseSentence,
		},
		{
			Name:   "paragraph",
			About:  "sentences in a row",
			Params: []string{"sentences", "words"},
			usual:  []Range{{2, 5}, sentence[0]},
			prose:  proseParagraph,
		},
		{
			Name:   "html",
			About:  "paragraphs of HTML with emphasis and a list",
			Params: []string{"paragraphs", "sentences", "words"},
			usual:  []Range{{1, 3}, {2, 4}, sentence[0]},
			prose:  proseHTML,
		},
	}
	for i := range kinds {
		kinds[i].form.prepare()
	}
	kinds = append(kinds, kindsWithParts()...)
	for i := range kinds {
		kinds[i].folds = &folds{}
	}
	slices.SortFunc(kinds, func(a, b Kind) int { return strings.Compare(a.Name, b.Name) })
	return kinds
}

// folds are the numbers of values that differ under Fold, found when they are needed.
type folds struct {
	once sync.Once
	reps []uint64
}

// distinct returns the numbers of a counted kind's values that differ under Fold.
func (k *Kind) distinct() []uint64 {
	k.folds.once.Do(func() {
		seen := map[string]bool{}
		var text []byte
		for i := range k.form.size() {
			text = k.form.append(text[:0], i)
			if key := value.Fold(string(text)); !seen[key] {
				seen[key] = true
				k.folds.reps = append(k.folds.reps, i)
			}
		}
	})
	return k.folds.reps
}

// Space is the number of different values; 0 if they are not counted.
func (k *Kind) Space() uint64 {
	if k.radices != nil {
		n := uint64(1)
		for _, r := range k.radices {
			n *= r
		}
		return n
	}
	if k.form == nil {
		return 0
	}
	return k.form.size()
}

// Usual returns the range that a parameter has unless the plan says another.
func (k *Kind) Usual(param string) Range { return k.usual[slices.Index(k.Params, param)] }

// kindSource makes values of a kind.
type kindSource struct {
	kind   Kind
	params []Range
}

// countedKind is a kind whose values are numbered.
type countedKind struct {
	kindSource
	size uint64
}

// NewKind makes a source of the values of a kind. params holds the parameters
// that differ from the usual ones.
func NewKind(k Kind, params map[string]Range) (Source, error) {
	s := kindSource{kind: k, params: slices.Clone(k.usual)}
	for name, r := range params {
		i := slices.Index(k.Params, name)
		switch {
		case i < 0:
			return nil, fmt.Errorf("the kind %s has no parameter %s", k.Name, name)
		case r.Lo > r.Hi:
			return nil, fmt.Errorf("the range of %s is reversed: %d..%d", name, r.Lo, r.Hi)
		case r.Lo == 0 || r.Hi > maxKindCount:
			return nil, fmt.Errorf("%s must be between 1 and %d", name, maxKindCount)
		}
		s.params[i] = r
	}
	switch {
	case k.Parts != nil:
		return &drawnWhole{k, k.Space()}, nil
	case k.form != nil:
		return &countedKind{s, k.form.size()}, nil
	}
	return &s, nil
}

func (s *kindSource) Type() value.Type { return value.Text }
func (s *kindSource) Scale() uint8     { return 0 }
func (s *kindSource) grow(c cell, v *value.Value) {
	draws := c.stream()
	b := s.kind.prose(&draws, c.g.take(), s.params)
	c.setText(v, b)
	c.g.give(b)
}

func (s *countedKind) Space() uint64 { return s.size }
func (s *countedKind) grow(c cell, v *value.Value) {
	s.at(c, rng.Below(c.fraction(drawValue), s.size), v)
}
func (s *countedKind) at(c cell, index uint64, v *value.Value) {
	b := s.kind.form.append(c.g.take(), index)
	c.setText(v, b)
	c.g.give(b)
}

func word(s *stream) string { return proseWordList[s.below(uint64(len(proseWordList)))] }

func proseWords(s *stream, b []byte, n []Range) []byte {
	for i := range n[0].draw(s) {
		if i > 0 {
			b = append(b, ' ')
		}
		b = append(b, word(s)...)
	}
	return b
}

func proseSentence(s *stream, b []byte, n []Range) []byte {
	from := len(b)
	b = proseWords(s, b, n)
	b[from] -= 'a' - 'A' // the word list is lower-case ASCII
	return append(b, '.')
}

func proseParagraph(s *stream, b []byte, n []Range) []byte {
	for i := range n[0].draw(s) {
		if i > 0 {
			b = append(b, ' ')
		}
		b = proseSentence(s, b, n[1:])
	}
	return b
}

func proseHTML(s *stream, b []byte, n []Range) []byte {
	for range n[0].draw(s) {
		b = append(b, "<p>"...)
		b = proseParagraph(s, b, n[1:])
		b = append(b, " <strong>"...)
		b = proseSentence(s, b, n[2:])
		b = append(b, "</strong></p>"...)
	}
	b = append(b, "<ul>"...)
	for range 2 + s.below(2) {
		b = append(b, "<li>"...)
		b = proseWords(s, b, []Range{{2, 4}})
		b = append(b, "</li>"...)
	}
	return append(b, "</ul>"...)
}

func plainNames(names []string) []string {
	plain := make([]string, len(names))
	for i, n := range names {
		plain[i] = value.Slug(n)
	}
	return plain
}

func titleCased(words []string) []string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = value.TitleCase(w)
	}
	return out
}

// letterPairs are pairs of capitals without those that look like digits.
func letterPairs() []string {
	const letters = "ABCDEFGHJKLMNPQRSTUVWXYZ"
	var out []string
	for _, a := range letters {
		for _, b := range letters {
			out = append(out, string(a)+string(b))
		}
	}
	return out
}

func hexBytes() []string {
	out := make([]string, 256)
	for i := range out {
		out[i] = fmt.Sprintf("%02x", i)
	}
	return out
}

func (s *countedKind) longest() string { return string(s.kind.form.appendLongest(nil)) }
