package plan

import (
	"slices"
	"strings"

	"evensprout/internal/diag"
)

// clockWord is what the plan's clock is called where a field's name could stand.
const clockWord = "clock"

// The words that name a source, and what else may stand beside each.
var sources = map[string][]string{
	"value":   nil,
	"count":   nil,
	"between": {"step", "digits", "shape", "hours", "weekdays", "rush", "season", "growth"},
	"before": {
		"after", "within", "shape", "digits", "step", "hours", "weekdays", "rush", "season", "growth",
	},
	"after": {
		"before", "within", "shape", "digits", "step", "hours", "weekdays", "rush", "season", "growth",
	},
	"case":     {"else"},
	"lookup":   {"else"},
	wordLogin:  {"as", "cost", "salt"},
	"choose":   {"skew"},
	"share":    nil,
	"pattern":  nil,
	"kind":     nil, // and the kind's own parameters
	"text":     nil,
	"same":     nil,
	"pick":     {"by", "distinct", "where", "one", "skew"},
	"from":     nil,
	"derive":   {"scale"},
	"tree":     nil,
	"running":  {"start"},
	"json":     nil,
	"list":     nil,
	"bytes":    nil,
	"file":     nil,
	"sum":      nil,
	"count_of": nil,
	"min_of":   nil,
	"max_of":   nil,
	"uuid":     nil,
}

// modifiers are the keys of a field beside its source.
var modifiers = []string{"nulls", "unique", "column", "was", "spread", "if", "awkward"}

// field reads how a field gets its value: a literal, or a mapping with the word of
// a source and modifiers.
func (p *Plan) field(f *Field, v *node) {
	f.args, f.node = map[string]*node{}, v
	if !v.mapping {
		if v.list {
			p.add(v.place, "the field %s is a list; a field must be a literal or a mapping", f.Name).
				Advise("pick one of several with %s: {choose: [...]}", f.Name)
			return
		}
		f.word, f.source, f.bare = "value", v, true
		return
	}

	rest := p.modify(f, v)
	for _, x := range rest {
		if _, ok := sources[x.key.text]; ok && f.word == "" {
			f.word, f.source = x.key.text, x.value
		}
	}
	if f.word == "" {
		p.noSource(f, v.place, rest)
		return
	}
	beside := sources[f.word]
	for _, x := range rest {
		name := x.key.text
		if name == f.word {
			continue
		}
		if slices.Contains(beside, name) || f.word == "kind" && !isSource(name) {
			f.args[name] = x.value
			continue
		}
		if isSource(name) {
			p.add(x.key.place, "the field %s has two sources: %s and %s", f.Name, f.word, name).
				Advise("keep one of them")
			continue
		}
		if f.word == "derive" && x.value.null {
			p.add(x.key.place, "the expression ends before %q", name).
				Advise("put an expression with a comma or a colon in quotes")
			continue
		}
		p.add(x.key.place, "%q cannot be combined with %s", name, f.word).
			Nearest(name, append(append([]string{}, beside...), modifiers...))
	}
}

// noSource adds the problem of a field with no source; rest are its keys that are no modifiers.
func (p *Plan) noSource(f *Field, at place, rest []pair) {
	for _, x := range rest {
		problem := p.add(x.key.place, "%q is not a source of values, nor a modifier", x.key.text)
		if near := diag.Nearest(x.key.text, append(keysOf(sources), modifiers...)); near != "" {
			problem.Advise("did you mean %q?", near)
		} else {
			problem.Nearest(x.key.text, keysOf(sources))
		}
	}
	if len(rest) == 0 {
		p.add(at, "the field %s has no source of values", f.Name).
			Advise("use one of: %s", strings.Join(keysOf(sources), ", "))
	}
}

// modify reads the modifiers and returns the other entries.
func (p *Plan) modify(f *Field, v *node) []pair {
	var rest []pair
	for _, x := range v.pairs {
		switch x.key.text {
		case "nulls":
			f.Nulls, f.nullsPlace = p.share(x.value, "nulls"), x.value.place
		case "unique":
			f.Unique = p.yes(x.value, "unique")
		case "column":
			p.text(x.value, "column", &f.Column)
			f.columnPlace = x.value.place
		case "was":
			p.text(x.value, "was", &f.Was)
		case "awkward":
			f.Awkward = p.awkward(x.value)
		case "if":
			f.cond = x.value
		case "spread":
			var word string
			if p.text(x.value, "spread", &word) && word != "even" && word != "free" {
				p.add(x.value.place, "%q is not a way to spread values", word).Nearest(word, []string{"even", "free"})
			}
			f.Free = word == "free"
		default:
			rest = append(rest, x)
		}
	}
	return rest
}

// isSource reports whether a word names a source of values.
func isSource(word string) bool { _, ok := sources[word]; return ok }

// Says is where a field's values come from, in a few words of the plan: kind name, pick Port, between.
func (f *Field) Says() string {
	if f.source == nil || !f.source.scalar() || f.word == wordLogin { // a password is left out
		return f.word
	}
	if f.bare {
		return f.source.text
	}
	return f.word + " " + f.source.text
}

// Text is what the plan says of a field, in one line of YAML; a password is left out.
func (f *Field) Text() string {
	if f.node == nil {
		return ""
	}
	return f.node.flow()
}
