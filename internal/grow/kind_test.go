package grow

import (
	"math/big"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/value"
	"evensprout/internal/words"
)

// everyLocale is a mixture of all locales.
func everyLocale() Locales {
	var out Locales
	for i, name := range words.Locales() {
		out = append(out, Locale{name, uint64(i + 1)})
	}
	return out
}

func findKind(t testing.TB, name string) Kind {
	t.Helper()
	for _, k := range Kinds() {
		if k.Name == name {
			return k
		}
	}
	t.Fatal("no kind " + name)
	return Kind{}
}

// grown are values of a source, in a field of so many rows.
func grown(t testing.TB, s Source, rows int) []value.Value {
	t.Helper()
	set := &Set{Seed: "kinds", Edition: "1"}
	e := set.NewEntity("Thing")
	e.Rows = uint64(rows)
	set.NewField(e, "x", "x").Source = s
	require.Empty(t, set.Finish())
	var b Batch
	NewGrower(set).Grow(e, Row{}, rows, &b)
	out := make([]value.Value, rows)
	for i := range out {
		out[i] = b.Row(i)[0]
	}
	return out
}

func TestTheCatalogueIsLarge(t *testing.T) {
	seen := map[string]bool{}
	for _, k := range Kinds() {
		assert.False(t, seen[k.Name], k.Name)
		seen[k.Name] = true
		assert.NotEmpty(t, k.About, k.Name)
		assert.Contains(t, Sections, k.Section, k.Name)
	}
	assert.GreaterOrEqual(t, len(seen), 120)
}

// Values with different numbers differ as folded text, in one locale and in a mixture of all.
func TestKindsAreDifferentUnderFold(t *testing.T) {
	for _, k := range Kinds() {
		for _, mix := range []Locales{nil, everyLocale()} {
			b := k.in(mix, "")
			if k.record != nil || b.size == 0 {
				continue
			}
			seen := map[string]uint64{}
			for i := uint64(0); i < b.size; i += 1 + b.size/60_000 {
				text := value.Fold(string(b.append(&k, nil, i)))
				other, ok := seen[text]
				assert.False(t, ok, "%s: %s (%d and %d)", k.Name, text, other, i)
				seen[text] = i
			}
		}
	}
}

// Parts that a value does not share with others differ, in one locale and in a mixture of all.
func TestPartsThatStandAloneDiffer(t *testing.T) {
	for _, k := range Kinds() {
		for _, mix := range []Locales{nil, everyLocale()} {
			b := k.in(mix, "")
			for _, p := range k.Parts {
				if !p.alone || mix != nil && !p.apart {
					continue
				}
				seen := map[string]uint64{}
				step := 1 + b.size/40_000
				for i := uint64(0); i < b.size; i += step {
					for _, at := range []uint64{i, i + 1} { // neighbours differ in the first digit alone
						if at >= b.size || at > i && step == 1 {
							continue
						}
						l, n := b.localeOf(at)
						d := b.records[l].split(n)
						text := value.Fold(string(p.make(b.records[l], &d, nil)))
						other, ok := seen[text]
						assert.False(t, ok && other != at, "%s.%s: %s (%d and %d)", k.Name, p.Name, text, other, at)
						seen[text] = at
					}
				}
			}
		}
	}
}

// No text is longer than the longest that the kind tells.
func TestTheLongestTextIsTheLongest(t *testing.T) {
	for _, k := range Kinds() {
		for _, mix := range []Locales{nil, everyLocale()} {
			src := must(NewKind(k, KindOptions{Locales: mix}))
			if k.record == nil {
				_, most := LongestText(src)
				for _, v := range grown(t, src, 500) {
					if most > 0 {
						assert.LessOrEqual(t, utf8.RuneCountInString(v.String()), most, "%s: %s", k.Name, v)
					}
				}
				continue
			}
			b := k.in(mix, "")
			for _, p := range k.Parts {
				if p.typ != value.Null {
					continue
				}
				most := utf8.RuneCountInString(p.longest(b.records))
				for i := range uint64(2000) {
					l, n := b.localeOf(mixed(i) % b.size)
					d := b.records[l].split(n)
					text := p.make(b.records[l], &d, nil)
					assert.LessOrEqual(t, utf8.RuneCount(text), most, "%s.%s: %s", k.Name, p.Name, text)
				}
			}
		}
	}
}

