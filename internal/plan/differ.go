package plan

import (
	"fmt"
	"slices"
	"strings"
)

// Difference is a place at which two plans say different things.
type Difference struct {
	Path string `json:"path"` // such as entities.Passenger.fields.email
	Was  string `json:"was"`  // empty if it was not there
	Is   string `json:"is"`
}

// String writes the difference as one line.
func (d Difference) String() string {
	switch {
	case d.Was == "":
		return d.Path + " is new: " + d.Is
	case d.Is == "":
		return d.Path + " is gone; it was " + d.Was
	}
	return fmt.Sprintf("%s was %s, and is %s", d.Path, d.Was, d.Is)
}

// Differences are what a plan says otherwise than an earlier one about the rows: how
// they are written, and how many there are, does not count, nor does the order of keys.
func (p *Plan) Differences(earlier *Plan) []Difference {
	var out []Difference
	differ("", earlier.root, p.root, mute, &out)
	if use := p.root.get("use"); use == nil || use.get("only") == nil {
		return out
	}
	return slices.DeleteFunc(out, func(d Difference) bool { // what is left out now is not gone
		return d.Is == "" && strings.HasPrefix(d.Path, "entities.") && strings.Count(d.Path, ".") == 1
	})
}

// Departures are what a plan says otherwise than an earlier one about the rows, or about
// how they are written. With appended, new entities and other numbers of rows do not count:
// a later load may have added them.
func (p *Plan) Departures(earlier *Plan, appended bool) []Difference {
	var out []Difference
	differ("", earlier.root, p.root, func(path []string) bool {
		key := path[len(path)-1]
		aside := []string{"database", "ignore", "once", "units", "always", "use", "variants"}
		return len(path) == 1 && slices.Contains(aside, key) ||
			len(path) == 3 && path[0] == "entities" && (key == "label" || key == "ignore" || appended && key == "rows")
	}, &out)
	return slices.DeleteFunc(out, func(d Difference) bool {
		return appended && d.Was == "" && strings.HasPrefix(d.Path, "entities.") && strings.Count(d.Path, ".") == 1
	})
}

// mute reports whether a key says nothing about what rows hold.
func mute(path []string) bool {
	key := path[len(path)-1]
	switch len(path) {
	case 1:
		return slices.Contains(
			[]string{"database", "ignore", "commit", "on_violation", "when", "once", "clock", "units", "always", "use",
				"variants"},
			key,
		) // a clock may be given apart
	case 3:
		return path[0] == "entities" && slices.Contains([]string{"write", "on_violation", "when", "rows", "label", "ignore"}, key)
	}
	return false
}

// differ appends the differences between two nodes, the outermost that differ. mute leaves
// paths out.
func differ(path string, was, is *node, mute func(path []string) bool, out *[]Difference) {
	if was.text == is.text && was.null == is.null && was.mapping == is.mapping && was.list == is.list &&
		len(was.items) == len(is.items) {
		if was.mapping {
			for _, x := range was.pairs {
				at := strings.TrimPrefix(path+"."+x.key.text, ".")
				if mute(strings.Split(at, ".")) {
					continue
				}
				if other := is.get(x.key.text); other != nil {
					differ(at, x.value, other, mute, out)
				} else {
					*out = append(*out, Difference{Path: at, Was: x.value.brief(at)})
				}
			}
			for _, x := range is.pairs {
				at := strings.TrimPrefix(path+"."+x.key.text, ".")
				if was.get(x.key.text) == nil && !mute(strings.Split(at, ".")) {
					*out = append(*out, Difference{Path: at, Is: x.value.brief(at)})
				}
			}
			return
		}
		before := len(*out)
		for i := range was.items {
			differ(path, was.items[i], is.items[i], mute, out)
		}
		if len(*out) > before { // a list is told as a whole
			*out = append((*out)[:before], Difference{path, was.brief(path), is.brief(path)})
		}
		return
	}
	*out = append(*out, Difference{path, was.brief(path), is.brief(path)})
}

// maxBrief bounds how much of a part of a plan a message shows, in bytes.
const maxBrief = 80

// brief is a part of a plan on one line; path is where it stands.
func (n *node) brief(path string) string {
	text := n.flow()
	if strings.HasSuffix(path, ".login") {
		text = hiddenText
	}
	if len(text) > maxBrief {
		text = strings.ToValidUTF8(text[:maxBrief], "") + "..."
	}
	return text
}

// hiddenText stands for a password.
const hiddenText = "(not shown)"

// flow writes the node on one line, as YAML writes lists and mappings in brackets. Passwords of logins are left out.
func (n *node) flow() string {
	var parts []string
	switch {
	case n.mapping:
		for _, x := range n.pairs {
			text := hiddenText
			if x.key.text != "login" {
				text = x.value.flow()
			}
			parts = append(parts, x.key.text+": "+text)
		}
		return "{" + strings.Join(parts, ", ") + "}"
	case n.list:
		for _, x := range n.items {
			parts = append(parts, x.flow())
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case n.null:
		return "null"
	case n.quoted || n.text == "":
		return fmt.Sprintf("%q", n.text)
	}
	return n.text
}

// FieldSays reports whether a field says the same as one of an earlier plan did, which it was
// called there: apart from the word was.
func (p *Plan) FieldSays(earlier *Plan, entity, field, was string) bool {
	at := func(p *Plan, name string) *node {
		n := p.root
		for _, key := range []string{"entities", entity, "fields", name} {
			if n = n.get(key); n == nil {
				return nil
			}
		}
		return n
	}
	is, then := at(p, field), at(earlier, was)
	if is == nil || then == nil {
		return false
	}
	var out []Difference
	differ("", then, is, func(path []string) bool { return len(path) == 1 && path[0] == "was" }, &out)
	return len(out) == 0
}

// Was is what a field of an entity was called; empty if the plan does not have it, or it
// had no other name.
func (p *Plan) Was(entity, field string) string {
	for _, e := range p.Entities {
		for _, f := range e.Fields {
			if e.Name == entity && f.Name == field {
				return f.Was
			}
		}
	}
	return ""
}
