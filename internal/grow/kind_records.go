package grow

import (
	"slices"
	"strconv"
	"strings"

	"evensprout/internal/value"
	"evensprout/internal/words"
)

// Purposes of hashes: what a value has beside its digits differs from one to another.
const (
	ofDomain = iota
	ofTitle
	ofBirthday
	ofTel
	ofGender
	ofJob
	ofLatitude
	ofLongitude
	ofIndustry
	ofSlogan
	ofPrice
	ofCategory
	ofMaterial
	ofWeight
	ofSize
	ofExpiry
	ofYear
	ofColour
	ofFuel
	ofPlate
	ofMileage
	ofText
)

type digitsOf = *[maxDigits]uint64

// domains are names that are reserved for examples (RFC 2606), so that mail to them reaches nobody.
var domains = []string{"example.com", "example.net", "example.org", "mail.example", "post.example", "home.example",
	"inbox.example", "letter.example", "cloud.example", "online.example", "box.example", "web.example"}

// recordKinds are the kinds to be drawn once and used in several fields.
func recordKinds() []Kind {
	kinds := []Kind{personKind(), placeKind(), organizationKind(), productKind(), cardKind(), vehicleKind(),
		fileKind(), moneyKind(), reviewKind(), countryKind(), currencyKind(), tongueKind()}
	return kinds
}

// piecePart is a part that one entry of a list gives.
func piecePart(name, list string, digit int) KindPart {
	return KindPart{Name: name, make: func(r *record, d digitsOf, b []byte) []byte {
		return append(b, r.entry(list, d[digit]).Text...)
	}}
}

// pickedPart is a part that a hash of the digits picks from a list.
func pickedPart(name, list string, purpose uint64, digits int) KindPart {
	return KindPart{
		Name: name,
		make: func(r *record, d digitsOf, b []byte) []byte {
			return append(b, r.lists[list].pick(hash(purpose, d[:digits]...)).Text...)
		},
		widest: func(r *record) string { return widestOf(r.lists[list].List) },
	}
}

// formPartOf is a part that a hash of the digits chooses from the texts of a form.
func formPartOf(name, form string, purpose uint64, digits int) KindPart {
	return KindPart{
		Name: name,
		make: func(r *record, d digitsOf, b []byte) []byte {
			return r.put(b, form, hash(purpose, d[:digits]...))
		},
		widest: func(r *record) string { return string(r.forms[form].appendLongest(nil)) },
	}
}

// widestOf is the longest entry of a list.
func widestOf(l *words.List) string {
	texts := make([]string, len(l.Entries))
	for i, e := range l.Entries {
		texts[i] = e.Text
	}
	return longestOf(texts)
}

// fixedPart is a part that follows from the locale alone.
func fixedPart(name, key string) KindPart {
	return KindPart{Name: name, make: func(r *record, _ digitsOf, b []byte) []byte {
		return append(b, r.locale.About[key]...)
	}}
}

// Digits of a person: given name, family name, second family name, number.
const (
	personGiven = iota
	personFamily
	personFamily2
	personNumber
	personDigits
)