// What could reach a real person, machine, company or account comes only from ranges that are reserved
// or not assigned.
func TestKindsReachNobody(t *testing.T) {
	reserved := map[string]string{
		"email": `@(example\.(com|net|org)|[a-z0-9]+\.example)$`, "url": `^https://www\.example\.(com|net|org)/`,
		"image-url": `^https://images\.example\.(com|net|org)/`, "host": `\.example$`, "domain": `\.example$`,
		"ipv4": `^(192\.0\.2|198\.51\.100|203\.0\.113)\.\d+$`, "ipv6": `^2001:db8:`, "mac": `^00:00:5e:00:53:`,
		"iban": `^[A-Z]{2}\d\d(XXXX|0{5})`, "bic": `^[A-Z]{4}[A-Z]{2}.0`, "vat-number": `^DE0`, "account-number": `^00`,
		"ean": `^2`, "gtin-14": `^12`, "isbn": `^9799`, "vin": `^ZZZ`, "plate": `^QX `, "api-token": `^test_token_`,
		"tracking-number": `^TEST`,
		"card-number": `^(4111111111111111|4012888888881881|4222222222222220|5555555555554444|5105105105105100|` +
			`2223003122003222|378282246310005|371449635398431)$`,
		"tel": `^(\+1 \d{3}-1\d\d-|\+44 4|\+49 \d+ 0|\+33 0|\+34 2|\+55 \d\d 0|\+39 2|\+31 \d\d 0|\+48 11|\+90 1|` +
			`\+81 \d+-0|\+20 \d+ 0)`,
	}
	postal := map[string]string{
		"en-US": `^(099|909|621|771|854|213|419|269|987|817|353|929|533|682|552|742|839|589|663)\d\d$`,
		"en-GB": `^[A-Z]{1,2}\d+ \d[CIKMOV][A-Z]$`, "de": `^(05|43|62)\d{3}$`, "fr": `^(96|99)\d{3}$`,
		"es": `^(5[3-9]|[6-9]\d)\d{3}$`, "pt-BR": `^00\d{3}-\d{3}$`, "it": `^99\d{3}$`, "nl": `^\d{4} S[ADS]$`,
		"pl": `^79-\d{3}$`, "tr": `^(8[2-9]|9\d)\d{3}$`, "ja": `^000-\d{4}$`, "ar": `^99\d{3}$`,
	}
	for _, name := range words.Locales() {
		mix := Locales{{name, 1}}
		for kind, pattern := range reserved {
			re := regexp.MustCompile(pattern)
			for _, v := range grown(t, must(NewKind(findKind(t, kind), KindOptions{Locales: mix})), 400) {
				assert.Regexp(t, re, v.S, "%s %s", name, kind)
			}
		}
		for _, v := range grown(t, must(NewKind(findKind(t, "postal-code"), KindOptions{Locales: mix})), 400) {
			assert.Regexp(t, postal[name], v.S, name)
		}
	}
	mails := regexp.MustCompile(reserved["email"])
	for _, kind := range []string{"person", "organization"} {
		k := findKind(t, kind)
		b := k.in(everyLocale(), "")
		for _, p := range k.Parts {
			if p.Name != "email" && p.Name != "host" {
				continue
			}
			for i := range uint64(4000) {
				l, n := b.localeOf(mixed(i) % b.size)
				d := b.records[l].split(n)
				text := string(p.make(b.records[l], &d, nil))
				if p.Name == "email" {
					assert.Regexp(t, mails, strings.ReplaceAll(text, "-", ""))
				}
				assert.Regexp(t, `example(\.(com|net|org))?$`, text)
			}
		}
	}
}

func TestTelephoneNumbersAreMany(t *testing.T) {
	for _, name := range words.Locales() {
		k := findKind(t, "tel")
		assert.GreaterOrEqual(t, k.in(Locales{{name, 1}}, "").size, uint64(10_000_000), name)
	}
}

func TestCheckDigits(t *testing.T) {
	// Examples of the standards themselves.
	assert.Equal(t, "4006381333931", string(gtinCheck([]byte("400638133393"), 0)))
	assert.Equal(t, "DE136695976", string(vatCheck([]byte("DE13669597"), 0)))
	assert.Equal(t, "1M8GDM9AXKP042788", string(vinCheck([]byte("1M8GDM9A*KP042788"), 0)))
	assert.EqualValues(t, 1, remainder97(0, []byte("WEST12345698765432GB82")))

	for _, v := range grown(t, must(NewKind(findKind(t, "iban"), KindOptions{})), 2000) {
		var digits strings.Builder
		for _, c := range v.S[4:] + v.S[:4] {
			if c >= 'A' {
				digits.WriteString(big.NewInt(int64(c - 'A' + 10)).String())
				continue
			}
			digits.WriteRune(c)
		}
		n, ok := new(big.Int).SetString(digits.String(), 10)
		require.True(t, ok, v.S)
		assert.EqualValues(t, 1, new(big.Int).Mod(n, big.NewInt(97)).Int64(), v.S)
		want := map[string]int{"DE": 22, "GB": 22, "FR": 27, "ES": 24, "NL": 18, "PL": 28, "AT": 20, "CH": 21}
		assert.Len(t, v.S, want[v.S[:2]], v.S)
	}
	luhn := func(number string) bool {
		sum := 0
		for i := range number {
			d := int(number[len(number)-1-i] - '0')
			if i%2 == 1 {
				if d *= 2; d > 9 {
					d -= 9
				}
			}
			sum += d
		}
		return sum%10 == 0
	}
	for _, c := range testCards {
		assert.True(t, luhn(c.number), c.number)
	}
}

