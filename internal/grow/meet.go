package grow

import (
	"fmt"
	"slices"

	"evensprout/internal/value"
)

// Meet is a condition on fields of a row, such as a CHECK constraint. A row that does
// not meet it as first drawn is drawn again, as far as the condition depends on it: the
// first draw that passes is the row's, so that it is still a pure function.
type Meet struct {
	Text   string // the condition, for people
	Fields []*Field
	Holds  func(values []value.Value) bool // of the fields, in their order
}

// meetTries is how often a row is drawn at most. A condition that one draw in a
// hundred meets, fails with a probability of 1 in 20,000.
const meetTries = 1000

// tie is conditions that share fields, with all fields of the row that they depend on.
type tie struct {
	meets  []*Meet
	fields []*Field
}

// tieFields groups the conditions of an entity by the fields that they depend on.
func (e *Entity) tieFields() {
	e.ties = nil
	for _, m := range e.Meets {
		t := &tie{meets: []*Meet{m}}
		for _, f := range m.Fields {
			t.reach(f)
		}
		// Ties that share a field become one.
		rest := e.ties[:0:0]
		for _, other := range e.ties {
			if !slices.ContainsFunc(other.fields, func(f *Field) bool { return slices.Contains(t.fields, f) }) {
				rest = append(rest, other)
				continue
			}
			t.meets = append(other.meets, t.meets...)
			for _, f := range other.fields {
				if !slices.Contains(t.fields, f) {
					t.fields = append(t.fields, f)
				}
			}
		}
		e.ties = append(rest, t)
	}

	for i, t := range e.ties {
		for _, f := range t.fields {
			f.tied = i + 1
		}
	}
}

// reach adds a field with all fields of the same row that it is made of.
func (t *tie) reach(f *Field) {
	if slices.Contains(t.fields, f) {
		return
	}
	t.fields = append(t.fields, f)
	read := func(p *Path) {
		of := p.Field
		if len(p.Hops) > 0 {
			of = p.Hops[0]
		}
		if of.Entity == f.Entity {
			t.reach(of)
		}
	}
	if s, ok := f.Source.(reader); ok {
		s.reads(read)
	}
	for i := range f.If {
		read(&f.If[i].Path)
		if f.If[i].As != nil {
			read(f.If[i].As)
		}
	}
}

// reader is a source that is made of other fields.
type reader interface{ reads(show func(*Path)) }

func (s *copied) reads(show func(*Path))          { show(&s.path) }
func (s *copiedReference) reads(show func(*Path)) { show(&s.path) }
func (s *partOf) reads(show func(*Path))          { show(&Path{Field: s.of}) }

func (s *computed) reads(show func(*Path)) {
	for i := range s.inputs {
		show(&s.inputs[i])
	}
}

func (s *stretch) reads(show func(*Path)) {
	for _, e := range []*End{s.after, s.before} {
		if e != nil && e.Path != nil {
			show(e.Path)
		}
	}
}

func (t *template) reads(show func(*Path)) {
	for i := range t.parts {
		if t.parts[i].path != nil {
			show(t.parts[i].path)
		}
	}
}

func (s *document) reads(show func(*Path)) { s.root.reads(show) }

func (p *Part) reads(show func(*Path)) {
	for _, f := range []*Field{p.Field, p.Count} {
		if f != nil {
			show(&Path{Field: f})
		}
	}
	for i := range p.Parts {
		p.Parts[i].reads(show)
	}
}

func (s *pick) reads(show func(*Path)) {
	for i := range s.Where {
		if s.Where[i].As != nil {
			show(s.Where[i].As)
		}
	}
}

// drawUntilMet settles how often the fields of a tie are drawn for a row.
func (g *Grower) drawUntilMet(fr *frame, number int) {
	t := fr.e.ties[number-1]
	fr.settled[number-1] = true // from here on, cells are grown as they are
	failed := t.meets[0]
	tries := uint64(meetTries)
	if g.err != nil {
		tries = 1 // what is grown now will not be used
	}
	for try := range tries {
		fr.tries[number-1] = try
		for _, f := range t.fields {
			fr.known[f.index] = false
			if f.group != nil {
				fr.groups[f.group.slot].known = false
			}
		}
		if failed = g.unmet(fr, t); failed == nil {
			return
		}
	}

	if g.err == nil {
		g.err = &RowError{
			fr.e.Label(fr.row),
			failed.Fields[0].Name,
			fmt.Errorf("none of %d tries meets the condition %s", meetTries, failed.Text),
		}
	}
}

// unmet is the first condition that a row does not meet, or nil.
func (g *Grower) unmet(fr *frame, t *tie) *Meet {
	fr.busy++ // growing its cells must not give the frame to another row
	defer fr.close()
	var room [8]value.Value
	for _, m := range t.meets {
		values := room[:0]
		for _, f := range m.Fields {
			values = append(values, *g.value(fr, f))
		}
		if !m.Holds(values) {
			return m
		}
	}
	return nil
}
