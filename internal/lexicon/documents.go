package lexicon

import "strings"

// documentWays are JSON documents by what a column's name says; the last is for all others.
var documentWays = []struct{ notions, source string }{
	{"tag", "{list: {of: {kind: tag}, count: 0..3}}"},
	{"settings", "{json: {theme: {choose: [light, dark]}, language: {kind: language}, notifications: {share: 70%}}}"},
	{"address", "{json: {street: {kind: street-address}, city: {kind: locality}, postal_code: {kind: postal-code}}}"},
	{"items", "{list: {of: {json: {name: {kind: product-name}, quantity: {kind: quantity}}}, count: 1..3}}"},
	{"image file url", "{list: {of: {kind: image-url}, count: 0..2}}"},
	{"log error message", "{json: {code: {kind: http-status}, message: {kind: error-message}}}"},
	{"metadata", "{json: {source: {choose: [web, app, import]}, version: {between: 1..5}}}"},
}

// Documents are the sources of JSON documents that the name of a column suggests, the best first.
func Documents(column string) []string {
	m := Of(column)
	var out []string
	for _, w := range documentWays {
		if m.Says(strings.Fields(w.notions)...) {
			out = append(out, w.source)
		}
	}
	return append(out, documentWays[len(documentWays)-1].source)
}
