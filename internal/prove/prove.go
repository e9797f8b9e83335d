// Package prove tries drafts: their rows are loaded in a transaction that is rolled back. What the database refuses is
// left out of the draft, and it is tried again, until it loads.
package prove

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"evensprout/internal/diag"
	"evensprout/internal/draft"
	"evensprout/internal/grow"
	"evensprout/internal/journal"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// Proof is what trying a draft has shown.
type Proof struct {
	Tables  int           `json:"tables"` // that have rows
	Rows    int64         `json:"rows"`
	Tries   int           `json:"tries"`
	Mended  []Mended      `json:"mended"` // what was left out, and why
	Elapsed time.Duration `json:"elapsed_ns"`
}

// Mended is a column or a table that a draft leaves out, because the database refuses its rows.
type Mended struct {
	Table  string `json:"table"`
	Column string `json:"column,omitempty"` // empty: the whole table
	Reason string `json:"reason"`
}

// Database is where drafts are tried.
type Database struct {
	Store    store.Store
	Tables   *schema.Database
	Existing func(*schema.Table) (grow.Table, error)    // the rows of a table
	Again    func(context.Context) (store.Store, error) // another connection
}

// mostTries bounds how often a draft is changed and tried again.
const mostTries = 25

// ErrUnproved tells that no draft was found that loads.
var ErrUnproved = errors.New("the draft was not proved")

// Unsafe names a table whose rows no transaction takes back, so that nothing can be tried; empty if there is none.
func Unsafe(db *schema.Database) string {
	for _, t := range db.Tables {
		if t.Unsafe {
			return t.Name
		}
	}
	return ""
}

// Draft makes a draft that loads. Each trial is rolled back.
func Draft(ctx context.Context, db Database, o draft.Options) (*draft.Draft, *Proof, error) {
	begun := time.Now()
	proof := &Proof{Mended: []Mended{}}
	o.Avoid, o.Without = map[*schema.Column]string{}, map[*schema.Table]string{}
	for {
		d, err := draft.Make(ctx, db.Tables, o)
		if err != nil {
			return nil, nil, err
		}
		proof.Tries++
		r, err := try(ctx, db, d, o)
		if err != nil {
			return d, nil, fmt.Errorf("%w: %w", ErrUnproved, err)
		}
		if r.Rejected == 0 {
			proof.Tables, proof.Rows, proof.Elapsed = len(r.Entities), r.Rows, time.Since(begun)
			return d, proof, nil
		}
		mended := mend(db.Tables, r, &o)
		if len(mended) == 0 || proof.Tries == mostTries {
			return d, nil, fmt.Errorf("%w: the database refuses %s", ErrUnproved, diag.Count(r.Rejected, "row", "rows"))
		}
		proof.Mended = append(proof.Mended, mended...)
	}
}

// try loads a draft, leaves out what is refused, and rolls it back.
func try(ctx context.Context, db Database, d *draft.Draft, o draft.Options) (*journal.Result, error) {
	p, err := plan.Read("draft.yaml", []byte(d.Write(o)))
	if err != nil {
		return nil, err
	}
	c, err := p.Compile(plan.Options{Database: db.Tables, Existing: db.Existing})
	if err != nil {
		return nil, err
	}
	defer c.Close()
	return load.Run(ctx, c, db.Store, load.Options{DryRun: true, Policies: plan.Policies{plan.AllKinds: plan.Skip},
		Again: db.Again, Jobs: 1})
}

// mend leaves out what the database refuses: a column that may be left out, or else the table.
func mend(db *schema.Database, r *journal.Result, o *draft.Options) []Mended {
	var out []Mended
	for _, e := range r.Entities {
		if e.Refused == nil || e.Rejected == 0 || e.Refused.Constraint == "consequence" {
			continue
		}
		t := db.Table(e.Table)
		if t == nil || o.Without[t] != "" {
			continue
		}
		reason := "the database refuses its rows: " + strings.TrimSpace(e.Refused.Summary())
		if c := spare(t, e.Refused, o); c != nil {
			o.Avoid[c] = reason
			out = append(out, Mended{t.Name, c.Name, reason})
			continue
		}
		o.Without[t] = reason
		out = append(out, Mended{Table: t.Name, Reason: reason})
	}
	return out
}

// spare is a column that a refusal is about and that rows can be without; nil if there is none.
func spare(t *schema.Table, r *journal.Refusal, o *draft.Options) *schema.Column {
	for _, name := range slices.Concat(r.Columns, r.Fields) {
		c := t.Column(name)
		if c != nil && o.Avoid[c] == "" && (!c.NotNull || c.Default) && !t.IsKey(c.Name) {
			return c
		}
	}
	return nil
}

// String says what was proved; not how long it took, so that a draft is the same each time.
func (p *Proof) String() string {
	text := fmt.Sprintf("%s into %s, loaded and rolled back", diag.Count(p.Rows, "row", "rows"),
		diag.Count(p.Tables, "table", "tables"))
	if p.Tries > 1 {
		text += fmt.Sprintf(", at the %s try", ordinal(p.Tries))
	}
	return text
}

// ordinal is a number such as 2nd.
func ordinal(n int) string {
	switch {
	case n%100 >= 11 && n%100 <= 13:
	case n%10 == 1:
		return fmt.Sprintf("%dst", n)
	case n%10 == 2:
		return fmt.Sprintf("%dnd", n)
	case n%10 == 3:
		return fmt.Sprintf("%drd", n)
	}
	return fmt.Sprintf("%dth", n)
}
