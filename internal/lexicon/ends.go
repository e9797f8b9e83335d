package lexicon

import (
	"slices"
	"strings"

	"evensprout/internal/schema"
)

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
	{"open", "close"},
	{"opens", "closes"},
	{"opening", "closing"},
	{"starts", "ends"},
	{"begins", "ends"},
	{"von", "bis"},
	{"desde", "hasta"},
	{"inizio", "fine"},
	{"inicio", "fin"},
	{"inicio", "fim"},
	{"debut", "fin"},
}

// OtherEnds are names, without signs between their words, of the upper ends of what a name is the lower end of: those
// of min_price and from_km are maxprice and tokm.
func OtherEnds(name string) []string {
	var out []string
	list := Words(strings.ToLower(name))
	for _, e := range ends {
		if len(list) == 1 && list[0] == e[0] && len(e[0]) < 4 && e[0] != "min" {
			continue
		}
		if i := slices.Index(list, e[0]); i >= 0 {
			other := slices.Clone(list)
			other[i] = e[1]
			out = append(out, schema.Plain(strings.Join(other, "")))
		}
	}
	return out
}