// A few names are common, many are rare.
func TestNamesHaveFrequencies(t *testing.T) {
	counts := map[string]int{}
	for _, v := range grown(t, kind("family-name"), 20_000) {
		counts[v.S]++
	}
	assert.Greater(t, counts["Smith"], 4*counts["Tanaka"])
	assert.Positive(t, counts["Tanaka"])
	statuses := map[int64]int{}
	for _, v := range grown(t, kind("http-status"), 10_000) {
		require.Equal(t, value.Integer, v.Type)
		statuses[v.N]++
	}
	assert.InDelta(t, 7800, statuses[200], 300)
}

// A mixture of locales has its shares, and a person stays within one.
func TestLocalesAreMixed(t *testing.T) {
	k := findKind(t, "person")
	mix := Locales{{"en-GB", 60}, {"de", 25}, {"ja", 15}}
	set := &Set{Seed: "mixed", Edition: "1"}
	e := set.NewEntity("Person")
	e.Rows = 8000
	who := set.NewField(e, "who", "who")
	who.Source, who.Inner = must(NewKind(k, KindOptions{Locales: mix})), true
	for _, part := range []string{"name", "tel", "email"} {
		set.NewField(e, part, part).Source = must(PartOf(who, part))
	}
	require.Empty(t, set.Finish())
	var b Batch
	NewGrower(set).Grow(e, Row{}, 8000, &b)
	counts := map[string]int{}
	for i := range b.Len {
		row := b.Row(i)
		name, tel := row[1].S, row[2].S
		code, _, _ := strings.Cut(tel, " ")
		counts[code]++
		assert.Equal(
			t,
			code == "+81",
			name[0] >= utf8.RuneSelf && !strings.ContainsAny(name, "äöüßşéÄÖÜ"),
			"%s %s",
			name,
			tel,
		)
	}
	assert.InDelta(t, 4800, counts["+44"], 250)
	assert.InDelta(t, 2000, counts["+49"], 250)
	assert.InDelta(t, 1200, counts["+81"], 250)
}

// Texts are sentences: they begin with a large letter, end with a point and have no braces.
func TestTextsAreSentences(t *testing.T) {
	k := findKind(t, "paragraph")
	for _, l := range words.Locales() {
		for _, v := range grown(t, must(NewKind(k, KindOptions{Locales: Locales{{l, 1}}})), 300) {
			assert.NotContains(t, v.S, "{", l)
			assert.NotContains(t, v.S, "_", l)
			assert.NotContains(t, v.S, "  ", l)
			assert.Regexp(t, `[.。]$`, v.S, l)
			if l != "ja" && l != "ar" {
				assert.Regexp(t, `^\p{Lu}`, v.S, l)
			}
		}
	}
	for _, subject := range Subjects {
		for _, v := range grown(t, must(NewKind(k, KindOptions{Subject: subject})), 300) {
			assert.Regexp(t, `^\p{Lu}[^{}_]*\.$`, v.S)
			assert.NotRegexp(t, `\b[Aa] [aeio]`, v.S)
		}
	}
	_, err := NewKind(k, KindOptions{Subject: "weather"})
	assert.ErrorContains(t, err, "no texts about weather")
	_, err = NewKind(k, KindOptions{Locales: Locales{{"xx", 1}}})
	assert.ErrorContains(t, err, "no locale xx")
}

// A review agrees with its rating.
func TestReviewsAgreeWithTheirRating(t *testing.T) {
	k := findKind(t, "review")
	b := k.in(nil, "")
	rating, text := k.Parts[0], k.Parts[2]
	for i := range b.size {
		d := b.records[0].split(i)
		stars := string(rating.make(b.records[0], &d, nil))
		list := words.Find(words.Default).List(map[string]string{"1": "bad", "2": "bad", "3": "middling", "4": "good",
			"5": "good"}[stars])
		first, _, _ := strings.Cut(string(text.make(b.records[0], &d, nil)), ".")
		found := false
		for _, e := range list.Entries {
			found = found || strings.HasPrefix(e.Text, first)
		}
		assert.True(t, found, "%s: %s", stars, first)
	}
}

func BenchmarkKinds(b *testing.B) {
	for _, k := range Kinds() {
		if k.record != nil {
			continue
		}
		b.Run(k.Name, func(b *testing.B) {
			s := &Set{Seed: "bench", Edition: "1"}
			e := s.NewEntity("Thing")
			e.Rows = 1 << 40
			s.NewField(e, "x", "x").Source = must(NewKind(k, KindOptions{}))
			require.Empty(b, s.Finish())
			g := NewGrower(s)
			var batch Batch
			b.ReportAllocs()
			for at := 0; b.Loop(); at += 1000 {
				g.Grow(e, Row{N: uint64(at)}, 1000, &batch)
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/1000, "ns/value")
		})
	}
}
