package load

import (
	"fmt"
	"slices"

	"evensprout/internal/journal"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Memory is what the logs of earlier chunks say about the rows of a plan.
type Memory struct {
	set      *grow.Set
	record   *grow.Record
	real     map[*grow.Entity]map[value.Value]value.Value
	keys     map[*grow.Entity]map[grow.Row]value.Value // real keys by row, of all that are noted
	inserted map[*grow.Entity][]journal.RowRun
	columns  map[*grow.Entity]*schema.Column // of the keys
	steps    map[*grow.Entity][]keyRun
}

// NewMemory knows nothing yet.
func NewMemory(c *plan.Compiled) *Memory {
	m := &Memory{
		set: c.Set, record: grow.NewRecord(), real: map[*grow.Entity]map[value.Value]value.Value{},
		keys: map[*grow.Entity]map[grow.Row]value.Value{}, inserted: map[*grow.Entity][]journal.RowRun{},
		columns: map[*grow.Entity]*schema.Column{},
		steps:   map[*grow.Entity][]keyRun{},
	}
	for _, t := range c.Targets {
		if t.Grow.Key != nil && t.Columns != nil {
			m.columns[t.Grow] = t.Columns[slices.Index(t.Grow.Fields, t.Grow.Key)]
		}
	}
	return m
}

// entity finds an entity, and a row of it; nil if the plan does not have it.
func (m *Memory) entity(name string, given bool, last uint64) *grow.Entity {
	for _, e := range m.set.Entities {
		if e.Name != name {
			continue
		}
		if given && last >= uint64(len(e.Side)) || !given && last >= e.Rows {
			return nil
		}
		return e
	}
	return nil
}

// Learn takes a chunk's log into account.
func (m *Memory) Learn(c *journal.Log) error {
	for _, x := range c.Rejected {
		e := m.entity(x.Entity, x.Given, x.Row)
		if e == nil {
			return unknownRow(x.Entity)
		}
		m.record.Reject(e, grow.Row{N: x.Row, Side: x.Given})
	}

	for _, x := range c.Redrawn {
		e := m.entity(x.Entity, x.Given, x.Row)
		if e == nil {
			return unknownRow(x.Entity)
		}
		i := slices.IndexFunc(e.Fields, func(f *grow.Field) bool { return f.Name == x.Field })
		if i < 0 {
			return fmt.Errorf("the journal names a field %s.%s that the plan does not have", x.Entity, x.Field)
		}
		m.record.Retry(e.Fields[i], grow.Row{N: x.Row, Side: x.Given}, x.Attempt)
	}

	for _, x := range c.Inserted {
		e := m.entity(x.Entity, x.Given, x.First+x.Rows-1)
		if e == nil {
			return unknownRow(x.Entity)
		}
		m.inserted[e] = append(m.inserted[e], x)
	}

	if len(c.Keys) == 0 {
		return nil
	}
	return m.learnAllKeys(c.Keys)
}

// unknownRow refuses a journal that names a row which the plan does not have.
func unknownRow(entity string) error {
	return fmt.Errorf("the journal names a row of %s that the plan does not have", entity)
}

// learnAllKeys notes which keys the database gave to rows.
func (m *Memory) learnAllKeys(keys []journal.Keys) error {
	m.set.Record = m.record
	g := grow.NewGrower(m.set)
	defer g.Close()
	for _, x := range keys {
		e := m.entity(x.Entity, x.Given, x.First+x.Rows-1)
		if e == nil || m.columns[e] == nil || x.Texts != nil && uint64(len(x.Texts)) != x.Rows {
			return unknownRow(x.Entity)
		}
		if x.Run {
			if err := m.learnRun(g, e, x); err != nil {
				return err
			}
			continue
		}
		if err := m.learnKeys(g, e, x); err != nil {
			return err
		}
	}
	return nil
}

// learnKeys learns the keys that rows were given.
func (m *Memory) learnKeys(g *grow.Grower, e *grow.Entity, x journal.Keys) error {
	if m.real[e] == nil {
		m.real[e] = map[value.Value]value.Value{}
	}
	if m.keys[e] == nil { // what is learnt may go into the keys of a load that goes on
		m.keys[e] = map[grow.Row]value.Value{}
	}
	at := slices.Index(e.Fields, e.Key)
	var b grow.Batch
	for i := range x.Rows {
		row := grow.Row{N: x.First + i, Side: x.Given}
		key := value.Int(x.From + int64(i))
		if x.Texts != nil {
			v, err := readKey(m.columns[e], x.Texts[i])
			if err != nil {
				return fmt.Errorf("the journal's key of %s: %w", e.Label(row), err)
			}
			key = v
		}
		g.Grow(e, row, 1, &b)
		if err := g.Err(); err != nil {
			return err
		}
		m.real[e][b.Row(0)[at]], m.keys[e][row] = key, key
	}
	return nil
}

// readKey reads a key as noted.
func readKey(c *schema.Column, text string) (value.Value, error) {
	switch c.Kind {
	case schema.Integer:
		return value.ParseDecimal(text)
	case schema.UUID:
		return value.ParseUUID(text)
	case schema.Date:
		return value.ParseDate(text)
	case schema.Timestamp:
		return value.ParseTimestamp(text)
	case schema.Decimal:
		return value.ParseDecimal(text)
	}
	return value.String(text), nil
}
