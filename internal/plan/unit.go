package plan

import (
	"math"
	"os"
	"slices"
	"strings"
)

// Unit is one entry of units: steps that are done together, or not at all, once for
// each of its occasions.
type Unit struct {
	Name        string
	Occasions   *Entity  // where they come from: they have no table
	After       []string // entities and units that go before it
	Together    uint64   // occasions in one transaction; 0: all
	Isolation   string   // empty: the usual one of the engine
	OnViolation Policies // before the plan's own
	Steps       []*StepSaid
	place
	togetherPlace place
	after         []*node
}

// File is the regular file that the unit's occasions are read from, seen from the current folder; empty if there is
// none.
func (u *Unit) File(p *Plan) string {
	if u.OccasionsFile() == "" {
		return ""
	}
	path := p.pathOf(u.OccasionsFile())
	if info, err := os.Stat(path); err != nil || !info.Mode().IsRegular() {
		return ""
	}
	return path
}

// OccasionsFile is the file of occasions as the plan names it; empty if they are not from a file.
func (u *Unit) OccasionsFile() string {
	if u.Occasions == nil || u.Occasions.RowsFrom == nil {
		return ""
	}
	return u.Occasions.RowsFrom.File
}

// StepWord is what a step does.
type StepWord string

// The words of steps.
const (
	StepFind    StepWord = "find"    // a row that must be there
	StepRequire StepWord = "require" // a condition that must hold
	StepInsert  StepWord = "insert"
	StepUpsert  StepWord = "upsert"
	StepUpdate  StepWord = "update"
	StepDelete  StepWord = "delete"
	StepClear   StepWord = "clear" // a whole table, before the first occasion
	StepFor     StepWord = "for"   // the steps below, for each element of a list
)

// StepSaid is one step as the plan says it.
type StepSaid struct {
	Word    StepWord
	Target  string // entity or table
	As      string // what later steps call its row
	Because string // of require: what to say if it does not hold
	Lo, Hi  uint64 // how many rows it must touch; of for, how many elements

	Element  string // of for: what the steps below call an element
	List     string // of for: the list, a field of the occasion or a part of one
	Numbered string // of for: what the steps below call the element's number, from 1
	Steps    []*StepSaid

	condition  *node
	match, set *node
	first      *node
	inner      *node // steps of a loop
	place
	targetPlace place
}

// AnyNumber is the upper bound of rows of a step that may touch any number of them.
const AnyNumber = math.MaxUint64

var stepWords = []string{
	string(StepFind),
	string(StepRequire),
	string(StepInsert),
	string(StepUpsert),
	string(StepUpdate),
	string(StepDelete),
	string(StepClear),
	string(StepFor),
}

// stepKeys is what may stand beside the word of a step.
var stepKeys = map[StepWord][]string{
	StepFind: {
		"as",
		"match",
		"expect",
	}, StepRequire: {"because"}, StepInsert: {"as", "set"}, StepUpsert: {"as", "match", "set", "first"},
	StepUpdate: {"match", "set", "expect"}, StepDelete: {"match", "expect"}, StepClear: nil,
	StepFor: {"steps", "expect", "numbered"},
}

var isolations = []string{"read committed", "repeatable read", "serializable"}

// Limits on units.
const (
	maxUnits    = 1000
	maxSteps    = 100
	maxLoops    = 8 // one within another
	maxTogether = 100_000
)

const stepHint = "such as {update: Sailing, match: {code: sailing}, set: {seats_left: seats_left - 1}}"

// units reads units.
func (p *Plan) units(v *node) {
	if !v.mapping {
		p.add(v.place, "units must be a mapping of names, got %s", v.what())
		return
	}
	if len(v.pairs) > maxUnits {
		p.add(v.place, "more than %d units", maxUnits)
		return
	}
	for _, x := range v.pairs {
		u := &Unit{
			Name:      x.key.text,
			Together:  1,
			place:     x.key.place,
			Occasions: &Entity{Name: x.key.text, place: x.key.place},
		}
		if !isName(u.Name) {
			p.add(x.key.place, "%q is not a valid name for a unit", u.Name).
				Advise("use a letter, then letters, digits and _")
		}
		if slices.ContainsFunc(p.Entities, func(e *Entity) bool { return e.Name == u.Name }) {
			p.add(x.key.place, "%s is already the name of an entity", u.Name)
		}
		p.unit(u, x.value)
		p.Units = append(p.Units, u)
	}
}

