package draft

import (
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/predicate"
	"evensprout/internal/schema"
)

// together are kinds whose values are parts of one thing: a person, a place, an
// organisation. Columns of them in one table are drawn as such.
var together = []struct {
	draw, kind string
	parts      map[string]string // sources by kind, and the part that stands for them
}{
	{
		"who",
		"person",
		map[string]string{
			"{kind: given-name}":  "given-name",
			"{kind: family-name}": "family-name",
			"{kind: name}":        "name",
			"{kind: username}":    "username",
			"{kind: email}":       "email",
		},
	},
	{
		"site",
		"place",
		map[string]string{
			"{kind: street-address}": "street-address",
			"{kind: locality}":       "locality",
			"{kind: region}":         "region",
			"{kind: postal-code}":    "postal-code",
		},
	},
	{
		"firm",
		"organization",
		map[string]string{"{kind: org}": "org", "{kind: host}": "host", "{kind: url}": "url", "{kind: email}": "email"},
	},
}

// agree lets the fields of a row fit each other.
func (t *Table) agree() {
	for _, g := range together {
		var fields []*Field
		parts := map[string]bool{}
		for _, f := range t.Fields {
			part := g.parts[f.Source.Text]
			if part == "" || parts[part] || f.Column.Narrow || t.domains[f.Column.Name] != nil ||
				f.Column.Length > 0 && f.Column.Length < longestPart(g.kind, part) {
				continue
			}
			parts[part] = true
			fields = append(fields, f)
		}
		if len(fields) < 2 || t.find(g.draw) != nil {
			continue
		}
		fields[0].Draws = append(fields[0].Draws, Draw{g.draw, "{kind: " + g.kind + "}"})
		for _, f := range fields {
			part := g.parts[f.Source.Text]
			s := Source{Text: fmt.Sprintf("{from: %s.%s}", g.draw, part), plain: f.Source.Text}
			if g.kind == "person" && (part == "email" || part == "username") {
				s.Space = personSpace // no other person has it
			}
			f.Source = s
		}
	}
	t.order()
}

// longestPart is how many characters a part of a kind has at most.
func longestPart(kind, part string) int {
	for _, k := range grow.Kinds() {
		if k.Name == kind {
			return k.LongestPart(part)
		}
	}
	return 0
}

// personSpace is how many rows the parts of a draw keep apart that are its own alone.
const personSpace = 1_000_000

// ends are words for the lower and the upper end of something.
var ends = [][2]string{
	{"min", "max"},
	{"minimum", "maximum"},
	{"from", "to"},
	{"start", "end"},
	{"begin", "end"},
	{"lower", "upper"},
	{"low", "high"},
	{"first", "last"},
	{"fmin", "fmax"},
}

// order keeps numbers and moments that are two ends of one thing in their order.
func (t *Table) order() {
	for _, a := range t.Fields {
		for _, e := range ends {
			b := t.otherEnd(a, e)
			if b == nil || !t.varies(a) || !t.varies(b) || a.Column.Kind != b.Column.Kind {
				continue
			}
			n := &predicate.Node{
				Op: predicate.AtMost,
				Args: []*predicate.Node{
					{Op: predicate.Column, Name: a.Column.Name},
					{Op: predicate.Column, Name: b.Column.Name},
				},
			}
			t.Meets = append(t.Meets, n.String())
		}
	}
}

// otherEnd is the field that is called as another, but with the other end's word.
func (t *Table) otherEnd(a *Field, e [2]string) *Field {
	list := words(strings.ToLower(a.Column.Name))
	if len(list) == 1 && list[0] == e[0] && len(e[0]) < 4 && e[0] != "min" {
		return nil
	}
	i := slices.Index(list, e[0])
	if i < 0 {
		return nil
	}
	list = slices.Clone(list)
	list[i] = e[1]
	name := schema.Plain(strings.Join(list, ""))
	for _, f := range t.Fields {
		if schema.Plain(f.Column.Name) == name {
			return f
		}
	}
	return nil
}

// varies reports whether a field can be drawn again: it is a range of its own.
func (t *Table) varies(f *Field) bool {
	k := f.Column.Kind
	return (k == schema.Integer || k == schema.Decimal || k == schema.Real || k == schema.Date ||
		k == schema.Timestamp) &&
		f.ref == nil &&
		!t.inKey(f) &&
		!f.unsaid &&
		strings.HasPrefix(f.Source.Text, "{between")
}

// integersByName are kinds that the name of a whole number suggests, with the ranges of their values.
var integersByName = []struct {
	names, source string
	lo, hi        int64
}{
	{"httpstatus|statuscode|responsecode|httpcode", "{kind: http-status}", 200, 503},
	{"rating|stars|bewertung", "{kind: rating}", 1, 5},
	{"quantity|qty|menge|anzahl|cantidad|quantite|quantidade|quantita", "{kind: quantity}", 1, 20},
	{"stock|instock|stockquantity|bestand", "{kind: stock}", 0, 400},
	{"filesize|sizebytes|bytesize", "{kind: file-size}", 1000, 9_999_999},
	{"durationminutes|minutes", "{kind: duration-minutes}", 15, 120},
}

// integerOf is the kind that the name of a whole number suggests.
func integerOf(c *schema.Column) Source {
	least, most := typeRange(c)
	plain := schema.Plain(c.Name)
	for _, n := range integersByName {
		if n.lo < least || n.hi > most || !slices.Contains(strings.Split(n.names, "|"), plain) {
			continue
		}
		return countable(n.source, spaceOf(n.source))
	}
	return Source{}
}

// numbersByName are ranges that the name of a number suggests.
var numbersByName = []struct {
	names  string
	lo, hi int64
}{
	{"lat|latitude|breite|latitud", -90, 90}, {"lon|lng|long|longitude|laenge|longitud", -180, 180},
	{
		"age|alter|edad",
		18,
		90,
	}, {"year|jahr|annee|ano", 1990, 2026}, {"month|monat|mois|mes", 1, 12}, {"day|tag|jour|dia", 1, 28},
	{"hour|stunde|heure", 0, 23}, {"minute|second", 0, 59},
	{
		"rating|stars|rank",
		1,
		5,
	}, {"percent|percentage|prozent|pct", 0, 100}, {"quantity|qty|menge|anzahl|cantidad|quantite", 1, 20},
	{"port", 1024, 65535},
	{
		"price|amount|total|cost|fee|preis|betrag|prix|montant|precio|importe|subtotal",
		1,
		500,
	}, {"size|bytes|filesize|length", 100, 100_000}, {"width|height", 100, 2000}, {"count|number", 0, 100},
	{"dayofweek|weekday|wochentag", 1, 7}, {"salary|gehalt|salaire|salario|income", 24_000, 120_000},
	{"taxrate|vatrate|steuersatz|mwst|rate", 0, 25}, {"discount|rabatt|remise|descuento", 0, 50},
	{"heightcm|groesse", 150, 195}, {"weightkg|gewicht|poids|peso", 1, 80},
	{"position|sort|sortorder|ordering|priority|weight", 1, 100},
}

// rangeOf is the range that the name of a number suggests; false if it suggests none.
func rangeOf(name string) (lo, hi int64, ok bool) {
	plain := schema.Plain(name)
	list := words(strings.ToLower(name))
	last := ""
	if len(list) > 0 {
		last = list[len(list)-1]
	}
	for _, n := range numbersByName {
		for _, w := range strings.Split(n.names, "|") {
			if plain == w || last == w {
				return n.lo, n.hi, true
			}
		}
	}
	return 0, 0, false
}
