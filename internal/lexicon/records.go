package lexicon

import "slices"

// Record is a kind whose values are parts of one thing, such as a person. Columns of one row that have them are drawn
// together.
type Record struct {
	Draw, Kind string            // what the shared value is called, and its kind
	Parts      map[string]string // sources, and the part that stands for each
	Needs      string            // a source without which nothing is drawn so; empty: none
	Of         string            // the notion that the table is called by; empty: any
}

// References are tables whose rows are well known: countries, currencies, languages.
func (r Record) References(table string) bool {
	m := Of(table)
	return r.Of != "" && m.Alone() && m.Says(r.Of)
}

// IsReference reports whether a table is called so that its rows are well known, and few.
func IsReference(table string) bool {
	return slices.ContainsFunc(Records(), func(r Record) bool { return r.References(table) })
}

// Records are all such kinds.
func Records() []Record {
	return []Record{
		{"nation", "country", map[string]string{
			"{kind: country-name}": "name", "{kind: country-code}": "code", "{kind: country-code3}": "code3",
			"{kind: dial-code}": "dial-code", "{kind: currency}": "currency",
			"{choose: {EUR: 50, USD: 30, GBP: 20}}": "currency",
		}, "", "country"},
		{"unit", "currency-unit", map[string]string{
			"{kind: currency-name}": "name", "{kind: currency}": "code",
		}, "", "currency"},
		{"tongue", "tongue", map[string]string{
			"{kind: language-name}": "name", "{kind: language}": "code",
		}, "", "language"},
		{"who", "person", map[string]string{
			"{kind: given-name}":       "given-name",
			"{kind: family-name}":      "family-name",
			"{kind: name}":             "name",
			"{kind: initials}":         "initials",
			"{kind: honorific-prefix}": "honorific-prefix",
			"{kind: username}":         "username",
			"{kind: email}":            "email",
			"{kind: gender}":           "sex",
		}, "", ""},
		{"site", "place", map[string]string{
			"{kind: street-address}": "street-address",
			"{kind: locality}":       "locality",
			"{kind: region}":         "region",
			"{kind: postal-code}":    "postal-code",
			"{kind: country-code}":   "country-code",
			"{kind: country-name}":   "country-name",
			"{kind: latitude}":       "latitude",
			"{kind: longitude}":      "longitude",
		}, "", ""},
		{"firm", "organization", map[string]string{
			"{kind: org}": "org", "{kind: host}": "host", "{kind: url}": "url", "{kind: email}": "email",
		}, "{kind: org}", ""},
		{"card", "card", map[string]string{
			"{kind: card-number}": "number", "{kind: card-brand}": "brand", "{kind: card-last-four}": "last-four",
		}, "", ""},
		{"item", "product", map[string]string{
			"{kind: product-name}": "name", "{kind: product-category}": "category",
			"{kind: product-description}": "description",
			"{kind: brand}":               "brand",
			"{kind: sku}":                 "sku",
			"{kind: ean}":                 "ean",
			"{kind: price}":               "price",
			"{kind: weight-kg}":           "weight-kg",
		}, "{kind: product-name}", ""},
		{"document", "file", map[string]string{
			"{kind: file-name}": "name", "{kind: media-type}": "media-type", "{kind: file-size}": "size",
			"{kind: file-extension}": "extension", "{kind: file-path}": "path",
		}, "{kind: file-name}", ""},
		{"said", "review", map[string]string{
			"{kind: rating}": "rating", "{kind: headline}": "title", "{kind: comment}": "text",
		}, "{kind: rating}", ""},
	}
}
