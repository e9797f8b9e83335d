// Package cover finds small sets of rows in which the choices of several factors meet in every combination: every
// pair of choices of two factors, or every triple of three, is in some row. Such sets are known as covering arrays.
package cover

import (
	"errors"
	"fmt"
)

// Limits on what is computed.
const (
	MaxTuples   = 500_000 // combinations to be covered
	MaxStrength = 3
)

const (
	candidates = 30 // rows that are made for each row taken
	attempts   = 6  // whole sets that are made
	completion = 60 // rows tried for a combination, before it counts as impossible
)

// Rows returns rows of choices: the i-th number of a row is below levels[i]. Every combination of choices of
// strength factors (2 or 3) is in some row, if a row that is allowed can have it; allowed may be nil. The same
// arguments give the same rows.
//
// Source: the greedy method of D. M. Cohen, S. R. Dalal, M. L. Fredman and G. C. Patton, The AETG system, IEEE
// Transactions on Software Engineering 23 (1997), made several times, after which rows are taken out again that the
// others make superfluous.
func Rows(levels []int, strength int, allowed func([]int) bool) ([][]int, error) {
	if strength < 1 || strength > MaxStrength {
		return nil, fmt.Errorf("the strength must be between 1 and %d, got %d", MaxStrength, strength)
	}
	strength = min(strength, len(levels))
	if len(levels) == 0 {
		return nil, errors.New("no field has a choice")
	}
	s := newSearch(levels, strength, allowed)
	if s.tuples > MaxTuples {
		return nil, fmt.Errorf("%d combinations are too many: at most %d", s.tuples, MaxTuples)
	}
	rounds := attempts
	if allowed != nil || s.tuples > 20_000 {
		rounds = 1 // a round is slow, and others gain little
	}
	var best [][]int
	for range rounds {
		rows, err := s.round()
		if err != nil {
			return nil, err
		}
		if rows = s.reduce(rows); best == nil || len(rows) < len(best) {
			best = rows
		}
	}
	return best, nil
}

// search is the state of a search.
type search struct {
	levels   []int
	strength int
	allowed  func([]int) bool
	sets     []set // of factors that meet
	of       [][]int
	tuples   int
	seen     []int // how many rows have a tuple; impossible where none can
	left     int   // tuples that no row has
	random   uint64
}

// set is factors whose choices meet, and where their tuples are counted.
type set struct {
	factors []int
	first   int
}

// impossible marks a tuple that no allowed row has.
const impossible = -1

func newSearch(levels []int, strength int, allowed func([]int) bool) *search {
	s := &search{levels: levels, strength: strength, allowed: allowed, of: make([][]int, len(levels))}
	var choose func(from int, chosen []int)
	choose = func(from int, chosen []int) {
		if len(chosen) == strength {
			size := 1
			for _, f := range chosen {
				s.of[f] = append(s.of[f], len(s.sets))
				size *= levels[f]
			}
			s.sets = append(s.sets, set{append([]int(nil), chosen...), s.tuples})
			s.tuples += size
			return
		}
		for f := from; f < len(levels) && s.tuples <= MaxTuples; f++ {
			choose(f+1, append(chosen, f))
		}
	}
	choose(0, nil)
	if s.tuples <= MaxTuples {
		s.seen = make([]int, s.tuples)
	}
	return s
}

// next is a pseudo-random number (SplitMix64 by Sebastiano Vigna, public domain).
func (s *search) next() uint64 {
	s.random += 0x9e3779b97f4a7c15
	z := s.random
	z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
	z = (z ^ z>>27) * 0x94d049bb133111eb
	return z ^ z>>31
}

func (s *search) below(n int) int { return int(s.next() % uint64(n)) }

// tuple is where a tuple of a row is counted; -1 if a factor is still open.
func (s *search) tuple(of *set, row []int) int {
	at := 0
	for _, f := range of.factors {
		if row[f] < 0 {
			return -1
		}
		at = at*s.levels[f] + row[f]
	}
	return of.first + at
}

// round makes a whole set of rows.
func (s *search) round() ([][]int, error) {
	for i := range s.seen {
		if s.seen[i] != impossible {
			s.seen[i] = 0
		}
	}
	s.count()
	var rows [][]int
	for s.left > 0 {
		row := s.bestRow()
		if row == nil {
			break // the rest is impossible
		}
		s.take(row, 1)
		rows = append(rows, row)
	}
	if len(rows) == 0 {
		return nil, errors.New("no row meets the conditions")
	}
	return rows, nil
}

// count counts the tuples that no row has.
func (s *search) count() {
	s.left = 0
	for _, n := range s.seen {
		if n == 0 {
			s.left++
		}
	}
}

// take adds a row to the counts, or takes it away.
func (s *search) take(row []int, times int) {
	for i := range s.sets {
		at := s.tuple(&s.sets[i], row)
		was := s.seen[at]
		s.seen[at] += times
		switch {
		case was == 0:
			s.left--
		case s.seen[at] == 0:
			s.left++
		}
	}
}

