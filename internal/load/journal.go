package load

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"evensprout/internal/archive"
	"evensprout/internal/grow"
	"evensprout/internal/journal"

	"evensprout/internal/diag"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"

	"github.com/google/uuid"
)

// Earlier looks after the rows of earlier loads of a plan: package replay does.
type Earlier interface {
	// Missing counts, by entity, the rows of loads that are no longer there.
	Missing(ctx context.Context, s store.Store, loads []*PastLoad) ([]EntityDifference, error)
	// PutBack adds rows of loads that are no longer there, and says how many. Of the options
	// it takes DryRun and Again.
	PutBack(ctx context.Context, s store.Store, loads []*PastLoad, o Options) (int64, error)
}

// Journal asks for a load to be written down in the database, so that it can be
// resumed, withdrawn, compared, and is not repeated.
type Journal struct {
	Actor   string // who loads, for people
	Version string // of the program
	NoUndo  bool   // previous contents of changed rows are not kept
	// Rows opens files of rows again, for earlier loads of the plan.
	Rows func(plan.FileSpec) (plan.FileRows, diag.Problems)
	// Earlier looks after the rows of earlier loads.
	Earlier Earlier
	// Plan is the operator's plan, which the journal's are held against; nil: there is none.
	Plan *plan.Plan
	// Extra names a further set of rows; empty for the plan's own.
	Extra string
	// Wait is how long another load of the same plan is waited for.
	Wait time.Duration
}

// by says who reads earlier loads: with this plan, and the rows that it may read again.
func (j *Journal) by() archive.Operator { return archive.Operator{Plan: j.Plan, Rows: j.Rows} }

// toResume is the operator who goes on with a load: its plan must be theirs.
func (j *Journal) toResume() archive.Operator {
	return archive.Operator{Plan: j.Plan, Rows: j.Rows, Demand: archive.DemandResumed}
}

// keyOf is the key of a chunk's entry.
func (l *Session) keyOf(c order.Chunk) journal.Key {
	return journal.KeyOf(l.Journal.Number, l.Plan, c[0])
}

// journaling is the journal while a load is written down.
type journaling struct {
	begun  bool // its entry is committed, and chunks follow
	Tables *store.Journal
	Number int64
	Token  string
	Extra  string
	Part   int64
	Undo   bool
	Actor  string
	About  journal.About
	body   []byte
	done   map[journal.Key]bool // chunks of a load that is resumed
	// written are the chunks that this process has committed.
	written map[journal.Key]bool
}

// OpenJournal gets ready to write a load down.
func (l *Session) OpenJournal(ctx context.Context, s store.Store) error {
	tables, err := s.Journal(ctx, !l.Options.DryRun)
	if err != nil {
		return journal.CannotBeKept(err)
	}
	if tables == nil {
		return nil // a dry run where nothing was ever loaded
	}
	o := l.Options.Journal
	l.Journal = &journaling{Tables: tables, Token: uuid.NewString(), Extra: o.Extra, Undo: !o.NoUndo, Actor: o.Actor}
	return nil
}

// errFenced tells that another load of the plan was written down meanwhile, and
// errCommitted that it was this one, although its commit was not answered.
var (
	ErrFenced    = errors.New("another load of this plan was faster")
	errCommitted = errors.New("the load is committed already")
)

// cleanOlder takes passwords out of what the journal keeps of earlier loads of the plan: earlier versions kept them.
func (l *Session) cleanOlder(ctx context.Context, w *Writer) error {
	if l.Journal == nil || l.Options.DryRun {
		return nil
	}
	of := l.Journal.Tables.Loads
	r := l.Read.On(w.Store)
	entries, err := r.Entries(ctx, l.Plan.Plan.Name)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if e.About.Clean || e.About.Unit != "" {
			continue
		}
		full, err := r.Entry(ctx, e.Number)
		if err != nil {
			return err
		}
		body, err := archive.Cleaned(full)
		if err != nil {
			continue // whoever needs it reports that
		}
		if body == nil {
			body = full.Body
		}
		full.About.Clean = true
		about, err := json.Marshal(full.About)
		if err != nil {
			return err
		}
		tx, err := w.Store.Begin(ctx, store.TxOptions{})
		if err != nil {
			return err
		}
		_, err = tx.Set(ctx, of, journal.Cells(of, "about", string(about), "body", body), journal.Cells(of, "number", e.Number))
		if err == nil {
			err = tx.Commit(ctx)
		}
		if err != nil {
			return errors.Join(err, tx.Rollback())
		}
	}
	return nil
}

