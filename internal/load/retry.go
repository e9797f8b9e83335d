package load

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/archive"
	"evensprout/internal/journal"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
)

// retryPrefix marks sets of rows that were left out by earlier loads, and tried again.
const retryPrefix = "retry "

// LeftOut are the rows that the loads of a plan left out, as they would have been written,
// without those that were tried again since and went in. set is the name under which the
// journal is to keep the next try.
func LeftOut(
	ctx context.Context,
	r journal.Reader,
	name string,
	db *schema.Database,
	by archive.Operator,
) (rows []*Rejection, set string, err error) {
	entries, err := r.Entries(ctx, name)
	if err != nil {
		return nil, "", err
	}
	slices.SortFunc(entries, func(a, b *journal.Entry) int { return cmp.Compare(a.Number, b.Number) })
	tries := 0
	for _, e := range entries {
		retry := strings.HasPrefix(e.Extra, retryPrefix)
		if retry {
			tries++
		}
		switch {
		case e.State != journal.StateDone || e.About.Unit != "":
		case retry:
			if rows, err = stillOut(ctx, r, e, rows); err != nil {
				return nil, "", err
			}
		case e.Extra == "":
			more, err := leftOutBy(ctx, r, e, db, by)
			if err != nil {
				return nil, "", err
			}
			rows = append(rows, more...)
		}
	}
	return rows, fmt.Sprintf("%s%d", retryPrefix, tries+1), nil
}

// leftOutBy are the rows that one load left out.
func leftOutBy(
	ctx context.Context,
	r journal.Reader,
	e *journal.Entry,
	db *schema.Database,
	by archive.Operator,
) (rows []*Rejection, err error) {
	p, err := Recall(ctx, r, e.Number, db, by)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	w := &Writer{Session: p.Session, Store: r.Store}
	defer w.Close()
	for _, c := range p.Chunks {
		for _, x := range c.Log.Rejected {
			t := p.Session.Named(x.Entity)
			if t == nil || x.Refusal == nil {
				return nil, fmt.Errorf("the journal names a row of %s that the plan does not have", x.Entity)
			}
			rows = append(rows, w.rejection(t, grow.Row{N: x.Row, Side: x.Given}, x.Refusal))
		}
	}
	return rows, w.Grower().Err()
}

// stillOut are the rows that a further try left out again.
func stillOut(ctx context.Context, r journal.Reader, e *journal.Entry, rows []*Rejection) ([]*Rejection, error) {
	chunks, err := r.Chunks(ctx, e.Number)
	if err != nil {
		return nil, err
	}
	again := map[string]map[uint64]bool{} // by entity: places among its rows
	for _, c := range chunks {
		for _, x := range c.Log.Rejected {
			if again[x.Entity] == nil {
				again[x.Entity] = map[uint64]bool{}
			}
			again[x.Entity][x.Row] = true
		}
	}
	place := map[string]uint64{}
	return slices.DeleteFunc(rows, func(r *Rejection) bool {
		at := place[r.Refusal.Entity]
		place[r.Refusal.Entity]++
		return !again[r.Refusal.Entity][at]
	}), nil
}

// countLeftOut counts the rows of a plan's loads that were left out, and not loaded since.
func countLeftOut(ctx context.Context, r journal.Reader, name string) (int64, error) {
	entries, err := r.Entries(ctx, name)
	if err != nil {
		return 0, err
	}
	n := int64(0)
	for _, e := range entries {
		if e.State != journal.StateDone || e.Summary == nil {
			continue
		}
		for _, x := range e.Summary.Entities {
			switch {
			case e.About.Corrected:
				n -= x.Inserted + x.Updated
			case e.Extra == "":
				n += x.Rejected
			}
		}
	}
	return max(n, 0), nil
}
