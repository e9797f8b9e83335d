package load

import (
	"bytes"
	"cmp"
	"compress/flate"
	"encoding/json"
	"fmt"
	"io"
	"slices"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// chunkLog is what a chunk did that no pure function of the plan knows. It is kept in
// the journal as compressed JSON.
type chunkLog struct {
	Rejected []loggedReject `json:"rejected,omitempty"`
	Redrawn  []loggedDraw   `json:"redrawn,omitempty"`
	Keys     []loggedKeys   `json:"keys,omitempty"`     // where they are not the planned ones
	Inserted []loggedRows   `json:"inserted,omitempty"` // of entities whose rows may be there before
	Left     []loggedRows   `json:"left,omitempty"`     // of a withdrawal: rows that it left alone
}

type loggedReject struct {
	Entity  string   `json:"entity"`
	Given   bool     `json:"given,omitempty"`
	Row     uint64   `json:"row"`
	Refusal *Refusal `json:"refusal"`
}

type loggedDraw struct {
	Entity  string `json:"entity"`
	Field   string `json:"field"`
	Given   bool   `json:"given,omitempty"`
	Row     uint64 `json:"row"`
	Attempt uint64 `json:"attempt"`
}

// loggedRows is consecutive rows.
type loggedRows struct {
	Entity string `json:"entity"`
	Given  bool   `json:"given,omitempty"`
	First  uint64 `json:"first"`
	Rows   uint64 `json:"rows"`
}

// compare orders by the first row, those written by hand first.
func (r loggedRows) compare(o loggedRows) int {
	if r.Given != o.Given {
		if r.Given {
			return -1
		}
		return 1
	}
	return cmp.Compare(r.First, o.First)
}

// loggedKeys is the keys of consecutive rows: as texts, or, of whole numbers that
// follow each other, the first alone.
type loggedKeys struct {
	loggedRows
	From  int64    `json:"from,omitempty"`
	Run   bool     `json:"run,omitempty"` // planned numbers were taken, and these are in their place
	Texts []string `json:"texts,omitempty"`
}

func (c *chunkLog) empty() bool {
	return len(c.Rejected)+len(c.Redrawn)+len(c.Keys)+len(c.Inserted)+len(c.Left) == 0
}

func (c *chunkLog) add(d chunkLog) {
	c.Rejected = append(c.Rejected, d.Rejected...)
	c.Redrawn = append(c.Redrawn, d.Redrawn...)
	c.Keys = append(c.Keys, d.Keys...)
	c.Inserted = append(c.Inserted, d.Inserted...)
}

// insert notes rows that were added.
func (c *chunkLog) insert(entity string, rows []grow.Row) {
	c.Inserted = appendRows(c.Inserted, entity, rows)
}

// appendRows notes rows, consecutive ones together.
func appendRows(to []loggedRows, entity string, rows []grow.Row) []loggedRows {
	for _, r := range rows {
		if n := len(to); n > 0 {
			if last := &to[n-1]; last.Entity == entity && last.Given == r.Side && last.First+last.Rows == r.N {
				last.Rows++
				continue
			}
		}
		to = append(to, loggedRows{entity, r.Side, r.N, 1})
	}
	return to
}

// key notes the keys of consecutive rows.
func (c *chunkLog) key(entity string, first grow.Row, keys []value.Value) {
	rows := loggedRows{entity, first.Side, first.N, uint64(len(keys))}
	dense := true
	for i, k := range keys {
		dense = dense && k.Type == value.Integer && k.N == keys[0].N+int64(i)
	}
	if dense {
		c.Keys = append(c.Keys, loggedKeys{loggedRows: rows, From: keys[0].N})
		return
	}
	texts := make([]string, len(keys))
	for i, k := range keys {
		texts[i] = k.String()
	}
	c.Keys = append(c.Keys, loggedKeys{loggedRows: rows, Texts: texts})
}

// pack is the log in the journal; empty if there is nothing to say.
func (c *chunkLog) pack() ([]byte, error) {
	if c.empty() {
		return nil, nil
	}
	text, err := json.Marshal(c)
	if err != nil {
		return nil, err
	}
	return deflated(text)
}

// unpackLog reads a log; what it unpacks to is taken from a budget.
func unpackLog(data []byte, b *budget) (*chunkLog, error) {
	c := &chunkLog{}
	if len(data) == 0 {
		return c, nil
	}
	text, err := inflated(data, b)
	if err != nil {
		return nil, err
	}
	return c, json.Unmarshal(text, c)
}

func deflated(data []byte) ([]byte, error) {
	var b bytes.Buffer
	w, err := flate.NewWriter(&b, flate.DefaultCompression)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(data); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

func inflated(data []byte, b *budget) ([]byte, error) {
	out, err := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(data)), b.left+1))
	if err == nil {
		err = b.spend(int64(len(out)))
	}
	return out, err
}

