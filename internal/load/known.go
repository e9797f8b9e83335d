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

// MaxKnown bounds the rows whose keys are read before a load that leaves colliding
// rows out. More are looked up chunk by chunk.
const MaxKnown = 200_000

// known is the keys of the rows that a table had before the load: where colliding rows
// are left out or drawn again, that costs less than to let every chunk be refused. What
// it does not know, such as texts that only a collation holds for equal, or rows that
// others add meanwhile, the constraints tell. Memory: about 100 bytes for each row.
type known struct {
	primary []*schema.Column
	keys    []KnownKey
	rows    [][]value.Value // primary keys

	mode  store.Mode
	match int // the key by which rows that are there are recognised; -1 if none are
	set   []*schema.Column
}

// KnownKey is a unique key of a table, and where its values stand in a row.
type KnownKey struct {
	name    string
	Columns []*schema.Column
	Places  []int // of the row's values
	rows    map[xxh3.Uint128]int
}

// Knows reads the keys of the rows that are there.
func (l *Session) Knows(ctx context.Context, s store.Store, t *Target) (*known, error) {
	k := &known{mode: t.Writes.Mode, match: -1, set: t.Writes.Set}
	for _, name := range t.Table.PrimaryKey {
		k.primary = append(k.primary, t.Table.Column(name))
	}
	columns := slices.Clone(k.primary)
	k.keys = t.Keys()
	for i := range k.keys {
		columns = append(columns, k.keys[i].Columns...)
		if SameColumns(k.keys[i].Columns, t.Writes.Match) {
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
			n := len(k.keys[i].Columns)
			if h, ok := HashOf(row, read[at:at+n]); ok {
				k.keys[i].rows[h] = len(k.rows)
			}
			at += n
		}
		k.rows = append(k.rows, slices.Clone(row[:len(k.primary)]))
		return nil
	})
	return k, err
}

// Keys are the unique keys over columns that the plan writes, all of them.
func (t *Target) Keys() []KnownKey {
	var keys []KnownKey
	for _, u := range t.Table.Keys() {
		key := KnownKey{name: t.Table.KeyName(u.Columns), rows: map[xxh3.Uint128]int{}}
		for _, name := range u.Columns {
			c := t.Table.Column(name)
			if i := slices.Index(t.Writes.Columns, c); i >= 0 {
				key.Columns, key.Places = append(key.Columns, c), append(key.Places, t.Writes.Fields[i])
			}
		}
		if !u.Partial && !u.NullsEqual && len(key.Columns) == len(u.Columns) {
			keys = append(keys, key)
		}
	}
	return keys
}

// HashOf is the hash of some of a row's values; false if one is NULL.
func HashOf(values []value.Value, places []int) (xxh3.Uint128, bool) {
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

// Collision is the violation of a row that has a key of a row that was there before,
// other than the one that it is written over; nil if it has none.
func (k *known) Collision(values []value.Value) *store.Violation {
	over := -1
	if k.match >= 0 && k.mode != store.Insert {
		if h, ok := HashOf(values, k.keys[k.match].Places); ok {
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
		if over >= 0 &&
			slices.ContainsFunc(key.Columns, func(c *schema.Column) bool { return !slices.Contains(k.set, c) }) {
			continue // it keeps what it has
		}
		h, ok := HashOf(values, key.Places)
		if !ok {
			continue
		}
		at, found := key.rows[h]
		if !found || at == over {
			continue
		}
		v := key.Violation(values)
		for j, c := range k.primary {
			v.Other = append(v.Other, store.Pair{Column: c.Name, Value: k.rows[at][j]})
		}
		return v
	}
	return nil
}

// Violation is the refusal of a row that has the key of another.
func (key *KnownKey) Violation(values []value.Value) *store.Violation {
	v := &store.Violation{
		Kind:       store.Unique,
		Row:        -1,
		Constraint: key.name,
		Message:    "a row of the table has the same values",
	}
	for j, c := range key.Columns {
		v.Columns, v.Values = append(v.Columns, c.Name), append(v.Values, values[key.Places[j]])
	}
	return v
}

// wantsKnown reports whether it is worth to read the keys of the rows that are there.
func (l *Session) wantsKnown(t *Target) bool {
	return t.Writes.Mode == store.Insert && l.Policy(t, store.Unique) != plan.Stop && t.Out.Before > 0 &&
		t.Out.Before <= MaxKnown
}

// SameColumns reports whether two keys have the same columns, in any order.
func SameColumns(a, b []*schema.Column) bool {
	return len(a) == len(b) && !slices.ContainsFunc(a, func(c *schema.Column) bool { return !slices.Contains(b, c) })
}
