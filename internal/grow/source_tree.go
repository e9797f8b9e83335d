package grow

import (
	"errors"
	"fmt"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// tree is the reference of an entity to itself that makes trees: rows in order fill
// one tree after the other, level by level, so that more rows only append, and a
// row's parent is found by its number alone.
type tree struct {
	to       *Entity
	by       *Field
	lo, hi   uint64    // children of each row; every tree has its own number
	deal     *rng.Deal // of rows to trees
	rootSelf bool
}

// TreeShape is what trees look like.
type TreeShape struct {
	Depth    uint64 // levels of rows
	Fan      Range  // children of each row
	RootSelf bool   // a root refers to itself; else its reference is NULL
}

// Tree makes references to the parent in trees. Given rows that say nothing are roots.
func Tree(to *Entity, by *Field, key rng.Key, of TreeShape) (Source, error) {
	depth, fan, rootSelf := of.Depth, of.Fan, of.RootSelf
	switch {
	case depth < 1:
		return nil, errors.New("the depth of a tree must be 1 or more")
	case fan.Lo < 1 || fan.Lo > fan.Hi:
		return nil, errors.New("fan must be a number of children from 1 up, such as 3 or 2..5")
	case fan.Hi-fan.Lo >= rng.DealBlock:
		return nil, fmt.Errorf("fan must span at most %d numbers", rng.DealBlock)
	}

	s := &tree{to: to, by: by, lo: fan.Lo, hi: fan.Hi, rootSelf: rootSelf}
	var sizes []uint64
	for f := fan.Lo; f <= fan.Hi; f++ {
		size, level := uint64(0), uint64(1)
		for range depth {
			if size += level; size > maxTree {
				return nil, fmt.Errorf(
					"a tree of depth %d with %d children for each row has more than %d rows",
					depth,
					f,
					int64(maxTree),
				)
			}
			level *= f
		}
		sizes = append(sizes, size)
	}

	s.deal = rng.DealOf(key, sizes)
	return s, nil
}

const maxTree = 1 << 32 // rows

func (s *tree) Type() value.Type        { return s.by.Source.Type() }
func (s *tree) Scale() uint8            { return s.by.Source.Scale() }
func (s *tree) target() *Entity         { return s.to }
func (s *tree) stored() *Field          { return s.by }
func (s *tree) grow(cell, *value.Value) {}

func (s *tree) row(c cell) (Row, bool) {
	if c.fr.row.Side {
		return c.fr.row, s.rootSelf
	}
	trees := c.g.trees[s]
	if trees == nil {
		trees = rng.NewDealt(s.deal)
		c.g.trees[s] = trees
	}
	t, place := trees.Parent(c.fr.row.N)
	if place == 0 {
		return c.fr.row, s.rootSelf
	}
	first := trees.First(t)
	size := trees.First(t+1) - first
	fan := s.lo
	for s.sizeOf(fan) != size {
		fan++
	}
	return Row{N: first + (place-1)/fan}, true
}

// sizeOf is the number of rows of a tree with a fan. Sizes grow with the fan, but
// for trees of a single row.
func (s *tree) sizeOf(fan uint64) uint64 { return s.deal.Count(fan - s.lo) }

func (s *tree) redrawn(*Field) []*Field { return nil }

func (s *tree) counts(f *Field, _ []*Field) *Field { return f }