// unit reads a unit of work: its occasions and its steps.
func (p *Plan) unit(u *Unit, n *node) {
	e := u.Occasions
	s := p.rowsShape(e)
	s["after"] = func(_, v *node) { p.afterUnits(u, v) }
	s["together"] = func(_, v *node) {
		u.togetherPlace = v.place
		if v.scalar() && v.text == "all" {
			u.Together = 0
			return
		}
		u.Together, _ = p.number(v, "together (a number of occasions, or all)", 1, maxTogether)
	}
	s["isolation"] = func(_, v *node) {
		if p.text(v, "isolation", &u.Isolation) && !slices.Contains(isolations, u.Isolation) {
			p.add(v.place, "%q is not an isolation level", u.Isolation).Nearest(u.Isolation, isolations)
			u.Isolation = ""
		}
	}
	s["on_violation"] = func(_, v *node) {
		u.OnViolation = p.violationPolicies(v)
		for _, x := range v.pairs {
			if x.value.text == string(Redraw) {
				p.add(x.value.place, "occasions of a unit cannot be redrawn; use stop or skip")
			}
		}
	}
	s["steps"] = func(_, v *node) { p.unitSteps(u, v) }
	p.each(n, "a unit", s)
	if !n.mapping {
		return
	}
	if n.get("steps") == nil {
		p.add(u.place, "the unit %s has no steps", u.Name).Advise("add steps: with a list, %s", stepHint)
	}
	p.oneSource(e)
	if e.RowsFrom == nil && e.Per == nil && e.rowsPlace == (place{}) && len(e.Given) == 0 {
		e.Rows = 1 // one occasion: now
	}
	if e.Existing {
		p.add(e.rowsPlace, "the occasions of a unit must be a number, per an entity, or the lines of a file").
			Advise("rows: 200, per: {Booking: 1}, or rows_from: {file: sales.csv, ...}")
		e.Existing = false
	}
}

// afterUnits reads the names of units that a unit waits for: one, or a list.
func (p *Plan) afterUnits(u *Unit, v *node) {
	items := v.items
	if !v.list {
		items = []*node{v}
	}
	for _, x := range items {
		var name string
		if p.text(x, "after", &name) {
			u.After, u.after = append(u.After, name), append(u.after, x)
		}
	}
}

// unitSteps reads the steps of a unit.
func (p *Plan) unitSteps(u *Unit, v *node) {
	left := maxSteps
	u.Steps = p.steps(v, &left, 0)
	for i, s := range u.Steps {
		if s.Word != StepClear {
			continue
		}
		if slices.ContainsFunc(u.Steps[:i], func(x *StepSaid) bool { return x.Word != StepClear }) {
			p.add(s.place, "clear must come before all other steps: it runs once, and the others for each occasion")
		}
		if u.Together != 0 {
			p.add(s.place, "clear empties a table once, so all occasions must be in the same transaction").
				Advise("add together: all to the unit")
		}
		break
	}
}

// steps reads a list of steps: of a unit, or of a loop so deep within it. left is how many
// more steps the unit may have.
func (p *Plan) steps(v *node, left *int, depth int) []*StepSaid {
	if !v.list || len(v.items) == 0 {
		p.add(v.place, "steps must be a list, got %s", v.what()).Advise("- %s", stepHint)
		return nil
	}
	if depth > maxLoops {
		p.add(v.place, "loops are nested more than %d deep", maxLoops)
		return nil
	}
	var out []*StepSaid
	for _, n := range v.items {
		if *left--; *left == -1 {
			p.add(n.place, "more than %d steps", maxSteps)
		}
		if *left < 0 {
			return out
		}
		s := p.step(n)
		if s == nil {
			continue
		}
		if s.Word == StepClear && depth > 0 {
			p.add(s.place, "clear runs once, before the first occasion, so it cannot be in a loop")
		}
		if s.inner != nil {
			s.Steps = p.steps(s.inner, left, depth+1)
		}
		out = append(out, s)
	}
	return out
}

