// Package words holds the word lists of the catalogue: names, places and phrases by locale. All of
// them were written for this project. They belong to the edition: a change of a list changes rows.
//
// A file has sections. [name] begins a list whose entries stand between blanks; an underscore is a
// blank inside an entry, and two are an underscore. [name ~] is a list whose entries become rarer from
// the first to the last, [name =] one with a weight behind each entry (entry:weight). Fields of an
// entry are separated by |, and what stands behind = is the entry in Latin letters. [about] and [form]
// hold key=value pairs.
package words

import (
	"embed"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"sync"

	"evensprout/internal/value"
)

//go:embed data/*.txt
var data embed.FS

// Default is the locale of a plan that names none.
const Default = "en-US"

// general is the file of the lists that no locale has of its own.
const general = "any"

// Entry is one entry of a list.
type Entry struct {
	Text   string
	Latin  string   // in lower-case letters of ASCII, for addresses of mail and the like
	Fields []string // the first is Text
}

// List is a list of entries, with their weights.
type List struct {
	Entries []Entry
	Weights []uint64 // nil: all are as frequent
}

// Locale is the lists of one language and country.
type Locale struct {
	Name  string
	About map[string]string // country, code, dial and so on
	Forms map[string]string // how names, addresses and the like are written
	Women int               // how many entries of the list given, from the first on, are names of women

	lists map[string]*List
	rest  *Locale // where lists are that it does not have
}

// Locales are the names of all locales, in order.
func Locales() []string {
	files, err := fs.Glob(data, "data/*.txt")
	if err != nil {
		panic(err) // the pattern is wrong
	}
	var out []string
	for _, f := range files {
		if name := strings.TrimSuffix(strings.TrimPrefix(f, "data/"), ".txt"); name != general {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// read holds the locales that have been read. Each is read once, when it is first asked for.
var read = func() map[string]func() *Locale {
	out := map[string]func() *Locale{general: sync.OnceValue(func() *Locale { return parse(general, nil) })}
	for _, name := range Locales() {
		out[name] = sync.OnceValue(func() *Locale { return parse(name, out[general]()) })
	}
	return out
}()

// Find returns a locale by its name; nil if there is none.
func Find(name string) *Locale {
	if get := read[name]; get != nil && name != general {
		return get()
	}
	return nil
}

// List returns a list of the locale, or the one for all locales; nil if there is none.
func (l *Locale) List(name string) *List {
	if of := l.lists[name]; of != nil {
		return of
	}
	if l.rest != nil {
		return l.rest.List(name)
	}
	return nil
}

// Write appends a form of the locale; put appends what stands between braces.
func (l *Locale) Write(form string, b []byte, put func(name string, b []byte) []byte) []byte {
	for text := l.Forms[form]; text != ""; {
		before, rest, braced := strings.Cut(text, "{")
		b = append(b, before...)
		if !braced {
			break
		}
		var name string
		name, text, _ = strings.Cut(rest, "}")
		b = put(name, b)
	}
	return b
}

// Own reports whether the locale has a list of its own.
func (l *Locale) Own(name string) bool { return l.lists[name] != nil }

// parse reads the file of a locale. A mistake in it is one of this package.
func parse(name string, rest *Locale) *Locale {
	text, err := data.ReadFile("data/" + name + ".txt")
	if err != nil {
		panic(err)
	}
	l := &Locale{Name: name, About: map[string]string{}, Forms: map[string]string{}, lists: map[string]*List{},
		rest: rest}
	section, sign := "", ""
	for line := range strings.SplitSeq(string(text), "\n") {
		switch {
		case line == "" || strings.HasPrefix(line, "# "):
		case strings.HasPrefix(line, "["):
			section, sign, _ = strings.Cut(strings.Trim(line, "[]"), " ")
		case section == "about":
			for _, pair := range strings.Fields(line) {
				key, v, _ := strings.Cut(pair, "=")
				l.About[key] = blanks(v)
			}
		case section == "form":
			key, form, _ := strings.Cut(line, "=")
			l.Forms[key] = form
		default:
			l.lists[section] = parseList(name, section, sign, line)
		}
	}
	if f, m := l.lists["given.f"], l.lists["given.m"]; f != nil && m != nil {
		women := join(f, &List{})
		l.Women = len(women.Entries)
		l.lists["given"] = join(women, m)
	}
	if f := l.lists["family"]; f != nil {
		l.lists["family"] = join(f, &List{})
	}
	if f, m := l.lists["honorific.f"], l.lists["honorific.m"]; f != nil && m != nil {
		l.lists["honorific"] = &List{Entries: slices.Concat(f.Entries, m.Entries)}
	}
	return l
}

// blanks writes underscores as blanks, and two of them as one underscore.
func blanks(s string) string { return strings.NewReplacer("__", "_", "_", " ").Replace(s) }

// parseList reads the entries of a list.
func parseList(file, section, sign, line string) *List {
	l := &List{}
	for _, word := range strings.Fields(line) {
		e := Entry{}
		weight := uint64(0)
		if sign == "=" {
			at := strings.LastIndexByte(word, ':')
			n, err := strconv.ParseUint(word[at+1:], 10, 32)
			if at < 0 || err != nil {
				panic(fmt.Sprintf("%s [%s]: %s has no weight", file, section, word))
			}
			word, weight = word[:at], n
		}
		if strings.Contains(section, ".") || section == "family" || section == "given" {
			word, e.Latin, _ = strings.Cut(word, "=")
		}
		e.Fields = strings.Split(blanks(word), "|")
		if e.Text = e.Fields[0]; e.Latin == "" {
			e.Latin = strings.ReplaceAll(value.Slug(e.Text), "-", "")
		}
		l.Entries = append(l.Entries, e)
		switch sign {
		case "~":
			l.Weights = append(l.Weights, falling(len(l.Weights)))
		case "=":
			l.Weights = append(l.Weights, weight)
		}
	}
	return l
}

// falling is the weight of the n-th entry of a list that becomes rarer, by the law that Zipf and
// Mandelbrot found for words: about 1/(n + 12). Weights are 1 to MostFalling.
func falling(n int) uint64 { return max(1, 12*MostFalling/uint64(n+12)) }

// MostFalling is the weight of the first entry of a list that becomes rarer.
const MostFalling = 9

// join appends lists. Of entries with the same Latin letters the first stays.
func join(a, b *List) *List {
	out := &List{}
	seen := map[string]bool{}
	for _, l := range []*List{a, b} {
		for i, e := range l.Entries {
			if seen[e.Latin] {
				continue
			}
			seen[e.Latin] = true
			out.Entries, out.Weights = append(out.Entries, e), append(out.Weights, l.Weights[i])
		}
	}
	return out
}
