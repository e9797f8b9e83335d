package draft

import (
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/predicate"
	"evensprout/internal/schema"
)

// byName are sources that a column's name suggests, tried in order. Names are in the
// habits of several languages, without word signs.
var byName = []struct{ names, source string }{
	{"email|mail|emailaddress|mailaddress|correo|courriel|emailadresse", "{kind: email}"},
	{"givenname|firstname|forename|vorname|prenom|nombre", "{kind: given-name}"},
	{"familyname|lastname|surname|nachname|apellido|nomdefamille", "{kind: family-name}"},
	{
		"fullname|personname|contactname|author|owner|customer|guest|traveller|contact|captain|realname|displayname",
		"{kind: name}",
	},
	{"username|login|nickname|loginname|benutzername|utilisateur|usuario|userid|uid", "{kind: username}"},
	{"tel|phone|telephone|mobile|phonenumber|fax|telefon|telefono|handy", "{kind: tel}"},
	{
		"street|address|streetaddress|addressline1|address1|strasse|adresse|direccion|calle|rue",
		"{kind: street-address}",
	},
	{"town|city|locality|village|place|stadt|ort|ville|ciudad", "{kind: locality}"},
	{"region|county|state|province|bundesland|provincia", "{kind: region}"},
	{"postcode|postalcode|zip|zipcode|plz|codepostal|codigopostal", "{kind: postal-code}"},
	{"company|org|organisation|organization|companyname|firma|societe|empresa", "{kind: org}"},
	{"jobtitle|job|role|position|beruf", "{kind: organization-title}"},
	{"countrycode|country|countryiso|land|pays|pais", "{choose: [GB, IE, FR, DE]}"},
	{"currency|currencycode|curr|waehrung|devise|moneda", "{choose: [EUR, USD, GBP, XTS]}"},
	{"locale|language|languagecode|lang|sprache|langue|idioma", "{choose: [en, de, fr, es]}"},
	{"timezone|tz|zeitzone", "{choose: [UTC, Europe/London, Europe/Paris]}"},
	{"mimetype|contenttype|mediatype", "{choose: [text/plain, text/html, application/json, image/png]}"},
	{"slug|permalink", "{pattern: \"[a-z]{4,8}-[a-z]{4,8}\"}"},
	{"url|website|homepage|link|uri|href", "{kind: url}"},
	{"host|hostname|domain|server|fqdn", "{kind: host}"},
	{"ip|ipaddress|ipv4|ipaddr|remoteaddr|clientip", "{kind: ipv4}"},
	{"mac|macaddress|hwaddr", "{kind: mac}"},
	{"passwordhash|passwordsha256|passwordmd5|passhash", "{pattern: \"[0-9a-f]{64}\"}"},
	{"password|passwd|pass|passwort|token|secret|apikey|hash|digest|checksum", "{pattern: \"[0-9a-f]{32}\"}"},
	{"colour|color|farbe|couleur", "{kind: colour}"},
	{"status|state", "{choose: {active: 70, pending: 20, closed: 10}}"},
	{"type|kind|category|mode|class|severity", "{choose: {standard: 60, special: 30, other: 10}}"},
	{"flag|type|kind|status|state|class|level|grade|sex|gender", "{choose: [A, B, C]}"},
	{"title|name|label|subject|heading|titel|bezeichnung|titre|titulo", "{kind: title}"},
	{"html|bodyhtml|content|noticehtml", "{kind: html}"},
	{
		"body|description|text|bio|about|notes|note|comment|message|summary|" +
			"beschreibung|bemerkung|remarque|descripcion",
		"{kind: paragraph}",
	},
}

// guessed are the sources that a name suggests.
func guessed(name string) []Source {
	plain := schema.Plain(name)
	var out []Source
	add := func(text string) {
		s := Source{Text: text, Space: spaceOf(text)}
		if !slices.ContainsFunc(out, func(o Source) bool { return o.Text == text }) {
			out = append(out, s)
		}
	}
	for _, n := range byName {
		if slices.Contains(strings.Split(n.names, "|"), plain) {
			add(n.source)
		}
	}
	for _, n := range byName {
		for _, w := range strings.Split(n.names, "|") {
			if len(w) > 3 && strings.HasSuffix(plain, w) {
				add(n.source)
			}
		}
	}
	return out
}

// spaceOf is how many values a source has that a name suggests.
func spaceOf(text string) uint64 {
	if m := kindName.FindStringSubmatch(text); m != nil {
		for _, k := range grow.Kinds() {
			if k.Name == m[1] {
				return k.Space()
			}
		}
	}
	if p, ok := strings.CutPrefix(text, "{pattern: \""); ok {
		return patterned(strings.TrimSuffix(p, "\"}")).Space
	}
	if strings.HasPrefix(text, "{choose") {
		return uint64(strings.Count(text, ",") + 1)
	}
	return 0
}

