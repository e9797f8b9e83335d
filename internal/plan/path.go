package plan

import (
	"errors"
	"strings"

	"evensprout/internal/grow"
)

// resolve looks up a path such as joined_at, sailing.departs_at or
// Passenger.joined_at, and reports if there is none.
func (c *compiler) resolve(f *field, at place, name string) (*grow.Path, bool) {
	return c.resolveIn(f.entity, at, name)
}

// resolveIn finds the field that a path such as sailing.route.name names; false after adding a
// problem.
func (c *compiler) resolveIn(e *entity, at place, name string) (*grow.Path, bool) {
	path, err := c.lookUp(e, name)
	if err != nil {
		names := c.reachable(e)
		var none *noFieldError
		if errors.As(err, &none) && none.entity != e { // the path is right as far as another entity
			name, names = none.word, none.entity.names()
		}
		c.add(at, "%s", err).Nearest(name, names)
	}
	return path, path != nil
}

// lookUp is resolve without telling; path and error are both nil if the field is
// there, but wrong itself, which is told at its own place.
func (c *compiler) lookUp(e *entity, name string) (*grow.Path, error) {
	path := &grow.Path{}
	if name == clockWord {
		path.Field = c.clock(e).grow
		return path, nil
	}
	words := strings.Split(name, ".")
	for i, word := range words {
		last := i == len(words)-1
		of := e.find(word)
		if of == nil && !last {
			above, ok := c.ancestor(e, word, path)
			if !ok {
				return nil, nil
			}
			if above.decl.Bare() == word && len(path.Hops) > 0 {
				e = above
				continue
			}
		}
		if of == nil {
			return nil, &noFieldError{e, word}
		}
		if !c.compile(of) {
			return nil, nil
		}
		if last {
			path.Field = of.grow
			return path, nil
		}
		if of.decl.inner && i == len(words)-2 && c.target(of) == nil {
			part, err := c.part(of, words[i+1])
			if err != nil {
				return nil, err
			}
			path.Field = part.grow
			return path, nil
		}
		to := c.target(of)
		if to == nil {
			return nil, errors.New(of.describe() + " refers to no other entity, so a path cannot go through it")
		}
		path.Hops = append(path.Hops, of.grow)
		e = to
	}
	return nil, &noFieldError{e, name}
}

// ancestor follows references up to the ancestor of an entity with a name, over as many as it takes;
// without one it returns the entity. It is not ok if a field on the way is wrong.
func (c *compiler) ancestor(e *entity, name string, path *grow.Path) (above *entity, ok bool) {
	for up := e; up.parent != nil; up = up.parent {
		path.Hops = append(path.Hops, up.up.grow)
		if !c.compile(up.up) {
			return nil, false
		}
		if up.parent.decl.Bare() == name {
			return up.parent, true
		}
	}
	return e, true
}

// clock is a field of an entity that holds the plan's clock, for expressions and texts.
func (c *compiler) clock(e *entity) *field {
	if f := e.byName[clockWord]; f != nil {
		return f
	}
	f := c.newField(e, &Field{Name: clockWord, place: e.decl.place, inner: true})
	f.grow.Source, f.state = grow.Literal(c.plan.Clock), compiled
	return f
}

// noFieldError is the error of a word that is no field of an entity.
type noFieldError struct {
	entity *entity
	word   string
}

func (e *noFieldError) Error() string { return e.entity.decl.Name + " has no field " + e.word }

// reachable lists the names that may stand for fields within an entity.
func (c *compiler) reachable(e *entity) []string {
	names := append(e.names(), clockWord)
	for up := e.parent; up != nil; up = up.parent {
		for _, n := range up.names() {
			names = append(names, up.decl.Bare()+"."+n)
		}
	}
	return names
}
