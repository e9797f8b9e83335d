package plan

import (
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/words"
)

// locales reads a locale, or a mixture: {en-GB: 60, de: 40}.
func (p *Plan) locales(v *node) grow.Locales {
	if v.scalar() {
		var name string
		if !p.text(v, "locale", &name) || !p.knownLocale(v, name) {
			return nil
		}
		return grow.Locales{{Name: name, Weight: 1}}
	}
	if !v.mapping || len(v.pairs) == 0 {
		p.add(v.place, "locale must be a locale, or a mapping of locales to weights, got %s", v.what()).
			Advise("locale: de, or locale: {en-GB: 60, de: 40}")
		return nil
	}
	var out grow.Locales
	total := uint64(0)
	for _, x := range v.pairs {
		w := *x.value
		w.text = strings.TrimSuffix(w.text, "%")
		n, ok := p.number(&w, "the weight of "+x.key.text, 0, grow.MaxWeight/maxLocales)
		if !p.knownLocale(x.key, x.key.text) || !ok {
			return nil
		}
		if n > 0 {
			out = append(out, grow.Locale{Name: x.key.text, Weight: n})
		}
		total += n
	}
	if total == 0 {
		p.add(v.place, "all weights of locale are 0")
	}
	return out
}

// maxLocales bounds how many locales there are, so that their weights can be added up.
const maxLocales = 256

// knownLocale reports whether there is a locale, and adds a problem if there is none.
func (p *Plan) knownLocale(at *node, name string) bool {
	if words.Find(name) != nil {
		return true
	}
	p.add(at.place, "there is no locale %s", name).Nearest(name, words.Locales())
	return false
}

// locales are those of a field: its own, its entity's, or the plan's.
func (c *compiler) locales(f *field) grow.Locales {
	if n := f.decl.args["locale"]; n != nil {
		return c.plan.locales(n)
	}
	if of := f.entity.decl.Locales; of != nil {
		return of
	}
	return c.plan.Locales
}
