// Package prove tries drafts: their rows are loaded in a transaction that is rolled back. What the database refuses is
// narrowed to what it accepts, or left out, and the draft is tried again, until it loads.
package prove

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"regexp"
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
	Sample  bool          `json:"sample"` // the draft has more rows
	Mended  []Mended      `json:"mended"` // what was changed, and why
	Elapsed time.Duration `json:"elapsed_ns"`
}

// Mended is a change of a draft, because the database refuses its rows.
type Mended struct {
	Table  string `json:"table"`
	Column string `json:"column,omitempty"` // empty: the whole table
	Action string `json:"action"`           // left out, narrowed or fewer rows
	Reason string `json:"reason"`
}

// Database is where drafts are tried.
type Database struct {
	Store    store.Store
	Tables   *schema.Database
	Existing func(*schema.Table) (grow.Table, error)    // the rows of a table
	Again    func(context.Context) (store.Store, error) // another connection
	Full     bool                                       // all rows of a draft are tried, however many there are
}

// mostTries bounds how often a draft is changed and tried again.
const mostTries = 40

// What a change can be.
const (
	LeftOut  = "left out"
	narrower = "narrowed"
	fewer    = "fewer rows"
)

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

// Draft makes a draft that loads. Each trial is rolled back. There is no proof of a draft without tables.
func Draft(ctx context.Context, db Database, o draft.Options) (*draft.Draft, *Proof, error) {
	begun := time.Now()
	proof := &Proof{Mended: []Mended{}}
	steps := newLadder(&o.Found)
	var first error // the first failure
	for {
		tried := db.sample(o)
		d, err := draft.Make(ctx, db.Tables, tried)
		if err != nil {
			return nil, nil, err
		}
		if len(d.Tables) == 0 && first == nil {
			return d, nil, nil // there is nothing to prove
		}
		if len(d.Tables) == 0 {
			return d, nil, fmt.Errorf("%w: %w", ErrUnproved, first)
		}
		proof.Tries++
		text := d.Write(tried)
		x, err := try(ctx, db, text)
		var wrong diag.Problems
		var failed *load.Unwritten
		var stuck *journal.Refusal
		var mended []Mended
		switch {
		case errors.As(err, &wrong):
			mended = steps.misread(db.Tables, text, wrong)
		case errors.As(err, &stuck):
			mended, first = x.mendStuck(steps, stuck), cmp.Or(first, err)
			x.compiled.Close()
		case errors.As(err, &failed) && ctx.Err() == nil:
			mended, first = x.mendFailed(steps, failed), cmp.Or(first, err)
			x.compiled.Close()
		case err != nil:
			if x != nil {
				x.compiled.Close()
			}
			return d, nil, fmt.Errorf("%w: %w", ErrUnproved, err)
		case x.result.Rejected == 0:
			proof.Tables, proof.Rows, proof.Elapsed = len(x.result.Entities), x.result.Rows, time.Since(begun)
			proof.Mended, proof.Sample = standing(proof.Mended), tried.Rows != o.Rows || tried.Size != o.Size
			if err := x.compiled.Close(); err != nil || !proof.Sample {
				return d, proof, err
			}
			d, err := draft.Make(ctx, db.Tables, o)
			return d, proof, err
		default:
			mended = x.mend(steps)
			err = fmt.Errorf("the database refuses %s", diag.Count(x.result.Rejected, "row", "rows"))
			x.compiled.Close()
		}
		if len(mended) == 0 || proof.Tries == mostTries {
			return d, nil, fmt.Errorf("%w: %w", ErrUnproved, err)
		}
		proof.Mended = append(proof.Mended, mended...)
	}
}

// sampleRows is how many rows a root table has at most in a sample.
const sampleRows = 1000

// sample are the options of a draft that is as large as is tried.
func (db Database) sample(o draft.Options) draft.Options {
	if !db.Full {
		o.Rows, o.Size = min(o.Rows, sampleRows), min(o.Size, sampleRows)
	}
	return o
}

// standing are changes without those of tables that were left out afterwards.
func standing(list []Mended) []Mended {
	out := []Mended{}
	for i, m := range list {
		if m.Column != "" || m.Action != LeftOut {
			if slices.ContainsFunc(list[i+1:], func(o Mended) bool {
				return o.Table == m.Table && (o.Column == "" && o.Action == LeftOut || o.Column == m.Column)
			}) {
				continue
			}
		}
		out = append(out, m)
	}
	return out
}

