package grow

import (
	"cmp"
	"errors"
	"fmt"
	"math/bits"
	"slices"
	"sort"
	"strings"
	"sync"

	"evensprout/internal/value"
	"evensprout/internal/words"
)

// Kind is a named source of values in the catalogue. Where an open vocabulary
// (vCard, HTML autofill) has a word for it, that is its name.
type Kind struct {
	Name    string
	About   string
	Section string // of the catalogue
	// Params are the names of its parameters: ranges of counts.
	Params []string
	// Parts are the names of what agrees in one value; such a kind is drawn once and
	// its parts are used in several fields.
	Parts []KindPart
	// Locales reports whether its values differ from locale to locale.
	Locales bool
	// Subjects reports whether its texts can be about a subject.
	Subjects bool

	typ    value.Type // of its values; Null means Text
	scale  uint8
	text   string                                                  // the form of its texts
	finish func(b []byte, from int) []byte                         // adds check digits and the like
	prose  func(g *grammar, s *stream, b []byte, n []Range) []byte // free text
	record func(l *words.Locale, more int) *record                 // of a kind with parts
	usual  []Range                                                 // defaults of Params
	built  *builtKinds
}

// builtKinds are the texts of a kind, built once for each mixture of locales.
type builtKinds struct {
	lock sync.Mutex
	of   map[string]*builtKind
}

// builtKind is a kind in a mixture of locales.
type builtKind struct {
	forms    []form
	records  []*record
	grammars []*grammar
	sums     []uint64 // running totals of the weights of the locales
	sizes    []uint64 // how many values each locale has
	first    []uint64 // number of the first value of each locale
	size     uint64   // 0 if values are not counted

	once sync.Once
	reps []uint64 // the numbers of values that differ under Fold, found when they are needed
}

// Locale is a share of a mixture of locales.
type Locale struct {
	Name   string
	Weight uint64
}

// Locales is a mixture of locales. None means the default one.
type Locales []Locale

// key tells mixtures apart.
func (ls Locales) key() string {
	var b strings.Builder
	for _, l := range ls {
		fmt.Fprintf(&b, "%s:%d ", l.Name, l.Weight)
	}
	return b.String()
}

// Subjects are what texts can be about.
var Subjects = []string{"general", "finance", "food", "health", "property", "retail", "school", "software", "travel"}

// KindOptions say how the values of a kind are made.
type KindOptions struct {
	Params  map[string]Range // that differ from the usual ones
	Locales Locales
	Subject string // empty: general
}

// Range is a count from Lo to Hi, both included.
type Range struct{ Lo, Hi uint64 }

func (r Range) draw(s *stream) uint64 { return r.Lo + s.below(r.Hi-r.Lo+1) }

// maxKindCount bounds a parameter of a kind.
const maxKindCount = 1000

// Kinds returns the catalogue, in the order of its names.
func Kinds() []Kind { return slices.Clone(catalogue()) }

// catalogue is made once: it never changes.
var catalogue = sync.OnceValue(func() []Kind {
	kinds := slices.Concat(formKinds(), proseKinds(), recordKinds())
	for i := range kinds {
		kinds[i].built = &builtKinds{of: map[string]*builtKind{}}
	}
	slices.SortFunc(kinds, func(a, b Kind) int { return strings.Compare(a.Name, b.Name) })
	return kinds
})

// in builds the kind for a mixture of locales.
func (k *Kind) in(mix Locales, subject string) *builtKind {
	if len(mix) == 0 || !k.Locales {
		mix = Locales{{words.Default, 1}}
	}
	key := mix.key() + subject
	k.built.lock.Lock()
	defer k.built.lock.Unlock()
	if b := k.built.of[key]; b != nil {
		return b
	}
	b := k.build(mix, subject)
	k.built.of[key] = b
	return b
}

// build builds the kind for a mixture of locales.
func (k *Kind) build(mix Locales, subject string) *builtKind {
	b := &builtKind{}
	weights := make([]uint64, len(mix))
	for i, share := range mix {
		weights[i] = share.Weight
		l := words.Find(share.Name)
		switch {
		case k.record != nil:
			r := k.record(l, i)
			r.mixed = len(mix) > 1
			b.records = append(b.records, r)
		case k.prose != nil:
			b.grammars = append(b.grammars, newGrammar(l, cmp.Or(subject, Subjects[0])))
		default:
			b.forms = append(b.forms, newForm(l, cmp.Or(l.Forms[k.Name], k.text)))
		}
	}

	sum := uint64(0)
	for _, w := range weights {
		sum += w
		b.sums = append(b.sums, sum)
	}
	b.share(k, weights)
	return b
}

