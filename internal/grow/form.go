package grow

import (
	"fmt"
	"math/bits"
	"slices"
	"sort"
	"strconv"
	"strings"
	"unicode/utf8"

	"evensprout/internal/rng"
	"evensprout/internal/value"
	"evensprout/internal/words"
)

// form is text of several parts; each part is one of a list or a number. Its texts are numbered: the
// parts are the digits of a number of mixed radix.
type form []formPart

// formPart is a literal (one entry), a list, or the numbers from lo up to, but not including, hi,
// padded to a width.
type formPart struct {
	list   []string
	sums   []uint64 // running totals of the weights; nil: all entries are as frequent
	apart  []int    // entries that no earlier locale has; nil: all
	name   string   // of the list
	lo, hi uint64
	width  int
	hex    bool
	div    rng.Divisor // by size; set by prepare
	widest uint64      // of a number that stands for a form: that of a longest text
}

// size is the number of values that are told apart.
func (p *formPart) size() uint64 {
	switch {
	case p.apart != nil:
		return uint64(len(p.apart))
	case p.list != nil:
		return uint64(len(p.list))
	}
	return p.hi - p.lo
}

// total is the sum of the weights.
func (p *formPart) total() uint64 {
	switch {
	case p.sums != nil:
		return p.sums[len(p.sums)-1]
	case p.list != nil:
		return uint64(len(p.list))
	}
	return p.hi - p.lo
}

// at is the n-th value, weights included.
func (p *formPart) at(n uint64) uint64 {
	if p.sums == nil {
		return n
	}
	return uint64(sort.Search(len(p.sums), func(i int) bool { return p.sums[i] > n }))
}

// put appends a value.
func (p *formPart) put(b []byte, at uint64) []byte {
	switch {
	case p.list != nil:
		return append(b, p.list[at]...)
	case p.hex:
		return appendHexDigits(b, p.lo+at, p.width)
	}
	return appendPadded(b, p.lo+at, p.width)
}

// size is the number of texts; 0 if there are more than MaxSpace.
func (f form) size() uint64 {
	n := uint64(1)
	for i := range f {
		hi, lo := bits.Mul64(n, f[i].size())
		if hi > 0 || lo > MaxSpace {
			return 0
		}
		n = lo
	}
	return n
}

// prepare readies a form for append.
func (f form) prepare() {
	for i := range f {
		f[i].div = rng.NewDivisor(f[i].size())
	}
}

// append appends the text with a number.
func (f form) append(b []byte, index uint64) []byte {
	for i := range f {
		p := &f[i]
		rest, at := p.div.DivMod(index)
		index = rest
		if p.apart != nil {
			at = uint64(p.apart[at])
		}
		b = p.put(b, at)
	}
	return b
}

// fraction is a random number below 1, in units of 2^-64, from which several choices are drawn: each
// takes what it needs and leaves the rest, as arithmetic coding does. So the first choices of rows
// whose fractions are spread evenly are spread evenly, too.
type fraction struct {
	u    uint64
	left int // bits that are still random
	more func() uint64
}

// below draws a number below n.
func (f *fraction) below(n uint64) uint64 {
	need := bits.Len64(n)
	if f.left -= need; f.left < spareBits && f.more != nil {
		f.u, f.left = f.more(), 64-need
	}
	hi, lo := bits.Mul64(f.u, n)
	f.u = lo
	return hi
}

// spareBits is how many random bits must be left after a choice, so that all of its values are about
// as frequent: to one part in 2^16.
const spareBits = 16

// draw appends a text, by the weights of its parts.
func (f form) draw(b []byte, u *fraction) []byte {
	for i := range f {
		p := &f[i]
		if len(p.list) == 1 {
			b = append(b, p.list[0]...)
			continue
		}
		b = p.put(b, p.at(u.below(p.total())))
	}
	return b
}

// appendLongest appends a longest text.
func (f form) appendLongest(b []byte) []byte {
	for i := range f {
		p := &f[i]
		if p.list == nil {
			b = p.put(b, p.hi-1-p.lo)
			continue
		}
		b = append(b, longestOf(p.list)...)
	}
	return b
}

// longestIndex is the number of a longest text.
func (f form) longestIndex() uint64 {
	index, unit := uint64(0), uint64(1)
	for i := range f {
		p := &f[i]
		at := p.size() - 1
		if p.list != nil {
			at = uint64(slices.Index(p.list, longestOf(p.list)))
		}
		index += unit * at
		unit *= p.size()
	}
	return index
}

