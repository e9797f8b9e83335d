package load

import (
	"context"
	"slices"

	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"

	"github.com/zeebo/xxh3"
)

// maxKnown bounds the rows whose keys are read before a load that leaves colliding
// rows out. More are looked up chunk by chunk.
const maxKnown = 200_000

// known is the keys of the rows that a table had before the load: where colliding rows
// are left out or drawn again, that costs less than to let every chunk be refused. What
// it does not know, such as texts that only a collation holds for equal, or rows that
// others add meanwhile, the constraints tell. Memory: about 100 bytes for each row.
type known struct {
	primary []*schema.Column
	keys    []knownKey
	rows    [][]value.Value // primary keys

	mode  store.Mode
	match int // the key by which rows that are there are recognised; -1 if none are
	set   []*schema.Column
}

type knownKey struct {
	name    string
	columns []*schema.Column
	places  []int // of the row's values
	rows    map[xxh3.Uint128]int
}

// knows reads the keys of the rows that are there.
func (l *loader) knows(ctx context.Context, s store.Store, t *target) (*known, error) {
	k := &known{mode: t.write.Mode, match: -1, set: t.write.Set}
	for _, name := range t.Table.PrimaryKey {
		k.primary = append(k.primary, t.Table.Column(name))
	}
	columns := slices.Clone(k.primary)
	k.keys = t.keys()
	for i := range k.keys {
		columns = append(columns, k.keys[i].columns...)
		if sameColumns(k.keys[i].columns, t.write.Match) {
			k.match = i
		}
	}
	if len(columns) == 0 {
		return k, nil // without a key no row collides
	}
	var read []int // places of the values that are read
	for i := range columns {
		read = append(read, i)
	}
	err := s.Select(ctx, store.Query{Table: t.Table, Columns: columns}, func(row []value.Value) error {
		at := len(k.primary)
		for i := range k.keys {
			n := len(k.keys[i].columns)
			if h, ok := hashOf(row, read[at:at+n]); ok {
				k.keys[i].rows[h] = len(k.rows)
			}
			at += n
		}
		k.rows = append(k.rows, slices.Clone(row[:len(k.primary)]))
		return nil
	})
	return k, err
}

// keys are the unique keys over columns that the plan writes, all of them.
func (t *target) keys() []knownKey {
	var keys []knownKey
	for _, u := range t.Table.Keys() {
		key := knownKey{name: t.Table.KeyName(u.Columns), rows: map[xxh3.Uint128]int{}}
		for _, name := range u.Columns {
			c := t.Table.Column(name)
			if i := slices.Index(t.write.Columns, c); i >= 0 {
				key.columns, key.places = append(key.columns, c), append(key.places, t.write.Fields[i])
			}
		}
		if !u.Partial && !u.NullsEqual && len(key.columns) == len(u.Columns) {
			keys = append(keys, key)
		}
	}
	return keys
}

// hashOf is the hash of some of a row's values; false if one is NULL.
func hashOf(values []value.Value, places []int) (xxh3.Uint128, bool) {
	var buf [64]byte
	b := buf[:0]
	for _, i := range places {
		if values[i].IsNull() {
			return xxh3.Uint128{}, false
		}
		b = values[i].AppendCanonical(b)
	}
	return xxh3.Hash128(b), true
}

// collision is the violation of a row that has a key of a row that was there before,
// other than the one that it is written over; nil if it has none.
func (k *known) collision(values []value.Value) *store.Violation {
	over := -1
	if k.match >= 0 && k.mode != store.Insert {
		if h, ok := hashOf(values, k.keys[k.match].places); ok {
			if at, found := k.keys[k.match].rows[h]; found {
				over = at
			}
		}
		if over >= 0 && k.mode == store.Keep {
			return nil
		}
	}
	for i := range k.keys {
		key := &k.keys[i]
		if over >= 0 && slices.ContainsFunc(key.columns, func(c *schema.Column) bool { return !slices.Contains(k.set, c) }) {
			continue // it keeps what it has
		}
		h, ok := hashOf(values, key.places)
		if !ok {
			continue
		}
		at, found := key.rows[h]
		if !found || at == over {
			continue
		}
		v := key.violation(values)
		for j, c := range k.primary {
			v.Other = append(v.Other, store.Pair{Column: c.Name, Value: k.rows[at][j]})
		}
		return v
	}
	return nil
}

func (key *knownKey) violation(values []value.Value) *store.Violation {
	v := &store.Violation{Kind: store.Unique, Row: -1, Constraint: key.name, Message: "a row of the table has the same values"}
	for j, c := range key.columns {
		v.Columns, v.Values = append(v.Columns, c.Name), append(v.Values, values[key.places[j]])
	}
	return v
}

// wantsKnown tells whether it is worth to read the keys of the rows that are there.
func (l *loader) wantsKnown(t *target) bool {
	return t.write.Mode == store.Insert && l.policy(t, store.Unique) != plan.Stop && t.out.Before > 0 && t.out.Before <= maxKnown
}