// personKind is a person whose names, sex, login, mail address and birthday agree.
func personKind() Kind {
	family := func(r *record, at uint64) string { return r.entry("family", at).Text }
	given := func(r *record, d digitsOf) *words.Entry { return r.entry("given", d[personGiven]) }
	woman := func(r *record, d digitsOf) bool { return d[personGiven] < uint64(r.locale.Women) }
	name := func(r *record, d digitsOf, b []byte) []byte {
		return r.locale.Write("name", b, func(part string, b []byte) []byte {
			switch part {
			case "given":
				return append(b, given(r, d).Text...)
			case "family":
				return append(b, family(r, d[personFamily])...)
			}
			return append(b, family(r, d[personFamily2])...)
		})
	}
	login := func(r *record, d digitsOf, b []byte, sign byte) []byte {
		b = append(append(b, given(r, d).Latin...), sign)
		b = append(b, r.entry("family", d[personFamily]).Latin...)
		if r.digits[personFamily2].size() > 1 {
			b = append(b, r.entry("family", d[personFamily2]).Latin[0])
		}
		if d[personNumber] > 0 {
			b = appendPadded(b, d[personNumber], 0)
		}
		return b
	}
	return Kind{
		Name: "person", Section: sectionPeople, Locales: true,
		About: "a person whose names, sex, login, mail address and birthday agree",
		record: func(l *words.Locale, order int) *record {
			second, most := "0-0", words.MostFalling*words.MostFalling*40-1
			if strings.Contains(l.Forms["name"], "{family2}") {
				second = "=family"
			}
			r := newRecord(l, order, "given", "family", second, "0-39").
				list("honorific.f", "honorific.m", "gender").with("tel", "{tel}").
				with("job", "{|||Senior |Junior |Lead }{job.trade}")
			r.absorb, r.digits[personNumber].widest = personNumber, uint64(most)
			return r
		},
		Parts: []KindPart{
			piecePart("given-name", "given", personGiven),
			{Name: "family-name", make: func(r *record, d digitsOf, b []byte) []byte {
				b = append(b, family(r, d[personFamily])...)
				if r.digits[personFamily2].size() > 1 {
					b = append(append(b, ' '), family(r, d[personFamily2])...)
				}
				return b
			}},
			{Name: "name", make: name},
			{Name: "initials", make: func(r *record, d digitsOf, b []byte) []byte {
				b = firstRune(append(firstRune(b, given(r, d).Text), '.'), family(r, d[personFamily]))
				return append(b, '.')
			}},
			{
				Name: "honorific-prefix",
				make: func(r *record, d digitsOf, b []byte) []byte {
					list := "honorific.m"
					if woman(r, d) {
						list = "honorific.f"
					}
					return append(b, r.lists[list].pick(hash(ofTitle, d[:personDigits]...)).Text...)
				},
				widest: func(r *record) string {
					return longestOf(
						[]string{widestOf(r.lists["honorific.f"].List), widestOf(r.lists["honorific.m"].List)},
					)
				},
			},
			{Name: "sex", make: func(r *record, d digitsOf, b []byte) []byte {
				if woman(r, d) {
					return append(b, "female"...)
				}
				return append(b, "male"...)
			}},
			{Name: "username", alone: true, apart: true, make: func(r *record, d digitsOf, b []byte) []byte {
				b = login(r, d, b, '.')
				if r.order > 0 { // another locale may have the same name
					b = append(append(b, '.'), strings.ToLower(r.locale.Name)...)
				}
				return b
			}},
			{Name: "email", alone: true, apart: true, make: func(r *record, d digitsOf, b []byte) []byte {
				b = append(login(r, d, b, '.'), '@')
				if r.mixed { // another locale may have the same name
					return append(b, domains[r.order%len(domains)]...)
				}
				return append(b, domains[share(hash(ofDomain, d[:personDigits]...), 3)]...)
			}},
			{Name: "birthday", typ: value.Date, make: func(_ *record, d digitsOf, b []byte) []byte {
				h := hash(ofBirthday, d[:personDigits]...) // the sum of two: few are very old or very young
				const first, span = -10_957, 12_000        // from 1940-01-02, 33 years twice
				day := int64(first) + int64(share(h, span)) + int64(share(mixed(h), span))
				return strconv.AppendInt(b, day, 10)
			}},
			formPartOf("tel", "tel", ofTel, personDigits),
			formPartOf("organization-title", "job", ofJob, personDigits),
		},
	}
}

// firstRune appends the first letter of a text.
func firstRune(b []byte, s string) []byte {
	for _, r := range s {
		return append(b, string(r)...)
	}
	return b
}

// Digits of a place: town, street with number, rest of the postal code.
const (
	placeTown = iota
	placeStreet
	placePostal
	placeDigits
)

