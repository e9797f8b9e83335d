package load

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"

	"github.com/google/uuid"
)

// Journal asks for a load to be written down in the database, so that it can be
// resumed, withdrawn, compared, and is not repeated.
type Journal struct {
	Actor   string // who loads, for people
	Version string // of the program
	NoUndo  bool   // previous contents of changed rows are not kept
	// Rows opens files of rows again, for earlier loads of the plan.
	Rows func(plan.FileSpec) (plan.FileRows, plan.Problems)
	// Plan is the operator's plan, which the journal's are held against; nil: there is none.
	Plan *plan.Plan
	// Extra names a further set of rows; empty for the plan's own.
	Extra string
	// Wait is how long another load of the same plan is waited for.
	Wait time.Duration
}

func (j *Journal) by() Operator { return Operator{Plan: j.Plan, Rows: j.Rows} }

func (j *Journal) toResume() Operator {
	return Operator{Plan: j.Plan, Rows: j.Rows, Demand: demandResumed}
}

// State is how far a load has come.
type State string

// The states of loads.
const (
	StateOpen        State = "open" // going on, or broken off
	StateDone        State = "done"
	StateWithdrawing State = "withdrawing"      // being withdrawn, or broken off there
	StatePartly      State = "partly withdrawn" // withdrawn but for rows that were left alone
	StateWithdrawn   State = "withdrawn"
)

// journalFormat numbers the form of what the journal holds.
const journalFormat = 1

// About is what the journal says of a load from the beginning.
type About struct {
	Format   int           `json:"format"`
	Version  string        `json:"version"`
	Edition  string        `json:"edition"`
	Seed     string        `json:"seed"`
	Clock    value.Value   `json:"-"`
	ClockSet string        `json:"clock"`
	Commit   plan.Commit   `json:"commit"`
	Chunk    uint64        `json:"chunk"`           // upper bound as asked for; 0 if it was not
	Parts    uint64        `json:"parts,omitempty"` // into which the load is cut; 0: it is not
	Undo     bool          `json:"undo"`
	Policies plan.Policies `json:"policies,omitempty"` // from the command line
	Folder   string        `json:"folder"`             // of placeholder files
	Entities []AboutEntity `json:"entities"`
	// Shift is, of a further set, how many grown rows stand in front of its own, by entity.
	Shift map[string]uint64 `json:"shift,omitempty"`
	// Earlier are the numbers of rows at earlier loads, oldest first.
	Earlier []grow.Sizes `json:"earlier,omitempty"`
	Inputs  []archived   `json:"inputs,omitempty"`
	// Schemas are those of tables that are named without one: where the server has several,
	// a load belongs to them.
	Schemas []string `json:"schemas,omitempty"`
	Unit    string   `json:"unit,omitempty"` // whose occasions were done; then there are no entities
	// Occasions is the file from which a run took its occasions; empty if it was none.
	Occasions string `json:"occasions,omitempty"`
	// Corrected tells that the rows are those of a rejects file.
	Corrected bool `json:"corrected,omitempty"`
}

// AboutEntity is an entity of a load, in load order.
type AboutEntity struct {
	Entity  string    `json:"entity"`
	Table   string    `json:"table"`
	Mode    plan.Mode `json:"mode"`
	Rows    uint64    `json:"rows"`  // grown ones, or those of a file
	Given   uint64    `json:"given"` // written by hand, and below these
	Before  int64     `json:"rows_before"`
	Skipped bool      `json:"skipped,omitempty"` // its table was not empty, and the plan says when: empty
	// Columns are those of the table, so that later ones are known as new.
	Columns []string `json:"columns,omitempty"`
	// Loaded tells that rows from 0 to From-1, and given ones, were loaded earlier.
	Loaded bool   `json:"loaded,omitempty"`
	From   uint64 `json:"from,omitempty"`
	// GivenNew is, where rows were loaded earlier, how many of the given ones were not.
	GivenNew uint64 `json:"given_new,omitempty"`
}

