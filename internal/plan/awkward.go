package plan

import (
	"bytes"
	"cmp"
	"slices"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
)

// Awkward says how many values of a field are awkward: values that column, keys and conditions allow, and that
// break weak applications.
type Awkward struct {
	Share   grow.Share
	Longest uint64 // characters of a text; 0: as long as the field's other values can be
	text    string // of the share
	place
}

// awkward reads 2%, or {share: 2%, longest: 40}; nil after adding a problem.
func (p *Plan) awkward(v *node) *Awkward {
	a := &Awkward{place: v.place}
	if !v.mapping {
		a.Share, a.text = p.share(v, "awkward"), v.text
	} else {
		p.each(v, "awkward", shape{
			"share":   func(_, n *node) { a.Share, a.text = p.share(n, "share"), n.text },
			"longest": func(_, n *node) { a.Longest, _ = p.number(n, "longest", 1, maxAwkwardText) },
		})
		if v.get("share") == nil {
			p.add(v.place, "awkward has no share").Advise("awkward: {share: 2%%, longest: 40}")
		}
	}
	if a.Share.Whole == 0 {
		return nil
	}
	return a
}

const maxAwkwardText = 100_000 // characters

// awkward mixes awkward values into fields.
func (c *compiler) awkward() {
	for _, e := range c.entities {
		if e.occasion || e.decl.Existing {
			continue
		}
		for _, f := range e.fields {
			if f.state == compiled && !f.decl.inner && !f.grow.Hidden {
				c.mixIn(e, f)
			}
		}
	}
}

// awkwardOf is what the plan says of a field's awkward values: at the field, its entity or the plan; nil if it says
// nothing.
func (c *compiler) awkwardOf(f *field) *Awkward {
	return cmp.Or(f.decl.Awkward, f.entity.decl.Awkward, c.plan.Awkward)
}

// mixIn mixes awkward values into a field, if it says so, or its entity or plan says so and it has some.
func (c *compiler) mixIn(e *entity, f *field) {
	a, own := c.awkwardOf(f), f.decl.Awkward != nil
	if a == nil {
		return
	}
	unique := f.decl.Unique || slices.ContainsFunc(e.decl.Uniques, func(u Unique) bool {
		return slices.Contains(u.Fields, f.decl.Name)
	})
	values := grow.AwkwardOf(f.grow.Source, a.Longest, own)
	switch {
	case own && unique:
		c.add(a.place, "%s is unique, so it has no awkward values", f.decl.Name).
			Advise("remove awkward: from this field, or give unique to another")
	case own && len(values) == 0:
		c.add(a.place, "%s has no awkward values: they are for texts, numbers of a range and moments", f.decl.Name).
			Advise("remove awkward: from this field")
	case !unique && len(values) > 0:
		f.grow.SetAwkward(a.Share, values)
	}
}

// WithAwkward is the plan with awkward: in its last line. The journal keeps it as if it were written there.
func (p *Plan) WithAwkward(share string) (*Plan, error) {
	if _, ok := percentage(share); !ok {
		return nil, diag.Usagef("--awkward must be a share between 0%% and 100%%, such as 2%%, got %q", share)
	}
	source := append(bytes.TrimRight(p.source, "\n"), ("\nawkward: " + share + "\n")...)
	with, err := Read(p.collector.file, source)
	if err != nil || with.Awkward == nil {
		return nil, diag.Usagef(
			"--awkward cannot be combined with a plan in one line: write awkward: %s in the plan",
			share,
		)
	}
	return with, nil
}

// MixesAwkward reports whether the plan says that some values are awkward.
func (p *Plan) MixesAwkward() bool {
	return p.Awkward != nil || slices.ContainsFunc(p.Entities, func(e *Entity) bool {
		return e.Awkward != nil || slices.ContainsFunc(e.Fields, func(f *Field) bool { return f.Awkward != nil })
	})
}