// placeRecord makes the record of places of a locale.
func placeRecord(l *words.Locale, order int) *record {
	r := newRecord(l, order, "town").with("street-address", "{street-address}").
		with("postal", strings.TrimPrefix(l.Forms["postal-code"], "{town.code}")).with("tel", "{tel}")
	for _, name := range []string{"street-address", "postal"} {
		f := r.forms[name]
		r.digits = append(r.digits, formPart{hi: f.size(), widest: f.longestIndex()})
	}
	// A town of weight w has w of as many parts of all streets and numbers as the heaviest one.
	r.absorb = placeStreet
	r.digits[placeStreet].hi /= words.MostFalling
	return r
}

// townField is a field of a place's town.
func townField(r *record, d digitsOf, name string) string {
	return r.entry("town", d[placeTown]).Fields[slices.Index(listFields["town"], name)]
}

func placeStreetOf(r *record, d digitsOf, b []byte) []byte {
	return r.forms["street-address"].append(b, d[placeStreet])
}

func placePostalOf(r *record, d digitsOf, b []byte) []byte {
	return r.forms["postal"].append(append(b, townField(r, d, "code")...), d[placePostal])
}

// placeAddress is the whole address, as the locale writes it.
func placeAddress(r *record, d digitsOf, b []byte) []byte {
	return r.locale.Write("address", b, func(name string, b []byte) []byte {
		switch name {
		case "street-address":
			return placeStreetOf(r, d, b)
		case "postal-code":
			return placePostalOf(r, d, b)
		case "town":
			return append(b, r.entry("town", d[placeTown]).Text...)
		}
		return append(b, townField(r, d, name)...)
	})
}

// placeKind is an address whose parts agree.
func placeKind() Kind {
	near := func(name string, purpose uint64) KindPart {
		return KindPart{Name: name, typ: value.Decimal, scale: 5, make: func(r *record, d digitsOf, b []byte) []byte {
			at := parsedNumber([]byte(townField(r, d, name)), value.Decimal, 5)
			at.N += int64(share(hash(purpose, d[:placeDigits]...), 8001)) - 4000 // within 0.04 degrees of the town
			return at.AppendText(b)
		}}
	}
	field := func(name, of string) KindPart {
		return KindPart{Name: name, make: func(r *record, d digitsOf, b []byte) []byte {
			return append(b, townField(r, d, of)...)
		}}
	}
	return Kind{
		Name: "place", Section: sectionPlaces, Locales: true,
		About:  "an address whose street, town, region, postal code, country and coordinates agree",
		record: placeRecord,
		Parts: []KindPart{
			{Name: "street-address", make: placeStreetOf},
			piecePart("locality", "town", placeTown),
			{Name: "postal-code", make: placePostalOf},
			field("region", "region"),
			fixedPart("country-name", "country"),
			fixedPart("country-code", "code"),
			fixedPart("dial-code", "dial"),
			fixedPart("currency", "currency"),
			field("time-zone", "zone"),
			near("latitude", ofLatitude),
			near("longitude", ofLongitude),
			formPartOf("tel", "tel", ofTel, placeDigits),
			{Name: "address", alone: true, apart: true, make: placeAddress},
		},
	}
}

// Digits of an organisation: name, trade, legal form.
const (
	orgFamily = iota
	orgTrade
	orgLegal
	orgDigits
)