// Entry is a load in the journal.
type Entry struct {
	Number  int64     `json:"number"`
	Plan    string    `json:"plan"`
	Extra   string    `json:"extra,omitempty"`
	Part    int64     `json:"part"` // 1 for the plan's first load, 2 for the next
	State   State     `json:"state"`
	Began   time.Time `json:"began"`
	Ended   time.Time `json:"ended,omitzero"`
	Actor   string    `json:"actor"`
	About   About     `json:"about"`
	Summary *Result   `json:"summary,omitempty"` // nil if it is not done
	token   string
	body    []byte

	elsewhere string // a schema of its tables that is not in the search path
}

// ChunkEntry is a chunk in the journal.
type ChunkEntry struct {
	Given  bool      `json:"given,omitempty"`
	First  uint64    `json:"first"` // row of its first entity
	State  State     `json:"state"`
	Ended  time.Time `json:"ended"`
	Result chunkSum  `json:"result"`
	Log    *chunkLog `json:"log,omitempty"`
	key    chunkKey
}

// chunkSum is what a chunk did, by entity.
type chunkSum struct {
	Redrawn  int64             `json:"redrawn,omitempty"`
	Entities map[string]Entity `json:"entities"`
}

// chunkKey tells a chunk of a load: the first row of its first entity.
type chunkKey struct {
	load, family int64 // family is the entity's place in the plan
	side, first  int64
}

func (k chunkKey) cells(t *schema.Table) []store.Cell {
	return cells(t, "load", k.load, "family", k.family, "side", k.side, "first", k.first)
}

// beforeAll is the key of what a load does before its first chunk.
func beforeAll(load int64) chunkKey { return chunkKey{load: load, family: -1} }

// keyOf is the key of rows that begin with those of a run.
func keyOf(load int64, c *plan.Compiled, run order.Run) chunkKey {
	k := chunkKey{load: load, family: int64(slices.Index(c.Targets, run.Target)), first: int64(run.First.N)}
	if run.First.Side {
		k.side = 1
	}
	return k
}

func (l *loader) keyOf(c order.Chunk) chunkKey { return keyOf(l.journal.number, l.plan, c[0]) }

// journaling is the journal while a load is written down.
type journaling struct {
	tables *store.Journal
	number int64
	token  string
	extra  string
	part   int64
	undo   bool
	actor  string
	about  About
	body   []byte
	done   map[chunkKey]bool // chunks of a load that is resumed
	// written are the chunks that this process has committed.
	written map[chunkKey]bool
}

func moment(t time.Time) value.Value {
	return value.Value{Type: value.Timestamp, N: t.UnixMicro(), Scale: 6}
}

func timeOf(v value.Value) time.Time {
	if v.IsNull() {
		return time.Time{}
	}
	return time.UnixMicro(v.N).UTC()
}

// noJournal says what it means that a journal cannot be kept.
func noJournal(err error) error {
	var fault *store.Fault
	if !errors.As(err, &fault) || fault.Kind != store.Denied && fault.Kind != store.ReadOnly {
		return err
	}
	return &store.Fault{Kind: fault.Kind, Err: fault.Err, Message: "the journal's tables cannot be made: " + fault.Message,
		Hint: "let this user create them once, or load with --no-journal: then the load cannot be resumed or withdrawn, and a second one does not know of it"}
}

// openJournal gets ready to write a load down.
func (l *loader) openJournal(ctx context.Context, s store.Store) error {
	tables, err := s.Journal(ctx, !l.o.DryRun)
	if err != nil {
		return noJournal(err)
	}
	if tables == nil {
		return nil // a dry run where nothing was ever loaded
	}
	o := l.o.Journal
	l.journal = &journaling{tables: tables, token: uuid.NewString(), extra: o.Extra, undo: !o.NoUndo, actor: o.Actor}
	return nil
}

// What is read of the journal is bounded: whoever may write to it may write anything.
const (
	maxEntry   = 32 << 20 // bytes of a cell
	maxJournal = 64 << 20 // bytes of one look, packed and unpacked
	rowBytes   = 200      // what a row costs beside its texts
)

// budget is the bytes that may still be read.
type budget struct{ left int64 }

func (b *budget) take(row []value.Value) error {
	n := int64(rowBytes)
	for _, v := range row {
		n += int64(len(v.S))
	}
	return b.spend(n)
}

func (b *budget) spend(n int64) error {
	if b.left -= n; b.left < 0 {
		return fmt.Errorf("the journal holds more than %d MiB of one load, or of all that it lists: that is more than this program writes, so it was not read", maxJournal>>20)
	}
	return nil
}

