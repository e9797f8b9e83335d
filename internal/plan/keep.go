package plan

import (
	"fmt"
	"slices"
	"strings"
)

// IsRowName reports whether a row can be called so.
func IsRowName(s string) bool { return isName(s) }

// WithGiven returns the text of the plan with one more row under given: of an entity, as YAML in
// one line, and the number of that line. All other lines stay as they are.
func (p *Plan) WithGiven(entity, name, row string) (text []byte, line int, err error) {
	lines := strings.Split(string(p.source), "\n")
	e, end := p.entityNode(entity, len(lines))
	byHand := func(why string) error {
		return fmt.Errorf("%s, so write the row there yourself: %s: %s", why, name, row)
	}
	switch {
	case e == nil:
		return nil, 0, fmt.Errorf("the plan has no entity %s", entity)
	case e.braces || len(e.pairs) == 0:
		return nil, 0, byHand(fmt.Sprintf("%s is written in braces", entity))
	}
	at := slices.IndexFunc(e.pairs, func(x pair) bool { return x.key.text == "given" })
	column := e.pairs[0].key.column - 1
	fresh := []string{strings.Repeat(" ", column+2) + name + ": " + row}
	if at < 0 {
		line = lastText(lines, end)
		fresh = slices.Insert(fresh, 0, strings.Repeat(" ", column)+"given:")
	} else {
		given := e.pairs[at].value
		switch {
		case !given.mapping || given.braces || len(given.pairs) == 0:
			return nil, 0, byHand(fmt.Sprintf("the rows under given: of %s are not on lines of their own", entity))
		case slices.ContainsFunc(given.pairs, func(x pair) bool { return x.key.text == name }):
			return nil, 0, fmt.Errorf("the plan has a row %s.%s already", entity, name)
		}
		line = lastText(lines, bound(e.pairs, at, end))
		fresh[0] = strings.Repeat(" ", given.pairs[0].key.column-1) + name + ": " + row
	}
	if line < len(lines) && strings.HasSuffix(lines[line-1], "\r") {
		for i := range fresh {
			fresh[i] += "\r"
		}
	}
	lines = slices.Insert(lines, line, fresh...)
	return []byte(strings.Join(lines, "\n")), line + len(fresh), nil
}

// entityNode finds an entity in the file, and the last line that can belong to it; nil if there is none.
func (p *Plan) entityNode(name string, end int) (*node, int) {
	entities := p.root.get("entities")
	if entities == nil || !entities.mapping {
		return nil, 0
	}
	for i, x := range p.root.pairs {
		if x.value == entities {
			end = bound(p.root.pairs, i, end)
		}
	}
	for i, x := range entities.pairs {
		if x.key.text == name {
			return x.value, bound(entities.pairs, i, end)
		}
	}
	return nil, 0
}