// share gives each locale its share of the numbered values: as many in all as the locale with the
// fewest for its weight allows.
func (b *builtKind) share(k *Kind, weights []uint64) {
	counted := k.prose == nil && tellApart(b.forms)
	for _, f := range b.forms {
		f.prepare()
		b.sizes = append(b.sizes, f.size())
	}
	for _, r := range b.records {
		b.sizes = append(b.sizes, r.size())
	}
	if !counted || slices.Contains(b.sizes, 0) {
		return
	}
	all := b.sums[len(b.sums)-1]
	unit := uint64(MaxSpace) / all // values for each unit of weight
	if len(weights) == 1 {
		all, unit, weights = 1, b.sizes[0], []uint64{1}
	}
	for i, w := range weights {
		unit = min(unit, b.sizes[i]/w)
	}
	for _, w := range weights {
		b.first = append(b.first, b.size)
		b.size += unit * w
	}
}

// locale draws a locale.
func (b *builtKind) locale(u *fraction) int {
	if len(b.sums) == 1 {
		return 0
	}
	n := u.below(b.sums[len(b.sums)-1])
	return sort.Search(len(b.sums), func(i int) bool { return b.sums[i] > n })
}

// localeOf finds the locale of a numbered value, and its number there.
func (b *builtKind) localeOf(index uint64) (int, uint64) {
	if len(b.first) == 1 {
		return 0, index
	}
	i := sort.Search(len(b.first), func(i int) bool { return b.first[i] > index }) - 1
	end := b.size
	if i+1 < len(b.first) {
		end = b.first[i+1]
	}
	// The locale has more values than it needs: those that it gives are spread over all of them.
	hi, lo := bits.Mul64(index-b.first[i], b.sizes[i])
	n, _ := bits.Div64(hi, lo, end-b.first[i])
	return i, n
}

// append appends the text with a number.
func (b *builtKind) append(k *Kind, to []byte, index uint64) []byte {
	i, n := b.localeOf(index)
	from := len(to)
	to = b.forms[i].append(to, n)
	if k.finish != nil {
		to = k.finish(to, from)
	}
	return to
}

// distinct returns the numbers of a counted kind's values that differ under Fold.
func (b *builtKind) distinct(k *Kind) []uint64 {
	b.once.Do(func() {
		seen := map[string]bool{}
		var text []byte
		for i := range b.size {
			text = b.append(k, text[:0], i)
			if key := value.Fold(string(text)); !seen[key] {
				seen[key] = true
				b.reps = append(b.reps, i)
			}
		}
	})
	return b.reps
}

// Space is the number of different values in the default locale; 0 if they are not counted.
func (k *Kind) Space() uint64 { return k.in(nil, "").size }

// Type is the type of the values of a kind without parts.
func (k *Kind) Type() value.Type {
	if k.typ == value.Null {
		return value.Text
	}
	return k.typ
}

// Usual returns the range that a parameter has unless the plan says another.
func (k *Kind) Usual(param string) Range { return k.usual[slices.Index(k.Params, param)] }

// kindSource makes values of a kind of free text.
type kindSource struct {
	kind   Kind
	built  *builtKind
	params []Range
}

// formKind makes values of a kind whose texts have a form.
type formKind struct {
	kind  Kind
	built *builtKind
}

// countedKind is such a kind whose values are numbered.
type countedKind struct{ formKind }

// NewKind makes a source of the values of a kind.
func NewKind(k Kind, o KindOptions) (Source, error) {
	params := slices.Clone(k.usual)
	for name, r := range o.Params {
		i := slices.Index(k.Params, name)
		switch {
		case i < 0:
			return nil, fmt.Errorf("the kind %s has no parameter %s", k.Name, name)
		case r.Lo > r.Hi:
			return nil, fmt.Errorf("the range of %s is reversed: %d..%d", name, r.Lo, r.Hi)
		case r.Lo == 0 || r.Hi > maxKindCount:
			return nil, fmt.Errorf("%s must be between 1 and %d", name, maxKindCount)
		}
		params[i] = r
	}
	for _, l := range o.Locales {
		if words.Find(l.Name) == nil {
			return nil, fmt.Errorf("there is no locale %s", l.Name)
		}
	}
	if o.Subject != "" && !slices.Contains(Subjects, o.Subject) {
		return nil, fmt.Errorf("there are no texts about %s: known are %s", o.Subject, strings.Join(Subjects, ", "))
	}
	if o.Subject != "" && !k.Subjects {
		return nil, errors.New("texts of the kind " + k.Name + " have no subject")
	}

	built := k.in(o.Locales, o.Subject)
	switch {
	case k.record != nil:
		return &drawnWhole{k, built}, nil
	case k.prose != nil:
		return &kindSource{k, built, params}, nil
	case built.size > 0:
		return &countedKind{formKind{k, built}}, nil
	}
	return &formKind{k, built}, nil
}

