package plan

import (
	"slices"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// Profile is a group of rows of an entity: a share of them, in which some fields get their values otherwise.
type Profile struct {
	Name   string
	Share  uint64
	Fields []*Field
	Per    []*Per // how many rows there are below each row of this sort; Parent is the child's name
	place
}

// profileField is what a profile says of a field.
type profileField struct {
	profile string
	decl    *Field
}

// profileName is the name of the inner field that holds a row's profile.
const profileName = "profile"

const profilesHint = "profiles: {regular: {share: 70}, lapsed: {share: 30, fields: {status: dormant}}}"

// profiles reads the groups of rows of an entity.
func (p *Plan) profiles(e *Entity, v *node) {
	if !v.mapping || len(v.pairs) == 0 {
		p.add(v.place, "profiles must be a mapping of names, got %s", v.what()).Advise(profilesHint)
		return
	}
	for _, x := range v.pairs {
		o := &Profile{Name: x.key.text, place: x.key.place}
		if !isName(o.Name) {
			p.add(o.place, "%q is not a valid name for a profile", o.Name).
				Advise("use a letter, then letters, digits and _")
		}
		p.each(x.value, "a profile", shape{
			"share": func(_, n *node) {
				w := *n
				w.text = strings.TrimSuffix(w.text, "%")
				o.Share, _ = p.number(&w, "the share of "+o.Name, 0, rng.MaxDealWeight)
			},
			"fields": func(_, n *node) { p.profileFields(o, n) },
			"per":    func(_, n *node) { p.profilePer(o, n) },
		})
		if x.value.mapping && x.value.get("share") == nil {
			p.add(o.place, "the profile %s has no share", o.Name).Advise(profilesHint)
		}
		e.Profiles = append(e.Profiles, o)
	}
}

// profileFields reads what a profile says of fields.
func (p *Plan) profileFields(o *Profile, v *node) {
	if !v.mapping {
		p.add(v.place, "fields must be a mapping of field names, got %s", v.what())
		return
	}
	for _, x := range v.pairs {
		f := &Field{Name: x.key.text, place: x.key.place, inner: true}
		if !IsFieldName(f.Name) {
			p.add(f.place, "%q is not a valid name for a field", f.Name)
		}
		p.field(f, x.value)
		for word, said := range map[string]bool{"unique": f.Unique, "column": f.Column != "", "was": f.Was != "",
			"awkward": f.Awkward != nil} {
			if said {
				p.add(f.place, "%s holds for all profiles", word).
					Advise("write it at %s in the entity's fields", f.Name)
			}
		}
		o.Fields = append(o.Fields, f)
	}
}

// profilePer reads how many rows there are below the rows of a profile.
func (p *Plan) profilePer(o *Profile, v *node) {
	if !v.mapping {
		p.add(v.place, "per of a profile must name the rows below, got %s", v.what()).Advise("per: {Booking: 0..1}")
		return
	}
	for _, x := range v.pairs {
		per := &Per{Parent: x.key.text, place: x.key.place}
		p.perParent(per, x.value)
		o.Per = append(o.Per, per)
	}
}

// cast gives the rows of an entity their profiles.
func (c *compiler) cast(e *entity) {
	if len(e.decl.Profiles) == 0 {
		return
	}
	e.profile = c.newField(e, &Field{Name: profileName, place: e.decl.Profiles[0].place, inner: true})
	var names []string
	var weights []uint64
	for _, o := range e.decl.Profiles {
		names, weights = append(names, o.Name), append(weights, o.Share)
		for _, per := range o.Per {
			if child := c.named(e.decl.Schema, per.Parent); child == nil || child.parent != e {
				c.add(per.place, "%s is not planned per %s", per.Parent, e.decl.Name).
					Nearest(per.Parent, c.childrenOf(e))
			}
		}
	}
	profiles, err := grow.NewProfiles(e.profile.grow, names, weights)
	if err != nil {
		c.add(e.decl.Profiles[0].place, "profiles of %s: %s", e.decl.Name, err)
		e.profile.state = failed
		return
	}
	e.profile.state, e.grow.Profiles = compiled, profiles
}

// childrenOf are the names of the entities that are planned per an entity.
func (c *compiler) childrenOf(e *entity) []string {
	var names []string
	for _, child := range c.entities {
		if child.parent == e {
			names = append(names, child.decl.Bare())
		}
	}
	return names
}

// profilePerOf is what a profile says of an entity's rows below; nil if it says nothing.
func (o *Profile) profilePerOf(child string) *Per {
	for _, per := range o.Per {
		if per.Parent == bare(child) {
			return per
		}
	}
	return nil
}

// dealByProfile is how many rows of a child each profile has; nil if no profile says anything of it.
func (e *entity) dealByProfile(child *entity) [][]rng.DealGroup {
	if e.grow.Profiles == nil {
		return nil
	}
	var groups [][]rng.DealGroup
	said := false
	for _, o := range e.decl.Profiles {
		per := o.profilePerOf(child.decl.Name)
		said = said || per != nil
		if per == nil {
			per = child.decl.Per
		}
		list := per.Groups
		if list == nil {
			list = []rng.DealGroup{{Lo: per.Lo, Hi: per.Hi, Weight: 1}}
		}
		groups = append(groups, list)
	}
	if !said {
		return nil
	}
	return groups
}

// children is how many rows one row of the parent has, from the least to the most.
func (e *entity) children() (least, most uint64) {
	if e.decl.Per == nil {
		return 0, 0
	}
	if e.parent == nil || len(e.parent.decl.Profiles) == 0 {
		return e.decl.Per.Lo, e.decl.Per.Hi
	}
	least = rng.MaxChildren
	for _, o := range e.parent.decl.Profiles {
		per := o.profilePerOf(e.decl.Name)
		if per == nil {
			per = e.decl.Per
		}
		least, most = min(least, per.Lo), max(most, per.Hi)
	}
	return least, most
}

// mostChildren is how many rows one row of the parent has at most.
func (e *entity) mostChildren() uint64 {
	_, most := e.children()
	return most
}

// The word of a field that only profiles mention.
const wordProfiled = "profile"

// profileFields collects what profiles say of the fields, and makes those that only profiles mention: they are
// NULL in all other rows.
func (c *compiler) profileFields(e *entity) {
	e.overrides = map[string][]*profileField{}
	for _, o := range e.decl.Profiles {
		for _, d := range o.Fields {
			f := e.byName[d.Name]
			switch {
			case f == nil:
				c.newField(e, &Field{Name: d.Name, word: wordProfiled, place: d.place})
			case f.decl.inner || f == e.up || f.decl.word == wordStored:
				c.add(d.place, "%s cannot differ by profile", d.Name).Advise("let a field of its own differ")
				continue
			case f.decl.Unique || slices.ContainsFunc(e.decl.Uniques, func(u Unique) bool {
				return slices.Contains(u.Fields, d.Name)
			}):
				c.add(d.place, "%s is unique, so it cannot differ by profile", d.Name).
					Advise("remove it from the profile: its values differ from row to row anyway")
				continue
			}
			e.overrides[d.Name] = append(e.overrides[d.Name], &profileField{o.Name, d})
		}
	}
}

// givenProfile checks the profile of a row that is written in the plan.
func (c *compiler) givenProfile(e *entity, n *node) {
	var names []string
	for _, o := range e.decl.Profiles {
		names = append(names, o.Name)
	}
	if !n.scalar() || !slices.Contains(names, n.text) {
		c.add(n.place, "%s has no profile %s", e.decl.Name, n.what()).Nearest(n.text, names)
	}
}

// profiled makes the source of a field that differs by profile.
func (c *compiler) profiled(f *field, list []*profileField) grow.Source {
	if e := f.entity; e.profile.state != compiled {
		return nil
	}
	good := true
	inner := func(d Field, name, seed string) *grow.Field {
		d.Name, d.Was, d.inner = name, seed, true
		sub := c.newField(f.entity, &d)
		good = c.compile(sub) && good
		return sub.grow
	}
	var rest *grow.Field
	if f.decl.word != wordProfiled {
		// The field's own seed: its values stay as they are when profiles are added.
		rest = inner(Field{word: f.decl.word, source: f.decl.source, bare: f.decl.bare, args: f.decl.args,
			place: f.decl.place, Free: f.decl.Free}, f.decl.Name+".otherwise", f.seedName())
	}
	var branches []grow.Branch
	for _, o := range list {
		if o.decl.word == "" {
			return nil // reported by the reader
		}
		name := o.profile
		branches = append(branches, grow.Branch{
			When:  []*grow.Field{f.entity.profile.grow},
			Holds: func(values []value.Value) bool { return values[0].S == name },
			Value: inner(*o.decl, f.decl.Name+"."+name, ""),
		})
	}
	if !good {
		return nil
	}
	return c.caseOf(f, branches, rest)
}

// seedName is the name that the field's values depend on.
func (f *field) seedName() string {
	if f.decl.Was != "" {
		return f.decl.Was
	}
	return f.decl.Name
}