// eachText calls do for every text that a part can be, and for digits once.
func (f form) eachText(do func(string)) {
	for i := range f {
		for _, s := range f[i].list {
			do(s)
		}
		if f[i].list == nil {
			do("0123456789abcdef")
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

func appendHexDigits(b []byte, n uint64, width int) []byte {
	const digits = "0123456789abcdef"
	for i := width - 1; i >= 0; i-- {
		b = append(b, digits[n>>(4*i)&15])
	}
	return b
}

// newForm reads a form. Between braces stand a list or a form of the locale (family, town.code,
// family/latin), the choices themselves (a|b), a range of numbers (1-99, or 00-99 for as many
// digits), or hexadecimal digits (hex:4). A mistake in a form is one of this package.
func newForm(l *words.Locale, text string) form {
	var out form
	for text != "" {
		before, rest, braced := strings.Cut(text, "{")
		if before != "" {
			out = append(out, formPart{list: []string{before}})
		}
		if !braced {
			break
		}
		inner, after, _ := strings.Cut(rest, "}")
		text = after
		if of, ok := l.Forms[inner]; ok {
			out = append(out, newForm(l, of)...)
			continue
		}
		out = append(out, newPart(l, inner))
	}
	return out
}

// newPart reads what stands between braces.
func newPart(l *words.Locale, text string) formPart {
	if strings.Contains(text, "|") {
		return choicePart(text)
	}
	if n, ok := strings.CutPrefix(text, "hex:"); ok {
		width, err := strconv.Atoi(n)
		if err != nil {
			panic(err)
		}
		return formPart{hi: 1 << (4 * width), width: width, hex: true}
	}
	if p, ok := rangePart(text); ok {
		return p
	}
	return listPart(l, text)
}

// rangePart reads a range of numbers.
func rangePart(text string) (formPart, bool) {
	lo, hi, ok := strings.Cut(text, "-")
	a, err1 := strconv.ParseUint(lo, 10, 63)
	b, err2 := strconv.ParseUint(hi, 10, 63)
	if !ok || err1 != nil || err2 != nil {
		return formPart{}, false
	}
	width := 0
	if strings.HasPrefix(lo, "0") {
		width = len(lo)
	}
	return formPart{lo: a, hi: b + 1, width: width}, true
}

// choicePart reads choices, all as frequent: texts, and ranges of numbers. A text that stands there
// several times is as often chosen.
func choicePart(text string) formPart {
	p := formPart{name: text}
	const weight = 1 << 20
	where := map[string]int{}
	var weights []uint64
	add := func(text string, w uint64) {
		at, ok := where[text]
		if !ok {
			at, where[text] = len(p.list), len(p.list)
			p.list, weights = append(p.list, text), append(weights, 0)
		}
		weights[at] += w
	}
	for choice := range strings.SplitSeq(text, "|") {
		r, ok := rangePart(choice)
		if !ok {
			add(choice, weight)
			continue
		}
		for n := r.lo; n < r.hi; n++ {
			add(string(appendPadded(nil, n, r.width)), weight/(r.hi-r.lo))
		}
	}
	if slices.ContainsFunc(weights, func(w uint64) bool { return w != weight }) {
		p.sums = runningTotals(weights)
	}
	return p
}

// listFields are the fields of lists whose entries have several.
var listFields = map[string][]string{
	"town":     {"", "region", "latitude", "longitude", "zone", "code"},
	"country":  {"", "code", "code3", "currency", "dial"},
	"currency": {"", "name", "digits"},
	"media":    {"", "extension"},
	"vehicle":  {"", "model", "body"},
}

// listPart is a part that takes its texts from a list.
func listPart(l *words.Locale, text string) formPart {
	name, filter, _ := strings.Cut(text, "/")
	list, field := l.List(strings.TrimRight(name, "23")), 0
	if list == nil && name == "region" {
		name = "town.region"
	}
	if list == nil {
		at := strings.LastIndexByte(name, '.')
		field = slices.Index(listFields[name[:max(at, 0)]], name[at+1:])
		if list = l.List(name[:max(at, 0)]); list == nil || field < 0 {
			panic(fmt.Sprintf("%s has no list %s", l.Name, name))
		}
	}

	p := formPart{name: name}
	where := map[string]int{}
	var weights []uint64
	for i, e := range list.Entries {
		entry, weight := filtered(e, field, filter), uint64(1)
		if list.Weights != nil {
			weight = list.Weights[i]
		}
		if at, ok := where[entry]; ok { // several towns have the same region
			weights[at] += weight
			continue
		}
		where[entry] = len(p.list)
		p.list, weights = append(p.list, entry), append(weights, weight)
	}
	p.sums = runningTotals(weights)
	return p
}

// runningTotals are the sums of weights so far; nil if all are 1.
func runningTotals(weights []uint64) []uint64 {
	if !slices.ContainsFunc(weights, func(w uint64) bool { return w != 1 }) {
		return nil
	}
	var sums []uint64
	sum := uint64(0)
	for _, w := range weights {
		sum += w
		sums = append(sums, sum)
	}
	return sums
}

// filtered is a field of an entry, as a filter changes it.
func filtered(e words.Entry, field int, filter string) string {
	text := e.Fields[field]
	switch filter {
	case "latin":
		return e.Latin
	case "cap", "low":
		return firstLetter(text, filter == "cap")
	case "title":
		return value.TitleCase(text)
	case "lower":
		return strings.ToLower(text)
	case "slug":
		return value.Slug(text)
	}
	return text
}

// firstLetter writes the first letter large or small.
func firstLetter(s string, large bool) string {
	_, n := utf8.DecodeRuneInString(s)
	if large {
		return strings.ToUpper(s[:n]) + s[n:]
	}
	return strings.ToLower(s[:n]) + s[n:]
}

// keyLists are the lists by which texts of several locales are told apart, the best first.
var keyLists = []string{"family", "family/latin", "given", "town", "street", "trade"}

// tellApart lets no two forms have the same text: entries of one list that an earlier form has are
// left out of the later ones. It reports whether that can be done.
func tellApart(forms []form) bool {
	if len(forms) == 1 {
		return true
	}
	for _, key := range keyLists {
		at := make([]int, len(forms))
		for i, f := range forms {
			at[i] = slices.IndexFunc(f, func(p formPart) bool { return p.name == key })
		}
		if slices.Contains(at, -1) {
			continue
		}
		seen := map[string]bool{}
		for i, f := range forms {
			p := &f[at[i]]
			var apart []int
			for j, text := range p.list {
				if fold := value.Fold(text); !seen[fold] {
					apart = append(apart, j)
					seen[fold] = true
				}
			}
			if len(apart) == 0 {
				return false
			}
			if len(apart) < len(p.list) {
				p.apart = apart
			}
		}
		return true
	}
	return false
}