// bestRow is the best of several rows; nil if every tuple that is left is impossible.
func (s *search) bestRow() []int {
	var best []int
	most := 0
	for range candidates {
		row := s.candidate(nil)
		if s.allowed != nil && !s.allowed(row) {
			continue
		}
		if gain := s.gain(row); gain > most {
			best, most = row, gain
		}
	}
	if best != nil {
		return best
	}
	for at := range s.seen { // one by one, for what is left is rare
		if s.seen[at] != 0 {
			continue
		}
		if row := s.complete(at); row != nil {
			return row
		}
		s.seen[at] = impossible
		s.left--
	}
	return nil
}

// complete finds an allowed row with a tuple; nil if there seems to be none.
func (s *search) complete(at int) []int {
	for i := range completion {
		row := s.start(at)
		if i < completion/2 {
			row = s.candidate(row)
		} else {
			for f := range row { // anything that is allowed will do
				if row[f] < 0 {
					row[f] = s.below(s.levels[f])
				}
			}
		}
		if s.allowed == nil || s.allowed(row) {
			return row
		}
	}
	return nil
}

// start is a row that has a tuple, and is open otherwise.
func (s *search) start(at int) []int {
	row := make([]int, len(s.levels))
	for f := range row {
		row[f] = -1
	}
	i := 0
	for i+1 < len(s.sets) && s.sets[i+1].first <= at {
		i++
	}
	rest := at - s.sets[i].first
	for j := len(s.sets[i].factors) - 1; j >= 0; j-- {
		f := s.sets[i].factors[j]
		row[f] = rest % s.levels[f]
		rest /= s.levels[f]
	}
	return row
}

// candidate completes a row, or begins one with a tuple that no row has: each factor in turn takes the choice that
// makes most new tuples.
func (s *search) candidate(row []int) []int {
	if row == nil {
		nth := s.below(s.left)
		for at, n := range s.seen {
			if n != 0 {
				continue
			}
			if nth == 0 {
				row = s.start(at)
				break
			}
			nth--
		}
	}
	order := make([]int, 0, len(row))
	for f := range row {
		if row[f] < 0 {
			order = append(order, f)
		}
	}
	for i := len(order) - 1; i > 0; i-- {
		j := s.below(i + 1)
		order[i], order[j] = order[j], order[i]
	}
	for _, f := range order {
		best, most, ties := 0, -1, 0
		for choice := range s.levels[f] {
			row[f] = choice
			gain := s.gainOf(f, row)
			switch {
			case gain > most:
				best, most, ties = choice, gain, 1
			case gain == most:
				if ties++; s.below(ties) == 0 {
					best = choice
				}
			}
		}
		row[f] = best
	}
	return row
}

// gainOf is how many new tuples a factor's choice makes with those that are chosen.
func (s *search) gainOf(f int, row []int) int {
	gain := 0
	for _, i := range s.of[f] {
		if at := s.tuple(&s.sets[i], row); at >= 0 && s.seen[at] == 0 {
			gain++
		}
	}
	return gain
}

// gain is how many new tuples a row has.
func (s *search) gain(row []int) int {
	gain := 0
	for i := range s.sets {
		if s.seen[s.tuple(&s.sets[i], row)] == 0 {
			gain++
		}
	}
	return gain
}

// reduce takes out rows whose tuples the others have, and rows that few changes of others make superfluous.
func (s *search) reduce(rows [][]int) [][]int {
	for changed := true; changed; {
		changed = false
		for i := len(rows) - 1; i >= 0; i-- {
			if s.dispensable(rows, i) {
				s.take(rows[i], -1)
				rows = append(rows[:i:i], rows[i+1:]...)
				changed = true
			}
		}
	}
	return rows
}

// dispensable reports whether a row can go: each of its tuples is in another row, or in one whose choices that
// nothing needs are changed for it.
func (s *search) dispensable(rows [][]int, i int) bool {
	var alone []int // tuples that only this row has
	for j := range s.sets {
		if at := s.tuple(&s.sets[j], rows[i]); s.seen[at] == 1 {
			alone = append(alone, j)
		}
	}
	if len(alone) == 0 {
		return true
	}
	if s.allowed != nil || len(alone) > 3 {
		return false
	}
	type change struct{ row, factor, was int }
	var done []change
	undo := func() {
		for k := len(done) - 1; k >= 0; k-- {
			c := done[k]
			s.take(rows[c.row], -1)
			rows[c.row][c.factor] = c.was
			s.take(rows[c.row], 1)
		}
	}
	for _, j := range alone {
		moved := false
		for r := range rows {
			if r == i || !s.spare(rows[r], rows[i], &s.sets[j]) {
				continue
			}
			for _, f := range s.sets[j].factors {
				if rows[r][f] != rows[i][f] {
					s.take(rows[r], -1)
					done = append(done, change{r, f, rows[r][f]})
					rows[r][f] = rows[i][f]
					s.take(rows[r], 1)
				}
			}
			moved = true
			break
		}
		if !moved {
			undo()
			return false
		}
	}
	return true
}

// spare reports whether a row can take the choices of another in the factors of a set: no tuple is in it alone that
// has a factor which would change.
func (s *search) spare(row, other []int, of *set) bool {
	for _, f := range of.factors {
		if row[f] == other[f] {
			continue
		}
		for _, i := range s.of[f] {
			if s.seen[s.tuple(&s.sets[i], row)] == 1 {
				return false
			}
		}
	}
	return true
}