// Entries reads the loads of the journal, oldest first. An empty name means all plans.
func Entries(ctx context.Context, s store.Store, name string) ([]*Entry, error) {
	j, err := s.Journal(ctx, false)
	if err != nil || j == nil {
		return nil, err
	}
	var where []store.Cell
	if name != "" {
		where = cells(j.Loads, "plan", name)
	}
	all, err := readEntries(ctx, s, j, where, false)
	return slices.DeleteFunc(all, func(e *Entry) bool { return e.elsewhere != "" }), err
}

// readEntries reads loads. body tells whether to read what they were grown from.
func readEntries(ctx context.Context, s store.Store, j *store.Journal, where []store.Cell, body bool) ([]*Entry, error) {
	columns := j.Loads.Columns
	if !body {
		columns = slices.DeleteFunc(slices.Clone(columns), func(c *schema.Column) bool { return c.Name == "body" })
	}
	var out []*Entry
	budget := budget{maxJournal}
	err := s.Select(ctx, store.Query{Table: j.Loads, Columns: columns, Where: where, Most: maxEntry}, func(row []value.Value) error {
		if err := budget.take(row); err != nil {
			return err
		}
		get := func(name string) value.Value {
			i := slices.IndexFunc(columns, func(c *schema.Column) bool { return c.Name == name })
			if i < 0 {
				return value.Value{}
			}
			return row[i]
		}
		e := &Entry{
			Number: get("number").N, Plan: get("plan").S, Extra: get("extra").S, Part: get("part").N, State: State(get("state").S), Began: timeOf(get("began")), Ended: timeOf(get("ended")),
			Actor: get("actor").S, token: get("token").S, body: []byte(get("body").S),
		}
		if err := json.Unmarshal([]byte(get("about").S), &e.About); err != nil {
			return fmt.Errorf("load %d in the journal cannot be read: %w", e.Number, err)
		}
		if e.About.Format != journalFormat {
			return fmt.Errorf("load %d was written down by another version of this program (%s), in a form that this one does not read", e.Number, e.About.Version)
		}
		if e.About.ClockSet != "" {
			clock, err := value.ParseTimestamp(e.About.ClockSet)
			if err != nil {
				return err
			}
			e.About.Clock = clock
		}
		for _, name := range e.About.Schemas {
			if j.Path != nil && !slices.Contains(j.Path, name) {
				e.elsewhere = name
			}
		}
		if text := get("summary"); !text.IsNull() && text.S != "" {
			e.Summary = &Result{}
			if err := json.Unmarshal([]byte(text.S), e.Summary); err != nil {
				return fmt.Errorf("load %d in the journal cannot be read: %w", e.Number, err)
			}
		}
		out = append(out, e)
		return nil
	})
	return out, err
}

// FindEntry reads one load, with all that it was grown from. The error tells if there
// is none.
func FindEntry(ctx context.Context, s store.Store, number int64) (*Entry, error) {
	j, err := s.Journal(ctx, false)
	if err != nil {
		return nil, err
	}
	var found []*Entry
	if j != nil {
		if found, err = readEntries(ctx, s, j, cells(j.Loads, "number", number), true); err != nil {
			return nil, err
		}
	}
	if len(found) == 0 {
		return nil, &NoEntry{Number: number}
	}
	if schema := found[0].elsewhere; schema != "" {
		return nil, &store.Fault{Kind: store.Refused, Message: fmt.Sprintf("load %d wrote into tables of the schema %s, which is not in the search path", number, schema),
			Hint: fmt.Sprintf("the parameter search_path=%s in the URL names it: ...?search_path=%s", schema, schema)}
	}
	return found[0], nil
}

// NoEntry tells that the journal does not have a load.
type NoEntry struct{ Number int64 }

func (e *NoEntry) Error() string {
	return fmt.Sprintf("the journal of this database has no load %d", e.Number)
}