// organizationKind is a company whose name, host and addresses agree.
func organizationKind() Kind {
	digits := map[string]int{"family": orgFamily, "trade": orgTrade, "legal": orgLegal}
	name := func(r *record, d digitsOf, b []byte) []byte {
		return r.locale.Write("org", b, func(part string, b []byte) []byte {
			return append(b, r.entry(part, d[digits[part]]).Text...)
		})
	}
	host := func(r *record, d digitsOf, b []byte) []byte {
		b = append(append(b, r.entry("family", d[orgFamily]).Latin...), '-')
		if trade := value.Slug(r.entry("trade", d[orgTrade]).Text); trade != "" {
			b = append(b, trade...)
		} else {
			b = appendPadded(append(b, 't'), d[orgTrade]+1, 0)
		}
		if d[orgLegal] > 0 {
			b = appendPadded(append(b, '-'), d[orgLegal]+1, 0)
		}
		if r.order > 0 { // another locale may have the same name
			b = append(append(b, '-'), strings.ToLower(r.locale.Name)...)
		}
		return append(b, ".example"...)
	}
	return Kind{
		Name: "organization", Section: sectionFirms, Locales: true,
		About: "a company whose name, host, mail address and line of business agree",
		record: func(l *words.Locale, order int) *record {
			r := newRecord(l, order, "=family", "=trade", "=legal").list("industry").with("tel", "{tel}").
				with("slogan", "{slogan.a} {slogan.b}")
			r.inner = placeRecord(l, order)
			return r
		},
		Parts: []KindPart{
			{Name: "org", alone: true, make: name},
			{Name: "host", alone: true, apart: true, make: host},
			{Name: "url", alone: true, apart: true, make: func(r *record, d digitsOf, b []byte) []byte {
				return append(host(r, d, append(b, "https://"...)), '/')
			}},
			{Name: "email", alone: true, apart: true, make: func(r *record, d digitsOf, b []byte) []byte {
				return host(r, d, append(b, "info@"...))
			}},
			pickedPart("industry", "industry", ofIndustry, orgDigits),
			formPartOf("slogan", "slogan", ofSlogan, orgDigits),
			formPartOf("tel", "tel", ofTel, orgDigits),
			{
				Name: "address",
				make: func(r *record, d digitsOf, b []byte) []byte {
					at := r.inner.split(share(hash(ofText, d[:orgDigits]...), r.inner.size()))
					return placeAddress(r.inner, &at, b)
				},
				widest: func(r *record) string {
					p := KindPart{make: placeAddress}
					return p.longest([]*record{r.inner})
				},
			},
			fixedPart("country-code", "code"),
		},
	}
}

// Digits of a product: adjective, thing, brand, number.
const (
	productAdjective = iota
	productThing
	productBrand
	productNumber
	productDigits
)

// productKind is a product whose name, number, price and weight agree.
func productKind() Kind {
	thing := func(r *record, d digitsOf) string { return r.entry("product.thing", d[productThing]).Text }
	name := func(r *record, d digitsOf, b []byte) []byte {
		b = append(append(b, r.entry("product.adjective", d[productAdjective]).Text...), ' ')
		return append(b, thing(r, d)...)
	}
	number := func(d digitsOf) uint64 {
		return ((d[productAdjective]*64+d[productThing])*32+d[productBrand])*1000 + d[productNumber]
	}
	// What a thing costs and weighs goes with the thing; makes differ by a third.
	about := func(purpose uint64, r *record, d digitsOf, least, span uint64) uint64 {
		h := hash(purpose, d[productThing])
		base := least + share(h, span)*share(mixed(h), 1000)/1000 // most are cheap
		return base*2/3 + share(hash(purpose, d[:productDigits]...), base*2/3+1)
	}
	return Kind{
		Name: "product", Section: sectionGoods, About: "a product whose name, brand, number, price and weight agree",
		record: func(l *words.Locale, order int) *record {
			return newRecord(l, order, "=product.adjective", "=product.thing", "=brand", "000-999").
				list("product.category", "colour", "product.material")
		},
		Parts: []KindPart{
			{Name: "name", make: name},
			piecePart("brand", "brand", productBrand),
			{Name: "sku", alone: true, make: func(r *record, d digitsOf, b []byte) []byte {
				for _, word := range strings.Fields(thing(r, d)) {
					b = append(b, word[0])
				}
				return appendPadded(append(b, '-'), number(d), 7)
			}},
			{Name: "ean", alone: true, make: func(_ *record, d digitsOf, b []byte) []byte {
				from := len(b)
				return gtinCheck(appendPadded(append(b, '2'), number(d), 11), from)
			}},
			{
				Name: "category",
				make: func(r *record, d digitsOf, b []byte) []byte {
					return append(b, r.lists["product.category"].pick(hash(ofCategory, d[productThing])).Text...)
				},
				widest: func(r *record) string { return widestOf(r.lists["product.category"].List) },
			},
			pickedPart("material", "product.material", ofMaterial, productDigits),
			pickedPart("colour", "colour", ofColour, productDigits),
			{Name: "description", make: func(r *record, d digitsOf, b []byte) []byte {
				b = append(name(r, d, b), " by "...)
				b = append(append(b, r.entry("brand", d[productBrand]).Text...), ", made of "...)
				b = append(
					b,
					strings.ToLower(r.lists["product.material"].pick(hash(ofMaterial, d[:productDigits]...)).Text)...)
				return append(b, '.')
			}, widest: func(r *record) string {
				return widestOf(
					r.lists["product.adjective"].List,
				) + " " + widestOf(
					r.lists["product.thing"].List,
				) + " by " +
					widestOf(
						r.lists["brand"].List,
					) + ", made of " + widestOf(
					r.lists["product.material"].List,
				) + "."
			}},
			{Name: "price", typ: value.Decimal, scale: 2, make: func(r *record, d digitsOf, b []byte) []byte {
				return append(appendPadded(b, about(ofPrice, r, d, 4, 220), 0),
					[]string{".99", ".99", ".99", ".95", ".50", ".00"}[share(hash(ofPrice, d[productNumber]), 6)]...)
			}},
			{Name: "weight-kg", typ: value.Decimal, scale: 2, make: func(r *record, d digitsOf, b []byte) []byte {
				return value.AppendDecimal(b, int64(about(ofWeight, r, d, 10, 700)), 2)
			}},
			{Name: "width-cm", typ: value.Integer, make: func(r *record, d digitsOf, b []byte) []byte {
				return appendPadded(b, about(ofSize, r, d, 8, 90), 0)
			}},
			{Name: "height-cm", typ: value.Integer, make: func(r *record, d digitsOf, b []byte) []byte {
				return appendPadded(b, about(ofSize+100, r, d, 5, 80), 0)
			}},
		},
	}
}

