package load

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"evensprout/internal/journal"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// A trigger may rewrite what a load writes: a text in lower case, the time of a change, a
// number of children. So a load of tables with triggers reads its rows back before it ends,
// and the journal keeps what they really hold where that is not what was planned.

// mostRewritten is how much of that is kept, packed: a load must stay readable.
const mostRewritten = journal.MaxJournal / 2

// placeRewritten is the key under which they are kept.
func placeRewritten(load int64) journal.Key { return journal.Key{Load: load, Family: -3} }

// readBack notes what the rows of this load hold where triggers have rewritten it.
func (l *Session) readBack(ctx context.Context, w *Writer) error {
	if !l.mayBeRewritten() {
		return nil
	}
	p, err := Recall(ctx, l.Read.On(w.Store), l.Journal.Number, l.Plan.Database, l.Options.Journal.by())
	if err != nil {
		return err
	}
	defer p.Close()
	reader := &Writer{Session: p.Session, Store: w.Store, Tx: w.Tx}
	w.At, w.Seq = placeRewritten(l.Journal.Number), 0
	kept := 0
	for _, t := range p.Session.List {
		if _, alike := t.Identity(); alike {
			continue // nothing tells which row is which
		}
		for run := range p.Runs(reader, t, StagedChunk) {
			for _, added := range p.Kinds(t) {
				rows := &Pass{}
				st, err := w.Tx.Stage(ctx, p.Compared(t, added), p.Only(reader, t, run, added, rows))
				if err == nil {
					err = reader.Growth
				}
				if err != nil {
					return err
				}
				if rows.N == 0 {
					continue
				}
				if err := l.refuseTaken(ctx, t, st, rows); err != nil {
					return err
				}
				packets, err := rewritten(ctx, t.Table, st, rows)
				if err != nil {
					return err
				}
				for _, x := range packets {
					kept += len(x.Body)
				}
				if kept > mostRewritten {
					l.Result.Unread = true
					return nil
				}
				if err := w.KeepPackets(ctx, t.Plan.Name, t.Table.Name, journal.ContentRewritten, packets); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// refuseTaken reports rows that were written and are not there: a trigger, maybe a deferred one, or a rule has removed
// them again, or led them elsewhere.
func (l *Session) refuseTaken(ctx context.Context, t *Target, st store.Stage, rows *Pass) error {
	taken, err := st.Unmatched(ctx, 0)
	if err != nil || len(taken) == 0 {
		return err
	}
	return &journal.Refusal{
		Kind: store.Raised, Entity: t.Plan.Name, Table: t.Table.Name, Constraint: "trigger or rule",
		Message: fmt.Sprintf("%d of the rows that were written are not in %s, such as %s: a trigger or rule has removed them, or led them "+
			"elsewhere", len(taken), t.Table.Name, t.Grow.Label(rows.Row(taken[0]))),
		Hint: "leave such rows out of the plan, or disable the trigger or rule while you load",
	}
}

// mayBeRewritten reports whether triggers can change what this load writes, and a journal notes it.
func (l *Session) mayBeRewritten() bool {
	return l.Journal != nil && l.Journal.Number != 0 && !l.Options.DryRun &&
		slices.ContainsFunc(l.List, func(t *Target) bool { return len(t.Table.Triggers) > 0 || t.Table.Ruled })
}

// rewritten packs what rows of a table hold in the columns in which some of them differ from
// the staged ones.
func rewritten(ctx context.Context, t *schema.Table, st store.Stage, rows *Pass) ([]journal.Packet, error) {
	differs := map[*schema.Column]bool{}
	err := st.Changes(ctx, func(c store.Change) error {
		differs[c.Column] = true
		return nil
	})
	if err != nil || len(differs) == 0 {
		return nil, err
	}
	var k journal.Packer
	var at []int
	for i, c := range t.Columns {
		if differs[c] {
			k.Columns, at = append(k.Columns, c), append(at, i)
		}
	}
	k.Numbers = true
	values := make([]value.Value, len(at))
	err = st.Prior(ctx, func(n int64, all []value.Value) error {
		for i, j := range at {
			values[i] = all[j]
		}
		return k.Add(rows.Row(n), values)
	})
	return k.Packets, errors.Join(err, k.Close())
}

// rewrites are what rows of an entity hold that a trigger rewrote: packed, but for the
// packets that were used last.
type rewrites struct {
	packets []rewrittenRows // by their first rows
	open    []int           // of packets that are unpacked, the last used one last
}

// rewrittenRows is a packet of rows whose contents a trigger rewrote; it is unpacked when one of them is asked for.
type rewrittenRows struct {
	journal.Packet
	first, last grow.Row
	columns     []string
	values      map[grow.Row][]value.Value // nil unless it is open
}

// mostOpen is how many packets of an entity are kept unpacked.
const mostOpen = 4

// compareRows orders rows as the journal lists them.
func compareRows(a, b grow.Row) int {
	return journal.RowRun{Given: a.Side, First: a.N}.Compare(journal.RowRun{Given: b.Side, First: b.N})
}

// learnRewritten reads what the load found that triggers had rewritten.
func (p *PastLoad) learnRewritten(ctx context.Context, s store.Store) error {
	j, err := s.Journal(ctx, false)
	if err != nil || j == nil {
		return err
	}
	of := j.Contents
	b := journal.NewBudget()
	p.rewrites = map[string]*rewrites{}
	q := store.Query{Table: of, Where: journal.Cells(of, "load", p.Entry.Number, "what", journal.ContentRewritten)}
	err = journal.Read(ctx, s, q, []string{"entity", "rows", "body"}, func(c journal.Record) error {
		if err := b.Take(c); err != nil {
			return err
		}
		x := rewrittenRows{Packet: journal.Packet{Rows: c.Int("rows"), Body: c.Bytes("body")}}
		none := true
		err := journal.Unpack(
			x.Body,
			x.Rows,
			true,
			func(columns []string, planned grow.Row, _ []value.Value) error {
				if x.columns = columns; none || compareRows(planned, x.first) < 0 {
					x.first = planned
				}
				if none || compareRows(planned, x.last) > 0 {
					x.last = planned
				}
				none = false
				return nil
			},
		)
		if err != nil || none {
			return err
		}
		r := p.rewrites[c.Text("entity")]
		if r == nil {
			r = &rewrites{}
			p.rewrites[c.Text("entity")] = r
		}
		r.packets = append(r.packets, x)
		return nil
	})
	for _, r := range p.rewrites {
		slices.SortFunc(r.packets, func(a, b rewrittenRows) int { return compareRows(a.first, b.first) })
	}
	return err
}

// of is what a row holds, with the names of its columns; nil if nothing was rewritten.
func (r *rewrites) of(row grow.Row) ([]string, []value.Value, error) {
	if r == nil {
		return nil, nil, nil
	}
	n, _ := slices.BinarySearchFunc(r.packets, row, func(x rewrittenRows, row grow.Row) int {
		if compareRows(x.first, row) <= 0 {
			return -1
		}
		return 1
	})

	// Rows that were added and those that were changed are in packets of their own.
	for i := n - 1; i >= 0 && i >= n-mostOpen; i-- {
		x := &r.packets[i]
		if compareRows(x.last, row) < 0 {
			continue
		}
		if err := r.unpack(i); err != nil {
			return nil, nil, err
		}
		if values, ok := x.values[row]; ok {
			return x.columns, values, nil
		}
	}
	return nil, nil, nil
}

// unpack reads a packet of rewritten rows, once.
func (r *rewrites) unpack(i int) error {
	x := &r.packets[i]
	if x.values != nil {
		return nil
	}
	if len(r.open) == mostOpen {
		r.packets[r.open[0]].values = nil
		r.open = r.open[1:]
	}
	r.open = append(r.open, i)
	x.values = make(map[grow.Row][]value.Value, x.Rows)
	return journal.Unpack(x.Body, x.Rows, true, func(_ []string, planned grow.Row, values []value.Value) error {
		x.values[planned] = values
		return nil
	})
}

// asRewritten puts what triggers made of a row in the place of what was planned.
func (p *PastLoad) asRewritten(t *Target, row grow.Row, values []value.Value) error {
	names, held, err := p.rewrites[t.Plan.Name].of(row)
	if err != nil {
		return fmt.Errorf("%s: %w", t.Grow.Label(row), err)
	}
	for i, name := range names {
		f := slices.IndexFunc(t.Columns, func(c *schema.Column) bool { return c != nil && c.Name == name })
		if f >= 0 {
			values[f] = held[i]
		}
	}
	return nil
}
