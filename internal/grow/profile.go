package grow

import (
	"slices"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// Profiles are the groups of rows that an entity has.
type Profiles struct {
	Names []string
	Field *Field // inner: the name of a row's profile

	cast *rng.Cast
}

// NewProfiles gives the rows of a field's entity profiles by weight; the field holds their names.
func NewProfiles(f *Field, names []string, weights []uint64) (*Profiles, error) {
	cast, err := rng.NewCast(f.key().Sub("cast"), weights)
	if err != nil {
		return nil, err
	}
	p := &Profiles{Names: names, Field: f, cast: cast}
	f.Source = &profile{p}
	return p, nil
}

// Deal deals children by the profiles of their parents.
func (p *Profiles) Deal(k rng.Key, groups [][]rng.DealGroup) (*rng.Deal, error) {
	return rng.NewCastDeal(k, p.cast, groups)
}

// side is the profile of a row outside the numbered sequence.
func (p *Profiles) side(row *SideRow) int {
	if given, ok := row.Given[p.Field]; ok {
		return slices.Index(p.Names, given.Value.S)
	}
	return p.cast.Of(row.ID)
}

// profile is the name of a row's profile.
type profile struct{ of *Profiles }

func (s *profile) Type() value.Type { return value.Text }
func (s *profile) Scale() uint8     { return 0 }

func (s *profile) grow(c cell, v *value.Value) {
	at := 0
	switch row := c.fr.row; {
	case row.Side:
		at = s.of.side(&c.fr.e.Side[row.N])
	case c.fr.e.Table != nil:
		at = s.of.cast.Of(c.fr.id)
	default:
		at = c.g.casts[c.fr.e.index].At(row.N)
	}
	*v = value.String(s.of.Names[at])
}

func (s *profile) redrawn(*Field) []*Field { return nil }

func (s *profile) texts() []string { return s.of.Names }

func (s *profile) longest() string { return longestOf(s.of.Names) }