// testCards are card numbers that are known to be for tests, with their brands.
var testCards = []struct{ number, brand string }{
	{"4111111111111111", "Visa"}, {"4012888888881881", "Visa"}, {"4222222222222220", "Visa"},
	{"5555555555554444", "Mastercard"}, {"5105105105105100", "Mastercard"}, {"2223003122003222", "Mastercard"},
	{"378282246310005", "American Express"}, {"371449635398431", "American Express"},
}

// cardKind is a payment card of tests.
func cardKind() Kind {
	return Kind{
		Name: "card", Section: sectionMoney, About: "a payment card for tests, with its holder and its expiry",
		record: func(l *words.Locale, order int) *record {
			return newRecord(l, order, "0-7", "=given", "=family", "0-83")
		},
		Locales: true,
		Parts: []KindPart{
			{Name: "number", make: func(_ *record, d digitsOf, b []byte) []byte {
				return append(b, testCards[d[0]].number...)
			}},
			{Name: "brand", make: func(_ *record, d digitsOf, b []byte) []byte {
				return append(b, testCards[d[0]].brand...)
			}},
			{Name: "last-four", make: func(_ *record, d digitsOf, b []byte) []byte {
				n := testCards[d[0]].number
				return append(b, n[len(n)-4:]...)
			}},
			{Name: "holder", make: func(r *record, d digitsOf, b []byte) []byte {
				name := r.entry("given", d[1]).Latin + " " + r.entry("family", d[2]).Latin
				return append(b, strings.ToUpper(name)...)
			}},
			{Name: "expiry", make: func(_ *record, d digitsOf, b []byte) []byte {
				return appendPadded(append(appendPadded(b, d[3]%12+1, 2), '/'), 27+d[3]/12, 2)
			}},
		},
	}
}