func (s *kindSource) Type() value.Type { return value.Text }
func (s *kindSource) Scale() uint8     { return 0 }
func (s *kindSource) grow(c cell, v *value.Value) {
	draws := &c.g.prose
	*draws = c.stream()
	g := s.built.grammars[0]
	if len(s.built.grammars) > 1 {
		n := draws.below(s.built.sums[len(s.built.sums)-1])
		g = s.built.grammars[sort.Search(len(s.built.sums), func(i int) bool { return s.built.sums[i] > n })]
	}
	b := s.kind.prose(g, draws, c.g.take(), s.params)
	c.setText(v, b)
	c.g.give(b)
}

func (s *formKind) Type() value.Type { return s.kind.Type() }
func (s *formKind) Scale() uint8     { return s.kind.scale }

func (s *formKind) grow(c cell, v *value.Value) {
	var draws stream
	u := fraction{u: c.fraction(drawValue), left: 64, more: func() uint64 {
		if draws.next == 0 {
			draws = c.stream()
		}
		return draws.word()
	}}
	b := s.built.forms[s.built.locale(&u)].draw(c.g.take(), &u)
	if s.kind.finish != nil {
		b = s.kind.finish(b, 0)
	}
	s.set(c, b, v)
	c.g.give(b)
}

// set makes a value of a text.
func (s *formKind) set(c cell, b []byte, v *value.Value) {
	if s.kind.typ == value.Null {
		c.setText(v, b)
		return
	}
	*v = parsedNumber(b, s.kind.typ, s.kind.scale)
}

// parsedNumber reads the digits of a number with a scale, such as -12.50.
func parsedNumber(b []byte, typ value.Type, scale uint8) value.Value {
	v := value.Value{Type: typ, Scale: scale}
	minus, digits, point := false, 0, false
	for _, c := range b {
		switch {
		case c == '-':
			minus = true
		case c == '.':
			point = true
		default:
			v.N = v.N*10 + int64(c-'0')
			if point {
				digits++
			}
		}
	}
	for ; digits < int(scale); digits++ {
		v.N *= 10
	}
	if minus {
		v.N = -v.N
	}
	return v
}

func (s *countedKind) Space() uint64 { return s.built.size }
func (s *countedKind) at(c cell, index uint64, v *value.Value) {
	b := s.built.append(&s.kind, c.g.take(), index)
	s.set(c, b, v)
	c.g.give(b)
}

// longest is a longest text of the kind. What completes a text may add more behind some beginnings
// than behind others, so each is tried.
func (s *formKind) longest() string {
	best := ""
	for _, f := range s.built.forms {
		if s.kind.finish == nil {
			best = longestOf([]string{best, string(f.appendLongest(nil))})
			continue
		}
		rest := f[1:].appendLongest(nil)
		for at := range min(f[0].size(), 100) {
			text := s.kind.finish(append(f[0].put(nil, at), rest...), 0)
			best = longestOf([]string{best, string(text)})
		}
	}
	return best
}

// eachText calls do for every text that a part of the kind can be.
func (s *formKind) eachText(do func(string)) {
	for _, f := range s.built.forms {
		f.eachText(do)
	}
	if s.kind.finish != nil {
		do("0123456789abcdefx")
	}
}

// mixed is a number in which each bit depends on all bits of n (the finaliser of MurmurHash3, public
// domain): what belongs to a value beside its digits follows from it.
func mixed(n uint64) uint64 {
	n ^= n >> 33
	n *= 0xff51afd7ed558ccd
	n ^= n >> 33
	n *= 0xc4ceb9fe1a85ec53
	return n ^ n>>33
}

// share is the part of n values that a hash chooses.
func share(hash, n uint64) uint64 {
	hi, _ := bits.Mul64(hash, n)
	return hi
}
