package unit

import (
	"context"
	"errors"
	"slices"

	"evensprout/internal/journal"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// ledger knows which occasions are done, and writes down those of a transaction, in that
// transaction: so each is done once, whatever breaks off, and whoever else runs the unit
// at the same time.
type ledger interface {
	// begin is called when a transaction begins.
	begin(ctx context.Context) error
	// enter notes occasions as done, but for those that are, and tells which these are:
	// the load that did each, 0 for those that are fresh.
	enter(ctx context.Context, names []occasionName) ([]int64, error)
	// forget takes an occasion that was rejected back.
	forget(ctx context.Context, name occasionName) error
	// end is called before the commit, and committed after it.
	end(ctx context.Context) error
	committed()
}

// fresh are the places of the occasions that are not done yet.
func (r *unitRun) fresh(ctx context.Context, names []occasionName) ([]int, error) {
	var out []int
	if r.ledger == nil {
		for i := range names {
			out = append(out, i)
		}
		return out, nil
	}
	by, err := r.ledger.enter(ctx, names)
	if err != nil {
		return nil, err
	}
	for i, load := range by {
		switch {
		case load == 0:
			out = append(out, i)
		case load == r.w.Session.Journal.Number: // by this run: the commit was not answered
			r.done++
			r.earlier--
		}
	}
	return out, nil
}

// rowLedger has a row for each occasion. That is the fence for engines that let many
// write: another process that does the same occasion waits at its row, and then leaves
// it out.
type rowLedger struct {
	run   *unitRun
	watch bool // somebody has done occasions before: they are looked for first
}

func (l *rowLedger) begin(context.Context) error { return nil }

// end packs the names of the occasions that are done and writes them.
func (l *rowLedger) end(context.Context) error { return nil }

// committed takes over what the commit has made permanent.
func (l *rowLedger) committed() {}

// value is the name as a value of a column.
func (n occasionName) value() value.Value { return value.Value{Type: value.Bytes, S: string(n[:])} }

// enter notes occasions as done, and tells which were so before.
func (l *rowLedger) enter(ctx context.Context, names []occasionName) ([]int64, error) {
	r := l.run
	by := make([]int64, len(names))
	of := r.w.Session.Journal.Tables.Occasions
	if of == nil {
		return by, nil // a dry run before any unit was run
	}
	column := of.Column("name")
	if l.watch || r.w.Session.Options.DryRun {
		rows := make([][]value.Value, len(names))
		for i, n := range names {
			rows[i] = []value.Value{n.value()}
		}
		laid, err := r.w.Tx.StageInputs(ctx, []*schema.Column{column}, rows)
		if err != nil {
			return nil, err
		}
		look := &store.Step{
			Table: of,
			Match: []store.Matched{{Column: column}},
			Read:  []*schema.Column{of.Column("load")},
		}
		err = laid.Look(ctx, look, func(n int64, row []value.Value) error {
			by[n] = row[0].N
			return nil
		})
		if err != nil {
			return nil, err
		}
	}

	fresh := 0
	for _, load := range by {
		if load == 0 {
			fresh++
		}
	}
	if r.w.Session.Options.DryRun || fresh == 0 {
		return by, nil
	}
	var err error
	if fresh == 1 {
		err = r.w.Tx.Add(
			ctx,
			of,
			journal.Cells(of, "name", names[slices.Index(by, 0)].value(), "load", r.w.Session.Journal.Number),
		)
	} else {
		into := store.Into{Table: of, Columns: of.Columns, Fields: []int{0, 1}}
		_, err = r.w.Tx.Insert(ctx, into, func(yield func(*value.Batch) bool) {
			for i, load := range by {
				if load == 0 && !yield(&value.Batch{Len: 1, Width: 2,
					Values: []value.Value{names[i].value(), value.Int(r.w.Session.Journal.Number)}}) {
					return
				}
			}
		})
	}

	var v *store.Violation
	if errors.As(err, &v) && v.Kind == store.Unique {
		l.watch = true
		return nil, &store.Fault{
			Kind:    store.Transient,
			Message: "another process did some of these occasions at the same time",
			Err:     v,
		}
	}
	return by, err
}

// forget takes the note of an occasion back.
func (l *rowLedger) forget(ctx context.Context, name occasionName) error {
	of := l.run.w.Session.Journal.Tables.Occasions
	if l.run.w.Session.Options.DryRun {
		return nil
	}
	_, err := l.run.w.Tx.Delete(ctx, of, journal.Cells(of, "name", name.value()))
	return err
}

// packedLedger has one row for the occasions of each transaction: for engines with one
// writer, where a row for each would cost as much as the occasion itself, and no fence is
// needed. Memory: some 50 bytes for each occasion that the unit has ever done.
type packedLedger struct {
	run   *unitRun
	done  map[occasionName]int64 // the load that did it
	read  map[int64]int          // how many rows of a load are known
	ended map[int64]bool         // loads of which all are
	fresh []occasionName         // of the transaction
}

// contentNames are the names of occasions, one behind another.
const contentNames = "names"

// begin learns what others have done since the last transaction: they may be at it now.
func (l *packedLedger) begin(ctx context.Context) error {
	l.fresh = l.fresh[:0]
	j := l.run.w.Session.Journal
	loads := map[int64]journal.State{}
	of := j.Tables.Loads
	q := store.Query{Table: of, Where: journal.Cells(of, "plan", l.run.w.Session.Plan.Plan.Name, "extra", j.Extra)}
	err := journal.Read(ctx, l.run.w.Store, q, []string{"number", "state"}, func(r journal.Record) error {
		loads[r.Int("number")] = journal.State(r.Text("state"))
		return nil
	})
	if err != nil {
		return err
	}
	of = j.Tables.Contents
	for load, state := range loads {
		if l.ended[load] || load == j.Number {
			continue
		}
		n := 0
		q := store.Query{
			Table: of,
			Where: journal.Cells(of, "load", load, "what", contentNames),
			Skip:  int64(l.read[load]),
			Limit: 1 << 30,
		}
		err := journal.Read(ctx, l.run.w.Store, q, []string{"body"}, func(r journal.Record) error {
			n++
			for names := r.Bytes("body"); len(names) >= len(occasionName{}); names = names[len(occasionName{}):] {
				l.done[occasionName(names[:len(occasionName{})])] = load
			}
			return nil
		})
		if err != nil {
			return err
		}
		l.read[load] += n
		l.ended[load] = state != journal.StateOpen
	}
	return nil
}

func (l *packedLedger) enter(_ context.Context, names []occasionName) ([]int64, error) {
	by := make([]int64, len(names))
	for i, n := range names {
		if by[i] = l.done[n]; by[i] == 0 {
			l.fresh = append(l.fresh, n)
		}
	}
	return by, nil
}

func (l *packedLedger) forget(_ context.Context, name occasionName) error {
	if i := slices.Index(l.fresh, name); i >= 0 {
		l.fresh = slices.Delete(l.fresh, i, i+1)
	}
	return nil
}

func (l *packedLedger) end(ctx context.Context) error {
	if len(l.fresh) == 0 || l.run.w.Session.Options.DryRun {
		return nil
	}
	const most = 4096 // names in a row
	var packets []journal.Packet
	for part := range slices.Chunk(l.fresh, most) {
		body := make([]byte, 0, len(part)*len(occasionName{}))
		for _, n := range part {
			body = append(body, n[:]...)
		}
		packets = append(packets, journal.Packet{Rows: int64(len(part)), Body: body})
	}
	return l.run.w.KeepPackets(ctx, l.run.unit.Plan.Name, "", contentNames, packets)
}

func (l *packedLedger) committed() {
	for _, n := range l.fresh {
		l.done[n] = l.run.w.Session.Journal.Number
	}
}