// vehicleKind is a vehicle of an invented make.
func vehicleKind() Kind {
	return Kind{
		Name: "vehicle", Section: sectionMachines,
		About: "a vehicle of an invented make, whose model, body, year and fuel agree",
		record: func(l *words.Locale, order int) *record {
			return newRecord(l, order, "vehicle", "0-9", "0-999999").list("fuel", "colour").
				with("plate", "QX {000-999} {letter}{letter}")
		},
		Parts: []KindPart{
			piecePart("make", "vehicle", 0),
			{Name: "model", make: func(r *record, d digitsOf, b []byte) []byte {
				return append(b, r.entry("vehicle", d[0]).Fields[1]...)
			}},
			{Name: "body", make: func(r *record, d digitsOf, b []byte) []byte {
				return append(b, r.entry("vehicle", d[0]).Fields[2]...)
			}},
			{Name: "year", typ: value.Integer, make: func(_ *record, d digitsOf, b []byte) []byte {
				return appendPadded(b, 2016+d[1], 0)
			}},
			pickedPart("fuel", "fuel", ofFuel, 2),
			pickedPart("colour", "colour", ofColour, 3),
			formPartOf("plate", "plate", ofPlate, 3),
			{Name: "mileage-km", typ: value.Integer, make: func(_ *record, d digitsOf, b []byte) []byte {
				return appendPadded(b, (10-d[1])*(6000+share(hash(ofMileage, d[:3]...), 14_000)), 0)
			}},
			{Name: "vin", alone: true, make: func(_ *record, d digitsOf, b []byte) []byte {
				const letters, years = "ABCDEFGHJKLMNPRSTUVWXYZ", "GHJKLMNPRS" // the code of the model year
				from := len(b)
				b = append(b, "ZZZ"...)
				b = append(b, letters[d[0]%23], "1234567"[d[0]/23], "AB1"[d[1]%3], '2', '1', '*', years[d[1]], 'A')
				return vinCheck(appendPadded(b, d[2], 6), from)
			}},
		},
	}
}

// fileKind is a file whose name, media type and size agree.
func fileKind() Kind {
	extension := func(r *record, d digitsOf) string { return r.entry("media", d[0]).Fields[1] }
	name := func(r *record, d digitsOf, b []byte) []byte {
		b = append(append(b, r.entry("file.stem", d[1]).Text...), '-')
		b = append(append(b, r.entry("noun", d[2]).Text...), '-')
		return append(append(appendPadded(b, d[3], 3), '.'), extension(r, d)...)
	}
	return Kind{
		Name: "file", Section: sectionInternet, About: "a file whose name, media type and size agree",
		record: func(l *words.Locale, order int) *record {
			return newRecord(l, order, "media", "file.stem", "noun", "000-999")
		},
		Parts: []KindPart{
			{Name: "name", alone: true, make: name},
			piecePart("media-type", "media", 0),
			{
				Name: "extension",
				make: func(r *record, d digitsOf, b []byte) []byte { return append(b, extension(r, d)...) },
			},
			{Name: "path", alone: true, make: func(r *record, d digitsOf, b []byte) []byte {
				return name(r, d, append(b, "/uploads/"...))
			}},
			{Name: "size", typ: value.Integer, make: func(r *record, d digitsOf, b []byte) []byte {
				h := hash(ofSize, d[:4]...)
				most := uint64(400_000)
				switch kind, _, _ := strings.Cut(r.entry("media", d[0]).Text, "/"); kind {
				case "text":
					most = 40_000
				case "video":
					most = 80_000_000
				case "audio", "image":
					most = 6_000_000
				}
				return appendPadded(b, 200+share(h, most)*share(mixed(h), 1000)/1000, 0)
			}},
			{Name: "digest", alone: true, make: func(_ *record, d digitsOf, b []byte) []byte {
				from := len(b)
				b = appendHexDigits(b, ((d[0]*64+d[1])*512+d[2])*1000+d[3], 12)
				return hexTo(64)(b, from)
			}},
		},
	}
}