// Chunks reads the chunks of a load, in the order in which they were written.
func Chunks(ctx context.Context, s store.Store, load int64) ([]*ChunkEntry, error) {
	j, err := s.Journal(ctx, false)
	if err != nil || j == nil {
		return nil, err
	}
	var out []*ChunkEntry
	columns := j.Chunks.Columns
	budget, unpacked := budget{maxJournal}, budget{maxJournal}
	err = s.Select(ctx, store.Query{Table: j.Chunks, Columns: columns, Where: cells(j.Chunks, "load", load), Most: maxEntry}, func(row []value.Value) error {
		if err := budget.take(row); err != nil {
			return err
		}
		x := &ChunkEntry{key: chunkKey{row[0].N, row[1].N, row[2].N, row[3].N}, Given: row[2].N == 1, First: uint64(row[3].N), State: State(row[4].S), Ended: timeOf(row[5])}
		if text := row[6].S; text != "" {
			if err := json.Unmarshal([]byte(text), &x.Result); err != nil {
				return fmt.Errorf("a chunk of load %d in the journal cannot be read: %w", load, err)
			}
		}
		if x.Log, err = unpackLog([]byte(row[7].S), &unpacked); err != nil {
			return fmt.Errorf("a chunk of load %d in the journal cannot be read: %w", load, err)
		}
		out = append(out, x)
		return nil
	})
	slices.SortStableFunc(out, func(a, b *ChunkEntry) int { return a.Ended.Compare(b.Ended) })
	return out, err
}

// errFenced tells that another load of the plan was written down meanwhile, and
// errCommitted that it was this one, although its commit was not answered.
var (
	errFenced    = errors.New("another load of this plan came first")
	errCommitted = errors.New("the load is committed already")
)

// describe says what the load is, for the journal.
func (l *loader) describe() error {
	j := l.journal
	var x *index
	var err error
	if j.body, x, err = archive(l.plan); err != nil {
		return err
	}
	j.about = About{
		Format: journalFormat, Version: l.o.Journal.Version, Edition: l.plan.Set.Edition, Seed: l.plan.Set.Seed, ClockSet: l.plan.Set.Clock.String(),
		Commit: l.o.Commit, Chunk: l.o.Chunk, Parts: l.o.Part.Of, Undo: j.undo, Policies: l.o.Policies, Shift: l.plan.Shift, Earlier: l.earlier, Corrected: l.plan.Corrected != "", Folder: absolute(cmp.Or(l.o.Folder, ".")), Inputs: x.Parts,
	}
	if l.plan.Set.Clock.IsNull() {
		j.about.ClockSet = ""
	}
	l.describeEntities()
	return nil
}

// describeEntities says what is loaded, and what was there before.
func (l *loader) describeEntities() {
	j := l.journal
	j.about.Entities = nil
	var tables []*schema.Table
	for _, t := range l.list {
		tables = append(tables, t.Table)
		fresh := uint64(0)
		if t.loaded {
			fresh = uint64(len(t.Grow.Side)) - t.fromSide
		}
		j.about.Entities = append(j.about.Entities, AboutEntity{
			Entity: t.Plan.Name, Table: t.Table.Name, Mode: t.Write.Mode, Rows: t.Grow.Rows, Given: uint64(len(t.Grow.Side)),
			Before: t.out.Before, Skipped: t.out.Skipped, Loaded: t.loaded, From: t.from, GivenNew: fresh, Columns: t.Table.ColumnNames(),
		})
	}
	j.about.Schemas = schemasOf(tables)
}

// enter writes the load down: the first statement of its transaction. Another load of
// the same plan, that does the same at the same time, waits here, and gives way.
func (l *loader) enter(ctx context.Context, w *writer) error {
	j := l.journal
	if err := l.describe(); err != nil {
		return err
	}
	about, err := json.Marshal(j.about)
	if err != nil {
		return err
	}
	of := j.tables.Loads
	err = w.tx.Add(ctx, of, cells(of, "plan", l.plan.Plan.Name, "extra", j.extra, "part", j.part, "token", j.token, "state", string(StateOpen),
		"began", moment(l.began), "actor", j.actor, "about", string(about), "body", j.body))
	var v *store.Violation
	if errors.As(err, &v) && v.Kind == store.Unique {
		if err := w.rollback(); err != nil {
			return err
		}
		found, err := readEntries(ctx, w.store, j.tables, cells(of, "token", j.token), false)
		if err != nil {
			return err
		}
		if len(found) > 0 {
			j.number = found[0].Number
			if found[0].Summary != nil {
				l.adoptSummary(found[0].Summary)
			}
			return errCommitted
		}
		return errFenced
	}
	if err != nil {
		return err
	}
	return w.store.Select(ctx, store.Query{Table: of, Columns: []*schema.Column{of.Column("number")}, Where: cells(of, "token", j.token)}, func(row []value.Value) error {
		j.number = row[0].N
		return nil
	})
}

