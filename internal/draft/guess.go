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
	{"email|mail|emailaddress|mailaddress|correo|courriel|emailadresse|eposta|posta|poczta", "{kind: email}"},
	{"givenname|firstname|forename|fname|vorname|prenom|nombre|nome|voornaam|imie|adi", "{kind: given-name}"},
	{"familyname|lastname|surname|lname|nachname|apellido|apellidos|nomdefamille|cognome|sobrenome|achternaam|" +
		"nazwisko|soyadi", "{kind: family-name}"},
	{"initials|initialen", "{kind: initials}"},
	{"salutation|anrede|honorific|nameprefix|civilite", "{kind: honorific-prefix}"},
	{
		"fullname|personname|contactname|author|owner|customer|guest|traveller|contact|captain|realname|displayname|" +
			"cardholder|holder|recipient|sender|employee|manager|customername|custnm|username1",
		"{kind: name}",
	},
	{"username|login|nickname|loginname|benutzername|utilisateur|usuario|userid|uid|handle", "{kind: username}"},
	{"tel|phone|telephone|mobile|phonenumber|fax|telefon|telefono|handy|cell|cellphone|telefone|telefoon",
		"{kind: tel}"},
	{
		"street|address|streetaddress|addressline1|address1|addr|addr1|strasse|adresse|direccion|calle|rue|endereco|" +
			"indirizzo|via|adres|ulica",
		"{kind: street-address}",
	},
	{"housenumber|houseno|hausnummer", "{kind: house-number}"},
	{"town|city|locality|village|place|stadt|ort|ville|ciudad|cidade|citta|stad|miasto|sehir|birthplace",
		"{kind: locality}"},
	{"region|county|state|province|bundesland|provincia|estado", "{kind: region}"},
	{"postcode|postalcode|zip|zipcode|plz|codepostal|codigopostal|cep|cap|postkod", "{kind: postal-code}"},
	{"company|org|organisation|organization|companyname|firma|societe|empresa|supplier|vendor|employer|manufacturer",
		"{kind: org}"},
	{"industry|sector|branche", "{kind: industry}"},
	{"slogan|tagline|claim", "{kind: slogan}"},
	{"department|abteilung|departement|departamento", "{kind: department}"},
	{"jobtitle|job|role|position|beruf|profession|occupation", "{kind: organization-title}"},
	{"brand|make|marke|marca", "{kind: brand}"},
	{"product|productname|itemname|article|artikel|produkt|producto", "{kind: product-name}"},
	{"productcategory|department|category|kategorie|categorie|categoria", "{kind: product-category}"},
	{"material|fabric", "{kind: material}"},
	{"sku|stockno|articlenumber|articleno|partno|partnumber|artikelnummer|productcode|itemcode", "{kind: sku}"},
	{"ean|ean13|gtin|barcode|upc", "{kind: ean}"},
	{"isbn|isbn13", "{kind: isbn}"},
	{"ordernumber|orderno|bestellnummer|bookingcode", "{kind: order-number}"},
	{"invoicenumber|invoiceno|rechnungsnummer|numfacture", "{kind: invoice-number}"},
	{"trackingnumber|trackingno|trackingcode|tracking", "{kind: tracking-number}"},
	{"coupon|couponcode|promocode|vouchercode|voucher", "{kind: coupon}"},
	{"paymentmethod|paymenttype|zahlart", "{kind: payment-method}"},
	{"iban|bankaccount", "{kind: iban}"},
	{"bic|swift|swiftcode", "{kind: bic}"},
	{"vat|vatno|vatnumber|vatid|ustid|ustidnr|taxid|partitaiva|nif", "{kind: vat-number}"},
	{"cardnumber|cardno|pan|creditcard", "{kind: card-number}"},
	{"cardbrand|cardtype", "{kind: card-brand}"},
	{"lastfour|last4|cardlast4", "{kind: card-last-four}"},
	{"accountnumber|accountno|kontonummer", "{kind: account-number}"},
	{"countrycode|country|countryiso|land|pays|pais|paese|kraj|ulke|nationality", "{kind: country-code}"},
	{"countryname|country", "{kind: country-name}"},
	{"currency|currencycode|curr|waehrung|devise|moneda|moeda|valuta|waluta", "{choose: {EUR: 50, USD: 30, GBP: 20}}"},
	{"locale|languagetag", "{kind: locale}"},
	{"language|languagecode|lang|sprache|langue|idioma|lingua|taal|jezyk|dil", "{kind: language}"},
	{"timezone|tz|zeitzone", "{kind: time-zone}"},
	{"mimetype|contenttype|mediatype", "{kind: media-type}"},
	{"filename|originalname|attachment|dateiname|nomfichier", "{kind: file-name}"},
	{"filepath|path|storagepath", "{kind: file-path}"},
	{"extension|fileext|ext", "{kind: file-extension}"},
	{"slug|permalink", "{kind: slug}"},
	{"logourl|imageurl|avatarurl|photourl|pictureurl|thumbnail|avatar|logo|image|photo|picture|icon",
		"{kind: image-url}"},
	{"url|website|homepage|link|uri|href|webseite|siteweb", "{kind: url}"},
	{"host|hostname|server|fqdn", "{kind: host}"},
	{"domain|domainname", "{kind: domain}"},
	{"ip|ipaddress|ipv4|ipaddr|remoteaddr|clientip|remoteip|lastip", "{kind: ipv4}"},
	{"ipv6", "{kind: ipv6}"},
	{"mac|macaddress|hwaddr", "{kind: mac}"},
	{"useragent|agent|browseragent", "{kind: user-agent}"},
	{"browser", "{kind: browser}"},
	{"os|operatingsystem|platform", "{kind: os}"},
	{"httpmethod|requestmethod|verb", "{kind: http-method}"},
	{"version|appversion|softwareversion|release", "{kind: version}"},
	{"firmware|firmwareversion", "{kind: firmware}"},
	{"sessionid|sid|sessiontoken|session|correlationid|requestid|traceid", "{kind: session-id}"},
	{"digest|sha256|checksum|contenthash|filehash", "{kind: digest}"},
	{"commitsha|commitid|commithash|gitsha", "{kind: commit-id}"},
	{"passwordhash|passwordsha256|passwordmd5|passhash", "{pattern: \"[0-9a-f]{64}\"}"},
	{"apikey|apitoken|accesstoken|refreshtoken", "{kind: api-token}"},
	{"password|passwd|pass|passwort|token|secret|hash", "{pattern: \"[0-9a-f]{32}\"}"},
	{"serialnumber|serialno|serial|seriennummer", "{kind: serial-number}"},
	{"devicetype|device|geraet", "{kind: device-type}"},
	{"vin|chassisnumber|fahrgestellnummer", "{kind: vin}"},
	{"plate|licenseplate|licenceplate|numberplate|kennzeichen|matricula", "{kind: plate}"},
	{"fuel|fueltype", "{kind: fuel}"},
	{"hexcolour|hexcolor|colourhex|colorhex|colorcode|colourcode", "{kind: hex-colour}"},
	{"colour|color|farbe|couleur|cor|colore|kleur|kolor|renk", "{kind: colour}"},
	{"emoji|reaction", "{kind: emoji}"},
	{"unit|uom|einheit|unite|unidad", "{kind: unit}"},
	{"bloodgroup|bloodtype|blutgruppe|groupesanguin", "{kind: blood-group}"},
	{"allergy|allergies|allergie", "{kind: allergy}"},
	{"diagnosis|diagnose", "{kind: diagnosis}"},
	{"gender|geschlecht|genre|genero", "{kind: gender}"},
	{"maritalstatus|civilstatus|familienstand|estadocivil", "{kind: marital-status}"},
	{"weekday|dayofweek|wochentag", "{kind: weekday}"},
	{"openinghours|oeffnungszeiten|horaires", "{kind: opening-hours}"},
	{"loglevel|level", "{kind: log-level}"},
	{"priority|prioritaet|priorite|prioridad", "{kind: priority}"},
	{"tag|keyword|schlagwort", "{kind: tag}"},
	{"status|state", "{choose: {active: 70, pending: 20, closed: 10}}"},
	{"type|kind|mode|class|severity", "{choose: {standard: 60, special: 30, other: 10}}"},
	{"flag|type|kind|status|state|class|level|grade|sex|gender", "{choose: [A, B, C]}"},
	{"errormessage|error|lasterror", "{kind: error-message}"},
	{"subject|headline|betreff|objet|asunto", "{kind: headline}"},
	{"title|name|label|heading|titel|bezeichnung|titre|titulo|titolo|tytul|baslik", "{kind: title}"},
	{"html|bodyhtml|content|noticehtml", "{kind: html}"},
	{"markdown|bodymd|readme", "{kind: markdown}"},
	{"comment|kommentar|commentaire|comentario", "{kind: comment}"},
	{
		"body|description|text|bio|about|notes|note|message|summary|remark|remarks|" +
			"beschreibung|bemerkung|remarque|descripcion|descricao|descrizione|omschrijving|opis|aciklama",
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

// peopleTables are what tables of people are called.
var peopleTables = strings.Split("customer customers user users people person persons employee employees member "+
	"members patient patients student students guest guests passenger passengers teacher teachers author authors "+
	"contact contacts driver drivers doctor doctors client clients staff crew player players subscriber subscribers "+
	"kunde kunden benutzer mitarbeiter personen clientes empleados usuarios utilisateurs personnes utenti klanten", " ")

// namesPeople reports whether a column is the name of a person: a plain name in a table of people, or
// beside an address of mail.
func (t *Table) namesPeople(c *schema.Column) bool {
	if schema.Plain(c.Name) != "name" && schema.Plain(c.Name) != "displayname" {
		return false
	}
	if slices.Contains(peopleTables, schema.Plain(t.Schema.Name)) {
		return true
	}
	for _, other := range t.Schema.Columns {
		switch schema.Plain(other.Name) {
		case "birthday", "birthdate", "dateofbirth", "gender", "jobtitle", "username":
			return true
		}
	}
	return false
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
	if t.namesPeople(c) {
		out = append([]Source{{Text: "{kind: name}", Space: spaceOf("{kind: name}")}}, out...)
	}
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