// memory is what the logs of earlier chunks say about the rows of a plan.
type memory struct {
	set      *grow.Set
	record   *grow.Record
	real     map[*grow.Entity]map[value.Value]value.Value
	keys     map[*grow.Entity]map[grow.Row]value.Value // real keys by row, of all that are noted
	inserted map[*grow.Entity][]loggedRows
	columns  map[*grow.Entity]*schema.Column // of the keys
	steps    map[*grow.Entity][]keyRun
}

func newMemory(c *plan.Compiled) *memory {
	m := &memory{
		set: c.Set, record: grow.NewRecord(), real: map[*grow.Entity]map[value.Value]value.Value{},
		keys: map[*grow.Entity]map[grow.Row]value.Value{}, inserted: map[*grow.Entity][]loggedRows{}, columns: map[*grow.Entity]*schema.Column{},
		steps: map[*grow.Entity][]keyRun{},
	}
	for _, t := range c.Targets {
		if t.Grow.Key != nil && t.Columns != nil {
			m.columns[t.Grow] = t.Columns[slices.Index(t.Grow.Fields, t.Grow.Key)]
		}
	}
	return m
}

// entity finds an entity, and a row of it; nil if the plan does not have it.
func (m *memory) entity(name string, given bool, last uint64) *grow.Entity {
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

// learn takes a chunk's log into account.
func (m *memory) learn(c *chunkLog) error {
	unknown := func(entity string) error {
		return fmt.Errorf("the journal speaks of a row of %s that the plan does not have", entity)
	}
	for _, x := range c.Rejected {
		e := m.entity(x.Entity, x.Given, x.Row)
		if e == nil {
			return unknown(x.Entity)
		}
		m.record.Reject(e, grow.Row{N: x.Row, Side: x.Given})
	}
	for _, x := range c.Redrawn {
		e := m.entity(x.Entity, x.Given, x.Row)
		if e == nil {
			return unknown(x.Entity)
		}
		i := slices.IndexFunc(e.Fields, func(f *grow.Field) bool { return f.Name == x.Field })
		if i < 0 {
			return fmt.Errorf("the journal speaks of a field %s.%s that the plan does not have", x.Entity, x.Field)
		}
		m.record.Retry(e.Fields[i], grow.Row{N: x.Row, Side: x.Given}, x.Attempt)
	}
	for _, x := range c.Inserted {
		e := m.entity(x.Entity, x.Given, x.First+x.Rows-1)
		if e == nil {
			return unknown(x.Entity)
		}
		m.inserted[e] = append(m.inserted[e], x)
	}
	if len(c.Keys) == 0 {
		return nil
	}
	m.set.Record = m.record
	g := grow.NewGrower(m.set)
	defer g.Close()
	for _, x := range c.Keys {
		e := m.entity(x.Entity, x.Given, x.First+x.Rows-1)
		if e == nil || m.columns[e] == nil || x.Texts != nil && uint64(len(x.Texts)) != x.Rows {
			return unknown(x.Entity)
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

func (m *memory) learnKeys(g *grow.Grower, e *grow.Entity, x loggedKeys) error {
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