// describe says what the load is, for the journal.
func (l *Session) describe() error {
	j := l.Journal
	var x *archive.Index
	var err error
	if j.body, x, err = archive.Pack(l.Plan); err != nil {
		return err
	}
	j.About = journal.About{
		Format: journal.JournalFormat, Version: l.Options.Journal.Version, Edition: l.Plan.Set.Edition,
		Revision: grow.RevisionOf(l.Plan.Set.Edition), Seed: l.Plan.Set.Seed, Used: l.Plan.Plan.Used(),
		ClockSet: l.Plan.Set.Clock.String(), Clean: true,
		Commit: l.Options.Commit, Chunk: l.Options.Chunk, Parts: l.Options.Part.Of, Undo: j.Undo,
		Policies: l.Options.Policies, Shift: l.Plan.Shift, Earlier: l.earlier, Corrected: l.Plan.Corrected != "",
		Folder: archive.Absolute(cmp.Or(l.Options.Folder, ".")), Inputs: x.Parts,
	}
	if l.Plan.Set.Clock.IsNull() {
		j.About.ClockSet = ""
	}
	l.describeEntities()
	return nil
}

// describeEntities says what is loaded, and what was there before.
func (l *Session) describeEntities() {
	j := l.Journal
	j.About.Entities = nil
	var tables []*schema.Table
	for _, t := range l.List {
		tables = append(tables, t.Table)
		fresh := uint64(0)
		if t.loaded {
			fresh = uint64(len(t.Grow.Side)) - t.fromSide
		}
		j.About.Entities = append(j.About.Entities, journal.AboutEntity{
			Entity: t.Plan.Name, Table: t.Table.Name, Mode: t.Write.Mode, Rows: t.Grow.Rows,
			Given:  uint64(len(t.Grow.Side)),
			Before: t.Out.Before, Skipped: t.Out.Skipped, Loaded: t.loaded, From: t.from, GivenNew: fresh,
			Columns: t.Table.ColumnNames(), Presets: t.presets(),
		})
	}
	j.About.Schemas = journal.SchemasOf(tables)
}

// enter writes the load down: the first statement of its transaction. Another load of
// the same plan, that does the same at the same time, waits here, and gives way.
func (l *Session) enter(ctx context.Context, w *Writer) error {
	j := l.Journal
	if err := l.describe(); err != nil {
		return err
	}
	about, err := json.Marshal(j.About)
	if err != nil {
		return err
	}
	of := j.Tables.Loads
	err = w.Tx.Add(
		ctx,
		of,
		journal.Cells(
			of,
			"plan",
			l.Plan.Plan.Name,
			"extra",
			j.Extra,
			"part",
			j.Part,
			"token",
			j.Token,
			"state",
			string(journal.StateOpen),
			"began",
			journal.Moment(l.Began),
			"actor",
			j.Actor,
			"about",
			string(about),
			"body",
			j.body,
		),
	)
	var v *store.Violation
	if errors.As(err, &v) && v.Kind == store.Unique {
		if err := w.Rollback(); err != nil {
			return err
		}
		found, err := l.Read.On(w.Store).Select(ctx, j.Tables, journal.Cells(of, "token", j.Token), false)
		if err != nil {
			return err
		}
		if len(found) > 0 {
			j.Number = found[0].Number
			if found[0].Summary != nil {
				l.adoptSummary(found[0].Summary)
			}
			return errCommitted
		}
		return ErrFenced
	}
	if err != nil {
		return err
	}
	q := store.Query{Table: of, Where: journal.Cells(of, "token", j.Token)}
	return journal.Read(ctx, w.Store, q, []string{"number"}, func(r journal.Record) error {
		j.Number = r.Int("number")
		return nil
	})
}

// adoptSummary takes over what a committed load says of itself.
func (l *Session) adoptSummary(r *journal.Result) {
	for _, e := range r.Entities {
		for _, t := range l.List {
			if t.Plan.Name == e.Entity {
				t.Out = e
			}
		}
	}
	l.Result.Load = l.Journal.Number
	l.Result.Redrawn, l.Result.Chunks, l.Result.Transactions, l.rejected = r.Redrawn, r.Chunks, 1, r.Rejected
}