// step reads one step; nil after adding a problem.
func (p *Plan) step(n *node) *StepSaid {
	if !n.mapping {
		p.add(n.place, "a step must be a mapping, got %s", n.what()).Advise("%s", stepHint)
		return nil
	}
	s := &StepSaid{place: n.place, Lo: 1, Hi: 1}
	for _, x := range n.pairs {
		if !slices.Contains(stepWords, x.key.text) {
			continue
		}
		if s.Word != "" {
			p.add(x.key.place, "a step must do one thing, got two: %s and %s", s.Word, x.key.text).
				Advise("write each after its own -")
			return nil
		}
		s.Word, s.place = StepWord(x.key.text), x.key.place
		switch s.Word {
		case StepRequire:
			s.condition = x.value
			continue
		case StepFor:
			p.loop(s, x.value)
			continue
		}
		p.text(x.value, "the entity or table of "+string(s.Word), &s.Target)
		s.targetPlace = x.value.place
	}

	if s.Word == "" {
		first := ""
		if len(n.pairs) > 0 {
			first = n.pairs[0].key.text
		}
		p.add(n.place, "this step has no action").Nearest(first, stepWords)
		return nil
	}

	for _, x := range n.pairs {
		k := x.key.text
		if k == string(s.Word) {
			continue
		}
		if !slices.Contains(stepKeys[s.Word], k) {
			p.add(x.key.place, "%q cannot be combined with %s", k, s.Word).Nearest(k, stepKeys[s.Word])
			continue
		}
		p.stepKey(s, k, x.value)
	}

	p.stepNeeds(s)
	return s
}

// stepKey reads a key of a step.
func (p *Plan) stepKey(s *StepSaid, key string, v *node) {
	switch key {
	case "as":
		if p.text(v, "as", &s.As) {
			p.stepName(v.place, s.As, "a row")
		}
	case "numbered":
		if p.text(v, "numbered", &s.Numbered) {
			p.stepName(v.place, s.Numbered, "a number")
		}
	case "steps":
		s.inner = v
	case "because":
		p.text(v, "because", &s.Because)
	case "match", "set", "first":
		if !v.mapping || len(v.pairs) == 0 {
			p.add(v.place, "%s must be a mapping of fields to values, got %s", key, v.what()).
				Advise("%s", stepHint)
			return
		}
		*map[string]**node{"match": &s.match, "set": &s.set, "first": &s.first}[key] = v
	case "expect":
		if v.scalar() && v.text == "any" {
			s.Lo, s.Hi = 0, AnyNumber
			return
		}
		r, _ := p.countRange(v, "expect (how many rows, or any)", math.MaxInt32)
		s.Lo, s.Hi = r.Lo, r.Hi
	}
}

// stepNeeds tells which keys a step lacks.
func (p *Plan) stepNeeds(s *StepSaid) {
	need := func(what string, n *node) {
		if n == nil {
			p.add(s.place, "%s has no %s", s.Word, what).Advise("%s", stepHint)
		}
	}
	switch s.Word {
	case StepFind, StepDelete:
		need("match", s.match)
	case StepUpsert, StepUpdate:
		need("match", s.match)
		need("set", s.set)
	case StepInsert:
		need("set", s.set)
	case StepFor:
		if s.inner == nil {
			p.add(s.place, "for has no steps").Advise("%s", loopHint)
		}
	}
	if s.Word == StepFind && s.Hi > 1 && s.Hi != AnyNumber {
		p.add(s.place, "find needs expect: 1, or 0..1 for a row that may be missing")
	}
}

// AllSteps are the steps of a unit, those in loops behind them.
func (u *Unit) AllSteps() []*StepSaid {
	var all []*StepSaid
	var add func([]*StepSaid)
	add = func(steps []*StepSaid) {
		for _, s := range steps {
			all = append(all, s)
			add(s.Steps)
		}
	}
	add(u.Steps)
	return all
}

// Label names a step for people, from 1.
func (s *StepSaid) Label() string {
	switch s.Word {
	case StepRequire:
		return string(s.Word)
	case StepFor:
		return "for " + s.Element + " in " + s.List
	}
	return strings.TrimSpace(string(s.Word) + " " + s.Target)
}