// adoptSummary takes over what a committed load says of itself.
func (l *loader) adoptSummary(r *Result) {
	for _, e := range r.Entities {
		for _, t := range l.list {
			if t.Plan.Name == e.Entity {
				t.out = e
			}
		}
	}
	l.result.Load = l.journal.number
	l.result.Redrawn, l.result.Chunks, l.result.Transactions, l.rejected = r.Redrawn, r.Chunks, 1, r.Rejected
}

// conclude writes down that the load is done; or takes its entry back, if it changed
// nothing.
func (l *loader) conclude(ctx context.Context, w *writer) error {
	j := l.journal
	sum := l.summary()
	sum.Part = nil // of this process alone
	for t, o := range w.outcomes {
		i := slices.IndexFunc(sum.Entities, func(e Entity) bool { return e.Entity == t.Plan.Name })
		sum.Entities[i].add(o)
		sum.Entities[i].Rejected += w.rejectedOf[t]
		sum.Rows += o.Inserted + o.Updated
	}
	sum.Redrawn += w.redrawn
	changed := sum.Rejected > 0
	for _, e := range sum.Entities {
		changed = changed || e.Inserted+e.Updated+e.Removed > 0
	}
	if !changed {
		for _, t := range []*schema.Table{j.tables.Contents, j.tables.Chunks} {
			if _, err := w.tx.Delete(ctx, t, cells(t, "load", j.number)); err != nil {
				return err
			}
		}
		_, err := w.tx.Delete(ctx, j.tables.Loads, cells(j.tables.Loads, "number", j.number))
		l.result.Load = 0
		return err
	}
	text, err := json.Marshal(sum)
	if err != nil {
		return err
	}
	_, err = w.tx.Set(ctx, j.tables.Loads, cells(j.tables.Loads, "state", string(StateDone), "ended", moment(time.Now()), "summary", string(text)),
		cells(j.tables.Loads, "number", j.number))
	l.result.Load = j.number
	return err
}

// enterChunk writes a chunk down, before its first row: the fence that makes another
// process wait that writes the same chunk, and then give way. done tells that another
// one has written it.
func (w *writer) enterChunk(ctx context.Context, c order.Chunk) (done bool, err error) {
	w.at, w.seq = chunkKey{}, 0
	if w.journal == nil || w.o.DryRun {
		return false, nil
	}
	w.at = w.keyOf(c)
	of := w.journal.tables.Chunks
	err = w.tx.Add(ctx, of, append(w.at.cells(of), cells(of, "state", string(StateOpen))...))
	var v *store.Violation
	if errors.As(err, &v) && v.Kind == store.Unique {
		return true, nil
	}
	return false, err
}

// leaveChunk writes down what the chunk did.
func (w *writer) leaveChunk(ctx context.Context, s *state) error {
	if w.journal == nil || w.o.DryRun {
		return nil
	}
	sum := chunkSum{Redrawn: s.redrawn, Entities: map[string]Entity{}}
	for t, o := range s.outcomes {
		e := Entity{Rejected: s.rejectedOf[t]}
		e.add(o)
		sum.Entities[t.Plan.Name] = e
	}
	for t, n := range s.rejectedOf {
		if s.outcomes[t] == nil {
			sum.Entities[t.Plan.Name] = Entity{Rejected: n}
		}
	}
	text, err := json.Marshal(sum)
	if err != nil {
		return err
	}
	record, err := s.log.pack()
	if err != nil {
		return err
	}
	of := w.journal.tables.Chunks
	set := cells(of, "state", string(StateDone), "ended", moment(time.Now()), "result", string(text))
	if record != nil {
		set = append(set, cells(of, "record", record)...)
	}
	_, err = w.tx.Set(ctx, of, set, w.at.cells(of))
	return err
}

