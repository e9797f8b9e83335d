package grow

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// KindPart is one part of a kind whose parts agree, such as the family-name of a
// person.
type KindPart struct {
	Name  string
	alone bool                              // two values never share this part
	make  func(d []uint64, b []byte) []byte // d are the digits of the value
}

// drawnWhole is a value of a kind with parts: a number of a mixed radix, of which each
// part is a function.
type drawnWhole struct {
	kind Kind
	size uint64
}

func (s *drawnWhole) Type() value.Type { return value.Integer }
func (s *drawnWhole) Scale() uint8     { return 0 }
func (s *drawnWhole) Space() uint64    { return s.size }
func (s *drawnWhole) grow(c cell, v *value.Value) {
	s.at(c, rng.Below(c.fraction(drawValue), s.size), v)
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

func (s *partOf) Type() value.Type { return value.Text }
func (s *partOf) Scale() uint8     { return 0 }
func (s *partOf) grow(c cell, v *value.Value) {
	index := c.g.value(c.fr, s.of)
	if index.IsNull() {
		return
	}
	var digits [4]uint64
	rest := uint64(index.N)
	for i, radix := range s.kind.kind.radices {
		digits[i], rest = rest%radix, rest/radix
	}
	b := s.part.make(digits[:], c.g.take())
	c.setText(v, b)
	c.g.give(b)
}

// longest is a longest text of a part. Parts are put together of pieces that each depend
// on one digit, so each digit is looked at alone.
func (p *KindPart) longest(radices []uint64) string {
	var best [4]uint64
	for i, radix := range radices {
		most := -1
		for d := range radix {
			digits := best
			digits[i] = d
			if n := utf8.RuneCount(p.make(digits[:], nil)); n > most {
				most, best[i] = n, d
			}
		}
	}
	return string(p.make(best[:], nil))
}

// LongestPart is how many characters a part of a kind has at most; 0 if there is no such
// part.
func (k *Kind) LongestPart(part string) int {
	for i := range k.Parts {
		if k.Parts[i].Name == part {
			return utf8.RuneCountInString(k.Parts[i].longest(k.radices))
		}
	}
	return 0
}

// PartNames are the names of the parts of a kind, if it has any.
func (k *Kind) PartNames() []string {
	names := make([]string, len(k.Parts))
	for i, p := range k.Parts {
		names[i] = p.Name
	}
	return names
}

// kindsWithParts are the kinds to be drawn once and used in several fields.
func kindsWithParts() []Kind {
	prefixes := []string{"Ms", "Mr", "Mx", "Dr", "Prof"}
	domains := []string{"example.com", "example.net", "example.org"}
	plainGiven, plainFamily := plainNames(givenNames), plainNames(familyNames)
	given := func(d []uint64, b []byte) []byte { return append(b, givenNames[d[0]]...) }
	family := func(d []uint64, b []byte) []byte { return append(b, familyNames[d[1]]...) }
	login := func(d []uint64, b []byte, sign byte) []byte {
		b = append(append(b, plainGiven[d[0]]...), sign)
		return appendPadded(append(b, plainFamily[d[1]]...), d[2]+10, 0)
	}
	person := Kind{
		Name: "person", About: "a person whose names, login and address agree",
		radices: []uint64{uint64(len(givenNames)), uint64(len(familyNames)), 90},
		Parts: []KindPart{
			{"given-name", false, given},
			{"family-name", false, family},
			{"name", false, func(d []uint64, b []byte) []byte { return family(d, append(given(d, b), ' ')) }},
			{
				"honorific-prefix",
				false,
				func(d []uint64, b []byte) []byte { return append(b, prefixes[(d[0]+d[1])%5]...) },
			},
			{"username", true, func(d []uint64, b []byte) []byte { return login(d, b, '_') }},
			{"email", true, func(d []uint64, b []byte) []byte {
				return append(append(login(d, b, '.'), '@'), domains[(d[0]+d[1]+d[2])%3]...)
			}},
		},
	}

	countries := []string{"Larkland", "Fenmark", "Ternia", "Ossland"}
	towns, streets := form{
		one(townFirst...),
		one(townSecond...),
	}, form{
		one(streetFirst...),
		one(" "),
		one("Street", "Road", "Lane", "Quay", "Walk", "Rise", "Terrace"),
	}
	towns.prepare()
	streets.prepare()
	region := func(d []uint64) uint64 { return d[0] % uint64(len(regions)) }
	town := func(d []uint64, b []byte) []byte { return towns.append(b, d[0]) }
	street := func(d []uint64, b []byte) []byte {
		return streets.append(append(appendPadded(b, d[2]+1, 0), ' '), d[1])
	}

	// One letter for the country, two digits for the region, three for the town.
	postal := func(d []uint64, b []byte) []byte {
		b = append(b, "QXZV"[region(d)%4])
		b = append(appendPadded(b, region(d)+10, 2), ' ')
		return appendPadded(b, 100+d[0]/uint64(len(regions)), 3)
	}
	place := Kind{
		Name: "place", About: "an address whose street, town, region, postal code and country agree",
		radices: []uint64{towns.size(), streets.size(), 199},
		Parts: []KindPart{
			{"street-address", false, street},
			{"locality", false, town},
			{"postal-code", false, postal},
			{"region", false, func(d []uint64, b []byte) []byte { return append(b, regions[region(d)]...) }},
			{"country-name", false, func(d []uint64, b []byte) []byte { return append(b, countries[region(d)%4]...) }},
			{"address", true, func(d []uint64, b []byte) []byte {
				b = append(street(d, b), ", "...)
				return postal(d, append(town(d, b), ", "...))
			}},
		},
	}

	endings := []string{" Ltd", " Company", " & Daughters", " Trust", " Cooperative", " Works"}
	name := func(d []uint64, b []byte) []byte {
		b = append(append(b, orgFirst[d[0]]...), ' ')
		return append(append(b, orgSecond[d[1]]...), endings[d[2]]...)
	}
	host := func(d []uint64, b []byte) []byte {
		b = append(append(b, value.Slug(orgFirst[d[0]])...), '-')
		return append(append(b, value.Slug(orgSecond[d[1]]+endings[d[2]])...), ".example"...)
	}
	organization := Kind{
		Name: "organization", About: "an organisation whose name, host and addresses agree",
		radices: []uint64{uint64(len(orgFirst)), uint64(len(orgSecond)), uint64(len(endings))},
		Parts: []KindPart{
			{"org", true, name},
			{"host", true, host},
			{"url", true, func(d []uint64, b []byte) []byte { return append(host(d, append(b, "https://"...)), '/') }},
			{"email", true, func(d []uint64, b []byte) []byte { return host(d, append(b, "post@"...)) }},
		},
	}
	return []Kind{person, place, organization}
}

func (s *partOf) redrawn(*Field) []*Field { return s.of.Redrawn() }

func (s *partOf) differs(*Field) bool { return s.part.alone && s.of.Inherent() }

func (s *partOf) longest() string { return s.part.longest(s.kind.kind.radices) }
