package journal

import (
	"bytes"
	"cmp"
	"compress/flate"
	"encoding/json"
	"io"

	"evensprout/internal/grow"
	"evensprout/internal/value"
)

// Log is what a chunk did that no pure function of the plan knows. It is kept in
// the journal as compressed JSON.
type Log struct {
	Rejected []RejectedRow `json:"rejected,omitempty"`
	Redrawn  []DrawnRow    `json:"redrawn,omitempty"`
	Keys     []Keys        `json:"keys,omitempty"`     // where they are not the planned ones
	Inserted []RowRun      `json:"inserted,omitempty"` // of entities whose rows may be there before
	Left     []RowRun      `json:"left,omitempty"`     // of a withdrawal: rows that it left alone
}

// RejectedRow is a row that was left out, and why.
type RejectedRow struct {
	Entity  string   `json:"entity"`
	Given   bool     `json:"given,omitempty"`
	Row     uint64   `json:"row"`
	Refusal *Refusal `json:"refusal"`
}

// DrawnRow is a field of a row whose value was drawn again, and how often.
type DrawnRow struct {
	Entity  string `json:"entity"`
	Field   string `json:"field"`
	Given   bool   `json:"given,omitempty"`
	Row     uint64 `json:"row"`
	Attempt uint64 `json:"attempt"`
}

// RowRun is consecutive rows of an entity.
type RowRun struct {
	Entity string `json:"entity"`
	Given  bool   `json:"given,omitempty"`
	First  uint64 `json:"first"`
	Rows   uint64 `json:"rows"`
}

// Compare orders by the first row, those written by hand first.
func (r RowRun) Compare(o RowRun) int {
	if r.Given != o.Given {
		if r.Given {
			return -1
		}
		return 1
	}
	return cmp.Compare(r.First, o.First)
}

// Keys are the keys of consecutive rows: as texts, or, of whole numbers that
// follow each other, the first alone.
type Keys struct {
	RowRun
	From  int64    `json:"from,omitempty"`
	Run   bool     `json:"run,omitempty"` // planned numbers were taken, and these are in their place
	Texts []string `json:"texts,omitempty"`
}

// Empty reports whether there is nothing to keep.
func (c *Log) Empty() bool {
	return len(c.Rejected)+len(c.Redrawn)+len(c.Keys)+len(c.Inserted)+len(c.Left) == 0
}

// Add appends what another log holds.
func (c *Log) Add(d Log) {
	c.Rejected = append(c.Rejected, d.Rejected...)
	c.Redrawn = append(c.Redrawn, d.Redrawn...)
	c.Keys = append(c.Keys, d.Keys...)
	c.Inserted = append(c.Inserted, d.Inserted...)
}

// Insert notes rows that were added.
func (c *Log) Insert(entity string, rows []grow.Row) {
	c.Inserted = AppendRows(c.Inserted, entity, rows)
}

// AppendRows notes rows, consecutive ones together.
func AppendRows(to []RowRun, entity string, rows []grow.Row) []RowRun {
	for _, r := range rows {
		if n := len(to); n > 0 {
			if last := &to[n-1]; last.Entity == entity && last.Given == r.Side && last.First+last.Rows == r.N {
				last.Rows++
				continue
			}
		}
		to = append(to, RowRun{entity, r.Side, r.N, 1})
	}
	return to
}

// Key notes the keys of consecutive rows.
func (c *Log) Key(entity string, first grow.Row, keys []value.Value) {
	rows := RowRun{entity, first.Side, first.N, uint64(len(keys))}
	dense := true
	for i, k := range keys {
		dense = dense && k.Type == value.Integer && k.N == keys[0].N+int64(i)
	}
	if dense {
		c.Keys = append(c.Keys, Keys{RowRun: rows, From: keys[0].N})
		return
	}
	texts := make([]string, len(keys))
	for i, k := range keys {
		texts[i] = k.String()
	}
	c.Keys = append(c.Keys, Keys{RowRun: rows, Texts: texts})
}

// Pack is the log in the journal; empty if there is nothing to say.
func (c *Log) Pack() ([]byte, error) {
	if c.Empty() {
		return nil, nil
	}
	text, err := json.Marshal(c)
	if err != nil {
		return nil, err
	}
	return deflated(text)
}

// UnpackLog reads a log; what it unpacks to is taken from a budget.
func UnpackLog(data []byte, b *Budget) (*Log, error) {
	c := &Log{}
	if len(data) == 0 {
		return c, nil
	}
	text, err := inflated(data, b)
	if err != nil {
		return nil, err
	}
	return c, json.Unmarshal(text, c)
}

// deflated packs bytes (RFC 1951).
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

// inflated unpacks bytes within a budget.
func inflated(data []byte, b *Budget) ([]byte, error) {
	out, err := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(data)), b.Left+1))
	if err == nil {
		err = b.spend(int64(len(out)))
	}
	return out, err
}