// trial is a draft that was loaded and rolled back.
type trial struct {
	compiled *plan.Compiled
	result   *journal.Result
	refused  map[string]map[grow.Row]*journal.Refusal // by entity
}

// try loads a draft without the rows that are refused, and rolls it back.
func try(ctx context.Context, db Database, text string) (*trial, error) {
	p, err := plan.Read("draft.yaml", []byte(text))
	if err != nil {
		return nil, err
	}
	p.OnViolation = plan.Policies{plan.AllKinds: plan.Skip} // an entity may redraw what is unique
	compiled, err := p.Compile(plan.Options{Database: db.Tables, Existing: db.Existing})
	if err != nil {
		return nil, err
	}
	x := &trial{compiled: compiled, refused: map[string]map[grow.Row]*journal.Refusal{}}
	x.result, err = load.Run(ctx, x.compiled, db.Store, load.Options{
		DryRun: true, Again: db.Again, Jobs: 1,
		Rejected: func(r load.Rejection) error {
			of := x.refused[r.Refusal.Entity]
			if of == nil {
				of = map[grow.Row]*journal.Refusal{}
				x.refused[r.Refusal.Entity] = of
			}
			of[r.Row] = r.Refusal
			return nil
		},
	})
	return x, err
}

// mendStuck changes the draft of a table for which not enough values are free.
func (x *trial) mendStuck(steps *ladder, r *journal.Refusal) []Mended {
	t := x.compiled.Target(r.Entity)
	if t == nil || t.Table == nil {
		return nil
	}
	return steps.mend(&refused{Target: t, refusal: r, trial: x, summary: strings.TrimSpace(r.Summary())})
}

// mendFailed changes the draft of a table at whose rows the database failed.
func (x *trial) mendFailed(steps *ladder, failed *load.Unwritten) []Mended {
	t := x.compiled.Target(failed.Entity)
	if t == nil || t.Table == nil {
		return nil
	}
	why := failed.Err.Error()
	return steps.mend(&refused{Target: t, refusal: &journal.Refusal{Message: why}, trial: x, summary: why})
}

// mostly is the first refusal for the reason for which most rows of an entity are refused.
func (x *trial) mostly(e journal.Entity) *journal.Refusal {
	most, count := e.Refused, map[string]int{}
	for _, row := range slices.SortedFunc(maps.Keys(x.refused[e.Entity]), func(a, b grow.Row) int {
		return cmp.Compare(a.N, b.N)
	}) {
		r := x.refused[e.Entity][row]
		if r.Constraint == journal.Consequence {
			continue
		}
		count[reasonOf(r)]++
		if count[reasonOf(r)] == 1 && count[reasonOf(most)] == 0 || count[reasonOf(r)] > count[reasonOf(most)] {
			most = r
		}
	}
	return most
}

// reasonOf tells refusals for one reason from others.
func reasonOf(r *journal.Refusal) string {
	if r.Constraint != "" {
		return string(r.Kind) + " " + r.Constraint
	}
	return string(r.Kind) + " " + strings.Join(r.Columns, ",") + digits.ReplaceAllString(r.Message, "0")
}

var digits = regexp.MustCompile(`[0-9]+`)

// mend changes the draft of each table whose rows are refused for a reason of their own.
func (x *trial) mend(steps *ladder) []Mended {
	var out []Mended
	for _, e := range x.result.Entities {
		t := x.compiled.Target(e.Entity)
		if e.Refused == nil || e.Rejected == 0 || e.Refused.Constraint == journal.Consequence || t == nil ||
			t.Table == nil {
			continue
		}
		r := &refused{Target: t, refusal: x.mostly(e), trial: x}
		r.summary = strings.TrimSpace(r.refusal.Summary())
		r.compared = x.compare(r, own(t, r.names))
		out = append(out, steps.mend(r)...)
	}
	return out
}

// String says what was proved; not how long it took, so that a draft is the same each time.
func (p *Proof) String() string {
	text := fmt.Sprintf("%s into %s, loaded and rolled back", diag.Count(p.Rows, "row", "rows"),
		diag.Count(p.Tables, "table", "tables"))
	if p.Sample {
		text = "a sample, " + text
	}
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
