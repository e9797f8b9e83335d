package load

import (
	"context"
	"slices"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"

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
	rows    [][]grow.Value // primary keys
}

type knownKey struct {
	name    string
	columns []*schema.Column
	places  []int // of the row's values
	rows    map[xxh3.Uint128]int
}

// knows reads the keys of the rows that are there.
func (l *loader) knows(ctx context.Context, s store.Store, t *target) (*known, error) {
	k := &known{}
	for _, name := range t.Table.PrimaryKey {
		k.primary = append(k.primary, t.Table.Column(name))
	}
	columns := slices.Clone(k.primary)
	for _, u := range t.Table.Keys() {
		key := knownKey{name: t.Table.KeyName(u.Columns), rows: map[xxh3.Uint128]int{}}
		for _, name := range u.Columns {
			c := t.Table.Column(name)
			if i := slices.Index(t.write.Columns, c); i >= 0 {
				key.columns, key.places = append(key.columns, c), append(key.places, t.write.Fields[i])
			}
		}
		if u.Partial || u.NullsEqual || len(key.columns) < len(u.Columns) {
			continue
		}
		k.keys = append(k.keys, key)
		columns = append(columns, key.columns...)
	}
	if len(columns) == 0 {
		return k, nil // without a key no row collides
	}
	var read []int // places of the values that are read
	for i := range columns {
		read = append(read, i)
	}
	err := s.Select(ctx, store.Query{Table: t.Table, Columns: columns}, func(row []grow.Value) error {
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

// hashOf is the hash of some of a row's values; false if one is NULL.
func hashOf(values []grow.Value, places []int) (xxh3.Uint128, bool) {
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

// collision is the violation of a row that has a key of a row that was there before;
// nil if it has none.
func (k *known) collision(values []grow.Value) *store.Violation {
	for i := range k.keys {
		key := &k.keys[i]
		h, ok := hashOf(values, key.places)
		if !ok {
			continue
		}
		at, found := key.rows[h]
		if !found {
			continue
		}
		v := &store.Violation{Kind: store.Unique, Row: -1, Constraint: key.name, Message: "a row of the table has the same values"}
		for j, c := range key.columns {
			v.Columns, v.Values = append(v.Columns, c.Name), append(v.Values, values[key.places[j]])
		}
		for j, c := range k.primary {
			v.Other = append(v.Other, store.Pair{Column: c.Name, Value: k.rows[at][j]})
		}
		return v
	}
	return nil
}

// wantsKnown tells whether it is worth to read the keys of the rows that are there.
func (l *loader) wantsKnown(t *target) bool {
	return t.write.Mode == store.Insert && l.policy(t, store.Unique) != plan.Stop && t.out.Before > 0 && t.out.Before <= maxKnown
}
