package grow

import (
	"cmp"
	"fmt"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"

	"evensprout/internal/rng"
	"evensprout/internal/value"
	"evensprout/internal/words"
)

// KindPart is one part of a kind whose parts agree, such as the family-name of a
// person.
type KindPart struct {
	Name  string
	alone bool       // two values never share this part, in one locale
	apart bool       // nor do values of several locales
	typ   value.Type // Null means Text
	scale uint8
	make  func(r *record, d *[maxDigits]uint64, b []byte) []byte
	// widest is a longest text, of a part that a hash chooses; nil where the digits tell.
	widest func(r *record) string
}

// maxDigits bounds the digits of a record.
const maxDigits = 5

// record is a kind with parts in one locale. Its values are numbers of mixed radix: each digit is a
// choice from a list or a range, and each part is a function of the digits. An entry of a list with
// weights has as many values of its digit as its weight, so that common entries are common even where
// values are unique. The absorbing digit tells these apart.
type record struct {
	locale *words.Locale
	order  int // of the locale in its mixture
	mixed  bool
	digits []formPart
	absorb int // index of a digit
	forms  map[string]form
	lists  map[string]weightedList
	inner  *record // of another kind, which parts are taken from
}

// weightedList is a list with the running totals of its weights.
type weightedList struct {
	*words.List
	sums []uint64 // nil: all entries are as frequent
}

// pick finds an entry by a hash.
func (l weightedList) pick(hash uint64) *words.Entry {
	if l.sums == nil {
		return &l.Entries[share(hash, uint64(len(l.Entries)))]
	}
	n := share(hash, l.sums[len(l.sums)-1])
	return &l.Entries[sort.Search(len(l.sums), func(i int) bool { return l.sums[i] > n })]
}

// newRecord makes a record of digits: lists (with = in front without their weights) and ranges.
func newRecord(l *words.Locale, order int, digits ...string) *record {
	r := &record{locale: l, order: order, absorb: -1, forms: map[string]form{}, lists: map[string]weightedList{}}
	for _, d := range digits {
		name, even := strings.CutPrefix(d, "=")
		list := l.List(name)
		if list == nil {
			r.digits = append(r.digits, newPart(l, d))
			continue
		}
		p := formPart{hi: uint64(len(list.Entries)), sums: runningTotals(list.Weights)}
		if even {
			p.sums = nil
		}
		r.digits = append(r.digits, p)
		r.lists[name] = weightedList{list, p.sums}
	}
	return r
}

// with adds a form that parts of the record use, by its name.
func (r *record) with(name, text string) *record {
	r.forms[name] = newForm(r.locale, text)
	r.forms[name].prepare()
	return r
}

// list adds lists that parts of the record pick from.
func (r *record) list(names ...string) *record {
	for _, name := range names {
		of := r.locale.List(name)
		r.lists[name] = weightedList{of, runningTotals(of.Weights)}
	}
	return r
}

// size is the number of different values.
func (r *record) size() uint64 {
	n := uint64(1)
	for i := range r.digits {
		n *= r.digits[i].total()
	}
	return n
}

// split finds the digits of a value. The first is the most significant one, so that values that are
// spread evenly have an even first digit.
func (r *record) split(index uint64) (d [maxDigits]uint64) {
	serial := uint64(0) // which of the values of its entries this is
	for i := len(r.digits) - 1; i >= 0; i-- {
		p := &r.digits[i]
		n := p.total()
		at := index % n
		index /= n
		if d[i] = p.at(at); p.sums == nil {
			continue
		}
		first := uint64(0)
		if d[i] > 0 {
			first = p.sums[d[i]-1]
		}
		serial = serial*(p.sums[d[i]]-first) + at - first
	}
	if r.absorb >= 0 {
		d[r.absorb] += serial * r.digits[r.absorb].total()
	}
	return d
}

// hash is a number that belongs to some digits, and differs from purpose to purpose.
func hash(purpose uint64, digits ...uint64) uint64 {
	h := mixed(purpose + 1)
	for _, d := range digits {
		h = mixed(h ^ d*0x9e3779b97f4a7c15)
	}
	return h
}

// put appends a text of a form that a hash chooses.
func (r *record) put(b []byte, form string, hash uint64) []byte {
	return r.forms[form].draw(b, &fraction{u: hash, left: 64})
}

// entry is the chosen entry of a list.
func (r *record) entry(list string, at uint64) *words.Entry { return &r.lists[list].Entries[at] }