// forget removes the entry of a load of which nothing was committed.
func (l *loader) forget(ctx context.Context, w *writer) error {
	if l.journal == nil || l.journal.number == 0 || l.result.Transactions > 0 || len(l.journal.done) > 0 {
		return nil
	}
	if err := w.begin(ctx); err != nil {
		return err
	}
	defer w.rollback()
	if _, err := w.tx.Delete(ctx, l.journal.tables.Loads, cells(l.journal.tables.Loads, "number", l.journal.number)); err != nil {
		return err
	}
	return w.tx.Commit(ctx)
}

// lockName is the name of the lock of a plan.
func lockName(plan string) string { return "evensprout load " + plan }

// unlockPlan gives a plan's lock back. Where that fails, the connection's end does it.
func unlockPlan(ctx context.Context, s store.Store, plan string) {
	s.Unlock(context.WithoutCancel(ctx), lockName(plan))
}

// lockPlan takes a plan's lock. If somebody else has it, that is a *store.Fault.
func lockPlan(ctx context.Context, s store.Store, plan string) error {
	holder, err := s.Lock(ctx, lockName(plan))
	if err == nil && holder != "" {
		err = &store.Fault{Kind: store.Locked, Message: fmt.Sprintf("%s is being loaded by %s", plan, holder), Hint: "--wait 5m waits until that is done"}
	}
	return err
}

// lockPoll is how often something locked is tried again.
const lockPoll = 100 * time.Millisecond

// patient does something again as long as somebody else has locked it, for some time.
func patient(ctx context.Context, wait time.Duration, do func() error) error {
	deadline := time.Now().Add(wait)
	for {
		err := do()
		var fault *store.Fault
		if !errors.As(err, &fault) || fault.Kind != store.Locked || !time.Now().Before(deadline) {
			return err
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(lockPoll):
		}
	}
}

// Sums are what a load did, by entity: of one that is not done, what its chunks did.
func Sums(e *Entry, chunks []*ChunkEntry) map[string]Entity {
	out := map[string]Entity{}
	if e.Summary != nil {
		for _, x := range e.Summary.Entities {
			out[x.Entity] = x
		}
		return out
	}
	for _, c := range chunks {
		for name, x := range c.Result.Entities {
			sum := out[name]
			sum.merge(x)
			out[name] = sum
		}
	}
	return out
}

// Filled is the first load of a plan that is done and not withdrawn; nil if there is none,
// or one that was not finished.
func Filled(ctx context.Context, s store.Store, plan string) (*Entry, error) {
	all, err := Entries(ctx, s, plan)
	if err != nil {
		return nil, err
	}
	var first *Entry
	for _, e := range all {
		switch {
		case e.State == StateOpen || e.State == StateWithdrawing:
			return nil, nil
		case e.State == StateDone && e.Extra == "" && (first == nil || e.Number < first.Number):
			first = e
		}
	}
	return first, nil
}

// schemasOf are the schemas of tables that are named without one.
func schemasOf(tables []*schema.Table) []string {
	var out []string
	for _, t := range tables {
		if t.Schema != "" && t.Name == t.LocalName() && !slices.Contains(out, t.Schema) {
			out = append(out, t.Schema)
		}
	}
	return out
}

// Forget removes what the journal keeps of a load, and leaves the tables as they are.
func Forget(ctx context.Context, s store.Store, number int64) (*Entry, error) {
	e, err := FindEntry(ctx, s, number)
	if err != nil {
		return nil, err
	}
	j, err := s.Journal(ctx, false)
	if err != nil {
		return nil, err
	}
	if err := lockPlan(ctx, s, e.Plan); err != nil {
		return nil, err
	}
	defer unlockPlan(ctx, s, e.Plan)
	w := &writer{loader: &loader{traits: s.Traits()}, store: s}
	defer w.close()
	if err := w.begin(ctx); err != nil {
		return nil, err
	}
	for _, t := range []*schema.Table{j.Occasions, j.Contents, j.Chunks} {
		if t == nil {
			continue
		}
		if _, err := w.tx.Delete(ctx, t, cells(t, "load", number)); err != nil {
			return nil, err
		}
	}
	if _, err := w.tx.Delete(ctx, j.Loads, cells(j.Loads, "number", number)); err != nil {
		return nil, err
	}
	return e, w.commit(ctx)
}