// moneyKind is an amount in a currency, whole where the currency has no decimals.
func moneyKind() Kind {
	return Kind{
		Name: "money", Section: sectionMoney, About: "an amount with its currency, whole where it has no decimals",
		record: func(l *words.Locale, order int) *record {
			return newRecord(l, order, "currency", "100-99999")
		},
		Parts: []KindPart{
			{Name: "amount", typ: value.Decimal, scale: 2, make: func(r *record, d digitsOf, b []byte) []byte {
				cents := 100 + d[1]
				if r.entry("currency", d[0]).Fields[2] == "0" {
					return appendPadded(b, cents, 0)
				}
				return value.AppendDecimal(b, int64(cents), 2)
			}},
			piecePart("currency", "currency", 0),
			{Name: "currency-name", make: func(r *record, d digitsOf, b []byte) []byte {
				return append(b, r.entry("currency", d[0]).Fields[1]...)
			}},
			{Name: "digits", typ: value.Integer, make: func(r *record, d digitsOf, b []byte) []byte {
				return append(b, r.entry("currency", d[0]).Fields[2]...)
			}},
		},
	}
}

// listedPart is a part that a field of a list's entry gives. Entries differ in it if it is alone.
func listedPart(name, list string, field int, alone bool) KindPart {
	return KindPart{Name: name, alone: alone, apart: alone, make: func(r *record, d digitsOf, b []byte) []byte {
		return append(b, r.entry(list, d[0]).Fields[field]...)
	}}
}

// countryKind is a country with its codes.
func countryKind() Kind {
	return Kind{
		Name: "country", Section: sectionPlaces, About: "a country whose name, codes, currency and dialling code agree",
		record: func(l *words.Locale, order int) *record { return newRecord(l, order, "=country") },
		Parts: []KindPart{
			listedPart("name", "country", 0, true), listedPart("code", "country", 1, true),
			listedPart("code3", "country", 2, true), listedPart("currency", "country", 3, false),
			listedPart("dial-code", "country", 4, false),
		},
	}
}

// currencyKind is a currency with its code.
func currencyKind() Kind {
	return Kind{
		Name: "currency-unit", Section: sectionMoney, About: "a currency whose code, name and number of decimals agree",
		record: func(l *words.Locale, order int) *record { return newRecord(l, order, "=currency") },
		Parts: []KindPart{
			listedPart("code", "currency", 0, true), listedPart("name", "currency", 1, true),
			{Name: "digits", typ: value.Integer, make: listedPart("", "currency", 2, false).make},
		},
	}
}

// tongueKind is a language with its code.
func tongueKind() Kind {
	return Kind{
		Name: "tongue", Section: sectionPeople, About: "a language whose name and code (ISO 639) agree",
		record: func(l *words.Locale, order int) *record { return newRecord(l, order, "=tongue") },
		Parts:  []KindPart{listedPart("name", "tongue", 0, true), listedPart("code", "tongue", 1, true)},
	}
}

// reviewKind is a review whose text agrees with its rating.
func reviewKind() Kind {
	words5 := []string{"bad", "bad", "middling", "good", "good"}
	pick := func(r *record, d digitsOf, nth uint64) string {
		list := r.lists[words5[d[0]]]
		n := uint64(len(list.Entries))
		return list.Entries[(d[1]+nth*(1+d[2]))%n].Text
	}
	widest := func(r *record) string {
		return longestOf([]string{widestOf(r.lists["bad"].List), widestOf(r.lists["middling"].List),
			widestOf(r.lists["good"].List)})
	}
	return Kind{
		Name: "review", Section: sectionTexts, About: "a review whose title and text agree with its rating",
		record: func(l *words.Locale, order int) *record {
			r := newRecord(l, order, "0-4", "0-839", "0-3").list("good", "middling", "bad")
			r.digits[0].sums = []uint64{8, 14, 27, 55, 100} // most are good
			return r
		},
		Parts: []KindPart{
			{Name: "rating", typ: value.Integer, make: func(_ *record, d digitsOf, b []byte) []byte {
				return appendPadded(b, d[0]+1, 0)
			}},
			{Name: "title", make: func(r *record, d digitsOf, b []byte) []byte {
				return append(b, pick(r, d, 0)...)
			}, widest: widest},
			{Name: "text", make: func(r *record, d digitsOf, b []byte) []byte {
				b = append(append(b, pick(r, d, 1)...), ". "...)
				return append(append(b, pick(r, d, 2)...), '.')
			}, widest: func(r *record) string { return widest(r) + ". " + widest(r) + "." }},
		},
	}
}
