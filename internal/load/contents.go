package load

import (
	"context"
	"errors"

	"evensprout/internal/journal"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Undoes reports whether previous contents are kept.
func (l *Session) Undoes() bool { return l.Journal != nil && l.Journal.Undo && !l.Options.DryRun }

// prior is what staged rows find in the table, looked at before they are written.
type prior struct {
	fresh   []int64 // rows that are not there
	guessed bool    // fresh was not looked for: it seems that all are there, or none
	changed int64   // rows that are, with other values
	rows    []int64 // these
	packer  journal.Packer
}

// errRace tells that somebody else changed rows between the look and the write.
var errRace = &store.Fault{Kind: store.Transient, Message: "another program changed rows while they were being written"}

// errMixed tells that some rows were there and others not, although that did not seem so.
var errMixed = errors.New("some rows existed and some did not")

// look finds what a stage will change, so that it can be undone. It is nil if nothing
// is to be kept. With guess it looks at few rows only, if these are all there or all
// not: what is written then reports whether that is so of the others.
func (w *Writer) look(ctx context.Context, t *Target, st store.Stage, p *Pass, guess bool) (*prior, error) {
	if t.Writes.Mode == store.Insert || t.Writes.Mode == store.Replace ||
		len(t.Late) == 0 && (w.Session.Journal == nil || w.Session.Options.DryRun) {
		return nil, nil
	}
	x := &prior{packer: journal.Packer{Columns: t.Table.Columns, Numbers: true}}
	var err error
	if t.Writes.Mode != store.Update {
		if err = x.findFresh(ctx, st, guess && p.N > fewRows); err != nil {
			return nil, err
		}
	}
	if !w.Session.Undoes() || t.Writes.Mode == store.Keep {
		x.changed = -1
		return x, nil
	}
	err = st.Prior(ctx, func(n int64, values []value.Value) error {
		x.changed++
		x.rows = append(x.rows, n)
		return x.packer.Add(p.Row(n), values)
	})
	return x, errors.Join(err, x.packer.Close())
}

// fewRows is how many rows a guess looks at.
const fewRows = 200

// findFresh finds the rows that the table does not have. A guess is made from the first few, if all
// of them are there or none is.
func (x *prior) findFresh(ctx context.Context, st store.Stage, guess bool) (err error) {
	if guess {
		if x.fresh, err = st.Unmatched(ctx, fewRows); err != nil {
			return err
		}
		if x.guessed = len(x.fresh) == 0 || len(x.fresh) == fewRows; x.guessed {
			return nil
		}
	}
	x.fresh, err = st.Unmatched(ctx, 0)
	return err
}

// keep writes down what was looked at, if it is what was written. After errMixed the rows
// are to be taken back, looked at all, and written again.
func (w *Writer) keep(ctx context.Context, t *Target, p *Pass, x *prior, out store.Outcome) error {
	if x == nil {
		return nil
	}
	gone := func(n int64) bool { return w.Session.Record.Rejected(t.Grow, p.Row(n)) }
	var added []grow.Row
	if x.guessed {
		x.fresh = nil
		switch out.Inserted {
		case 0:
		case p.N:
			for n := range p.N {
				x.fresh = append(x.fresh, n)
			}
		default:
			return errMixed
		}
	}

	for _, n := range x.fresh {
		if !gone(n) {
			added = append(added, p.Row(n))
		}
	}
	changed := x.changed
	for _, n := range x.rows {
		if gone(n) {
			changed--
		}
	}
	if int64(len(added)) != out.Inserted || changed >= 0 && changed != out.Updated {
		return errRace
	}
	w.log.Insert(t.Plan.Name, added)
	if x.changed < 0 {
		return nil
	}
	return w.KeepPackets(ctx, t.Plan.Name, t.Table.Name, journal.ContentChanged, x.packer.Packets)
}

// KeepPackets keeps previous contents of rows in the journal.
func (w *Writer) KeepPackets(ctx context.Context, entity, table, what string, packets []journal.Packet) error {
	of := w.Session.Journal.Tables.Contents
	for _, p := range packets {
		w.Seq++
		row := append(
			w.At.Cells(of),
			journal.Cells(
				of,
				"seq",
				w.Seq,
				"entity",
				entity,
				"of",
				table,
				"what",
				what,
				"rows",
				p.Rows,
				"body",
				p.Body,
			)...)
		if err := w.Tx.Add(ctx, of, row); err != nil {
			return err
		}
	}
	return nil
}

// pageRows is how many rows are read at a time where they are kept before they go.
const pageRows = 50_000

// keepAll keeps all rows of a table, and says how many.
func (w *Writer) keepAll(ctx context.Context, entity string, t *schema.Table) (int64, error) {
	total := int64(0)
	for at := int64(0); ; at += pageRows {
		p := journal.Packer{Columns: t.Columns}
		n := int64(0)
		err := w.Store.Select(
			ctx,
			store.Query{Table: t, Columns: t.Columns, Exact: true, Skip: at, Limit: pageRows},
			func(row []value.Value) error {
				n++
				return p.Add(grow.Row{}, row)
			},
		)
		if err = errors.Join(err, p.Close()); err != nil {
			return total, err
		}
		if err := w.KeepPackets(ctx, entity, t.Name, journal.ContentRemoved, p.Packets); err != nil {
			return total, err
		}
		total += n
		if n < pageRows {
			return total, nil
		}
	}
}