// isIdentity reports whether a text column looks like the place of a UUID.
func (t *Table) isIdentity(c *schema.Column) bool {
	const uuidLength = 36
	if c.Kind != schema.Text || c.Length > 0 && c.Length != uuidLength {
		return false
	}
	plain := schema.Plain(c.Name)
	return strings.HasSuffix(plain, "uuid") || strings.HasSuffix(plain, "guid") ||
		plain == "id" && t.Schema.IsKey(c.Name)
}

// texts are sources for a text.
func (t *Table) texts(f *Field, d *domain) []Source {
	c := f.Column
	var out []Source
	shaped := len(d.Shapes) > 0 || d.Longest > 0 || d.Shortest > 0
	if shaped {
		out = append(out, shapes(c, d)...)
	}
	if t.isIdentity(c) {
		out = append(out, Source{Text: "{uuid: v4}", Space: grow.MaxSpace, Alone: true})
	}
	out = append(guessed(c.Name), out...)
	for _, kind := range []string{"{kind: title}", "{kind: noun}"} {
		out = append(out, Source{Text: kind, Space: spaceOf(kind)})
	}
	n := 8
	for _, most := range []int{c.Length, d.Longest} {
		if most > 0 {
			n = min(n, most)
		}
	}
	n = max(n, min(d.Shortest, 256))
	for _, class := range []string{"A-Z", "a-z", "0-9", "0-9a-f", "A-Z0-9"} {
		out = append(out, patterned(fmt.Sprintf("[%s]{%d}", class, n)))
	}
	return slices.DeleteFunc(out, func(s Source) bool { return s.Text == "" })
}

var classes = strings.NewReplacer(
	"[:alnum:]",
	"A-Za-z0-9",
	"[:alpha:]",
	"A-Za-z",
	"[:digit:]",
	"0-9",
	"[:lower:]",
	"a-z",
	"[:upper:]",
	"A-Z",
	"[:xdigit:]",
	"0-9a-f",
	"[:space:]",
	" ",
	"[:word:]",
	"A-Za-z0-9_",
)

// shapes makes patterns of the texts that conditions ask for.
func shapes(c *schema.Column, d *domain) []Source {
	var out []Source
	for _, n := range d.Shapes {
		if n.Op == predicate.Not || n.Args[1].Op != predicate.Literal {
			continue
		}
		p := n.Args[1].Value.S
		if n.Op == predicate.Like {
			p = likeShape(p)
		} else {
			p = classes.Replace(strings.TrimSuffix(strings.TrimPrefix(strings.TrimPrefix(p, "(?i)"), "^"), "$"))
			p = strings.NewReplacer("(?:", "(", `\A`, "", `\Z`, "", `\z`, "").Replace(p)
		}
		out = append(out, patterned(p), patterned(bounded(p)))
	}

	if d.Longest > 0 || d.Shortest > 0 {
		n := d.Longest
		switch {
		case n == 0:
			n = max(d.Shortest, min(8, max(c.Length, 8)))
		case n > 12:
			n = max(d.Shortest, min(n, 12))
		}
		if c.Length > 0 {
			n = min(n, c.Length)
		}
		if n <= 1000 {
			out = append(out, patterned(fmt.Sprintf("[a-z0-9]{%d}", n)))
		}
	}
	return slices.DeleteFunc(out, func(s Source) bool { return s.Text == "" })
}

// bounded gives repetitions without an end a short one.
func bounded(p string) string {
	var b strings.Builder
	inClass := false
	for i := 0; i < len(p); i++ {
		switch {
		case p[i] == '\\' && i+1 < len(p):
			b.WriteString(p[i : i+2])
			i++
			continue
		case p[i] == '[':
			inClass = true
		case p[i] == ']':
			inClass = false
		case !inClass && p[i] == '+':
			b.WriteString("{1,6}")
			continue
		case !inClass && p[i] == '*':
			b.WriteString("{0,4}")
			continue
		}
		b.WriteByte(p[i])
	}
	return b.String()
}

// likeShape makes a pattern of the texts that LIKE takes.
func likeShape(like string) string {
	var b strings.Builder
	for i := 0; i < len(like); i++ {
		switch c := like[i]; {
		case c == '\\' && i+1 < len(like):
			i++
			b.WriteString(quoteMeta(like[i]))
		case c == '%':
			b.WriteString("[a-z]{3}")
		case c == '_':
			b.WriteString("[a-z]")
		default:
			b.WriteString(quoteMeta(c))
		}
	}
	return b.String()
}

// quoteMeta writes a character so that a regular expression takes it literally.
func quoteMeta(c byte) string {
	if strings.IndexByte(`\.+*?()|[]{}^$`, c) >= 0 {
		return `\` + string(rune(c))
	}
	return string([]byte{c})
}

// quoteField writes the name of a field inside a source.
func quoteField(name string) string { return plan.Scalar(name) }