// conclude writes down that the load is done; or takes its entry back, if it changed
// nothing.
func (l *Session) conclude(ctx context.Context, w *Writer) error {
	j := l.Journal
	sum := l.summary()
	sum.Part = nil // of this process alone
	for t, o := range w.outcomes {
		i := slices.IndexFunc(sum.Entities, func(e journal.Entity) bool { return e.Entity == t.Plan.Name })
		o.counted(&sum.Entities[i])
		sum.Entities[i].Rejected += w.rejectedOf[t]
		sum.Rows += o.Inserted + o.Updated
	}

	sum.Redrawn += w.redrawn
	changed := sum.Rejected > 0
	for _, e := range sum.Entities {
		changed = changed || e.Inserted+e.Updated+e.Removed > 0
	}
	if !changed {
		for _, t := range []*schema.Table{j.Tables.Contents, j.Tables.Chunks} {
			if _, err := w.Tx.Delete(ctx, t, journal.Cells(t, "load", j.Number)); err != nil {
				return err
			}
		}
		_, err := w.Tx.Delete(ctx, j.Tables.Loads, journal.Cells(j.Tables.Loads, "number", j.Number))
		l.Result.Load = 0
		return err
	}

	text, err := json.Marshal(sum)
	if err != nil {
		return err
	}
	_, err = w.Tx.Set(
		ctx,
		j.Tables.Loads,
		journal.Cells(
			j.Tables.Loads,
			"state",
			string(journal.StateDone),
			"ended",
			journal.Moment(time.Now()),
			"summary",
			string(text),
		),
		journal.Cells(j.Tables.Loads, "number", j.Number),
	)
	l.Result.Load = j.Number
	return err
}

// enterChunk writes a chunk down, before its first row: the fence that makes another
// process wait that writes the same chunk, and then give way. done tells that another
// one has written it.
func (w *Writer) enterChunk(ctx context.Context, c order.Chunk) (done bool, err error) {
	w.At, w.Seq = journal.Key{}, 0
	if w.Session.Journal == nil || w.Session.Options.DryRun {
		return false, nil
	}
	w.At = w.Session.keyOf(c)
	of := w.Session.Journal.Tables.Chunks
	err = w.Tx.Add(ctx, of, append(w.At.Cells(of), journal.Cells(of, "state", string(journal.StateOpen))...))
	var v *store.Violation
	if errors.As(err, &v) && v.Kind == store.Unique {
		return true, nil
	}
	return false, err
}

// leaveChunk writes down what the chunk did.
func (w *Writer) leaveChunk(ctx context.Context, s *state) error {
	if w.Session.Journal == nil || w.Session.Options.DryRun {
		return nil
	}
	sum := journal.Sum{Redrawn: s.redrawn, Entities: map[string]journal.Entity{}}
	for t, o := range s.outcomes {
		e := journal.Entity{Rejected: s.rejectedOf[t]}
		o.counted(&e)
		sum.Entities[t.Plan.Name] = e
	}
	for t, n := range s.rejectedOf {
		if s.outcomes[t] == nil {
			sum.Entities[t.Plan.Name] = journal.Entity{Rejected: n}
		}
	}
	text, err := json.Marshal(sum)
	if err != nil {
		return err
	}
	record, err := s.log.Pack()
	if err != nil {
		return err
	}
	of := w.Session.Journal.Tables.Chunks
	set := journal.Cells(
		of,
		"state",
		string(journal.StateDone),
		"ended",
		journal.Moment(time.Now()),
		"result",
		string(text),
	)
	if record != nil {
		set = append(set, journal.Cells(of, "record", record)...)
	}
	_, err = w.Tx.Set(ctx, of, set, w.At.Cells(of))
	return err
}

// forget removes the entry of a load of which nothing was committed.
func (l *Session) forget(ctx context.Context, w *Writer) error {
	if l.Journal == nil || l.Journal.Number == 0 || l.Result.Transactions > 0 || len(l.Journal.done) > 0 {
		return nil
	}
	if err := w.Begin(ctx); err != nil {
		return err
	}
	defer w.Rollback()
	if _, err := w.Tx.Delete(ctx, l.Journal.Tables.Loads,
		journal.Cells(l.Journal.Tables.Loads, "number", l.Journal.Number)); err != nil {
		return err
	}
	return w.Tx.Commit(ctx)
}