// drawnWhole is a value of a kind with parts.
type drawnWhole struct {
	kind  Kind
	built *builtKind
}

func (s *drawnWhole) Type() value.Type { return value.Integer }
func (s *drawnWhole) Scale() uint8     { return 0 }
func (s *drawnWhole) Space() uint64    { return s.built.size }
func (s *drawnWhole) grow(c cell, v *value.Value) {
	s.at(c, rng.Below(c.fraction(drawValue), s.built.size), v)
}
func (s *drawnWhole) at(_ cell, index uint64, v *value.Value) { *v = value.Int(int64(index)) }

// partOf is a part of a whole that another field has drawn.
type partOf struct {
	of   *Field
	kind *drawnWhole
	part KindPart
}

// PartOf makes a part of the value that an inner field of a kind with parts has.
func PartOf(of *Field, part string) (Source, error) {
	if e, ok := of.Source.(*entryOf); ok {
		return e.part(of, part)
	}
	w, ok := of.Source.(*drawnWhole)
	if !ok {
		return nil, fmt.Errorf("%s has no parts", of.Name)
	}
	for _, p := range w.kind.Parts {
		if p.Name == part {
			return &partOf{of, w, p}, nil
		}
	}
	return nil, fmt.Errorf(
		"%s has no part %s: its parts are %s",
		w.kind.Name,
		part,
		strings.Join(w.kind.PartNames(), ", "),
	)
}

func (s *partOf) Type() value.Type { return s.part.Type() }
func (s *partOf) Scale() uint8     { return s.part.scale }

// Type is the type of the part.
func (p *KindPart) Type() value.Type {
	if p.typ == value.Null {
		return value.Text
	}
	return p.typ
}

func (s *partOf) grow(c cell, v *value.Value) {
	index := c.g.value(c.fr, s.of)
	if index.IsNull() {
		return
	}
	i, n := s.kind.built.localeOf(uint64(index.N))
	r := s.kind.built.records[i]
	d := r.split(n)
	b := s.part.make(r, &d, c.g.take())
	if s.part.typ == value.Null {
		c.setText(v, b)
	} else {
		*v = parsedNumber(b, s.part.typ, s.part.scale)
	}
	c.g.give(b)
}

// longest is a longest text of a part. Each digit is looked at alone: texts are put together of pieces
// that depend on one digit each, or are chosen by a hash from pieces of similar length.
func (p *KindPart) longest(records []*record) string {
	most := ""
	for _, r := range records {
		if p.widest != nil {
			most = longestOf([]string{most, p.widest(r)})
			continue
		}
		var best [maxDigits]uint64
		for i := range r.digits {
			n := r.digits[i].size()
			if at := r.digits[i].widest; at > 0 || n > 1000 {
				best[i] = cmp.Or(at, n-1) // of a number the last is among the longest
				continue
			}
			longest := -1
			for d := range n {
				digits := best
				digits[i] = d
				if n := utf8.RuneCount(p.make(r, &digits, nil)); n > longest {
					longest, best[i] = n, d
				}
			}
		}
		most = longestOf([]string{most, string(p.make(r, &best, nil))})
	}
	return most
}

// LongestPart is how many characters a part of a kind has at most, in the default locale; 0 if there is
// no such part.
func (k *Kind) LongestPart(part string) int {
	for i := range k.Parts {
		if k.Parts[i].Name == part {
			return utf8.RuneCountInString(k.Parts[i].longest(k.in(nil, "").records))
		}
	}
	return 0
}

// Alone reports whether no two values of the kind share a part.
func (k *Kind) Alone(part string) bool {
	return slices.ContainsFunc(k.Parts, func(p KindPart) bool { return p.Name == part && p.alone })
}

// PartNames are the names of the parts of a kind, if it has any.
func (k *Kind) PartNames() []string {
	names := make([]string, len(k.Parts))
	for i, p := range k.Parts {
		names[i] = p.Name
	}
	return names
}

func (s *partOf) redrawn(*Field) []*Field { return s.of.Redrawn() }

// single reports whether a part differs wherever the whole does.
func (s *partOf) single() bool {
	return s.part.alone && (s.part.apart || len(s.kind.built.records) == 1)
}

func (s *partOf) differs(*Field) bool { return s.single() && s.of.Inherent() }

func (s *partOf) longest() string {
	if s.part.typ != value.Null {
		return ""
	}
	return s.part.longest(s.kind.built.records)
}
