package journal

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Report says where the numbers stand.
func (e *NoEntry) Report() diag.Report {
	return diag.Report{Kind: diag.Usage, Message: e.Error(), Hint: "evensprout history lists its loads"}
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

// JournalFormat numbers the form of what the journal holds.
const JournalFormat = 1

// About is what the journal says of a load from the beginning.
type About struct {
	Format   int           `json:"format"`
	Version  string        `json:"version"`
	Edition  string        `json:"edition"`
	Revision int           `json:"revision,omitempty"` // of the generated rows; absent: 1
	Seed     string        `json:"seed"`
	Used     string        `json:"used,omitempty"` // the variant and size of the plan, as it writes them
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
	Inputs  []Input      `json:"inputs,omitempty"`
	// Schemas are those of tables that are named without one: where the server has several,
	// a load belongs to them.
	Schemas []string `json:"schemas,omitempty"`
	Unit    string   `json:"unit,omitempty"` // whose occasions were done; then there are no entities
	// Occasions is the file from which a run took its occasions; empty if it was none.
	Occasions string `json:"occasions,omitempty"`
	// Clean tells that no passwords are kept with the load.
	Clean bool `json:"clean,omitempty"`
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
	// Presets are the constant defaults of columns that were not written, as the database wrote them.
	Presets map[string]string `json:"presets,omitempty"`
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
	Token   string    `json:"-"`                 // of the process that writes it
	Body    []byte    `json:"-"`                 // packed plan and input

	Elsewhere string `json:"-"` // a schema of its tables that is not in the search path
	// Unreadable says why the entry cannot be read: it is damaged, or of another version of the program. Then About and
	// Summary may be incomplete.
	Unreadable string `json:"unreadable,omitempty"`
}

// ChunkEntry is a chunk in the journal.
type ChunkEntry struct {
	Given  bool      `json:"given,omitempty"`
	First  uint64    `json:"first"` // row of its first entity
	State  State     `json:"state"`
	Ended  time.Time `json:"ended"`
	Result Sum       `json:"result"`
	Log    *Log      `json:"log,omitempty"`
	Key    Key       `json:"-"`
}

// Sum is what a chunk did, by entity.
type Sum struct {
	Redrawn  int64             `json:"redrawn,omitempty"`
	Entities map[string]Entity `json:"entities"`
}

// Key tells a chunk of a load: the first row of its first entity.
type Key struct {
	Load, Family int64 // family is the entity's place in the plan
	side, First  int64
}

// Cells are the columns of the key in a table of the journal.
func (k Key) Cells(t *schema.Table) []store.Cell {
	return Cells(t, "load", k.Load, "family", k.Family, "side", k.side, "first", k.First)
}

// BeforeAll is the key of what a load does before its first chunk.
func BeforeAll(load int64) Key { return Key{Load: load, Family: -1} }

// KeyOf is the key of rows that begin with those of a run.
func KeyOf(load int64, c *plan.Compiled, run order.Run) Key {
	k := Key{Load: load, Family: int64(slices.Index(c.Targets, run.Target)), First: int64(run.First.N)}
	if run.First.Side {
		k.side = 1
	}
	return k
}

// Moment is a time as the journal keeps it: UTC, microseconds.
func Moment(t time.Time) value.Value {
	return value.Value{Type: value.Timestamp, N: t.UnixMicro(), Scale: 6}
}

// timeOf is a moment of the journal; the zero time if it is NULL.
func timeOf(v value.Value) time.Time {
	if v.IsNull() {
		return time.Time{}
	}
	return time.UnixMicro(v.N).UTC()
}

// CannotBeKept says what it means that a journal cannot be kept.
func CannotBeKept(err error) error {
	var fault *store.Fault
	if !errors.As(err, &fault) || fault.Kind != store.Denied && fault.Kind != store.ReadOnly {
		return err
	}
	return &store.Fault{
		Kind:    fault.Kind,
		Err:     fault.Err,
		Message: "the journal's tables cannot be created: " + fault.Message,
		Hint: "allow this user to create them once, or load with --no-journal: then the load cannot be resumed " +
			"or withdrawn, and a second load does not know of it",
	}
}

// What is read of the journal is bounded: whoever may write to it may write anything.
const (
	maxEntry   = 32 << 20 // bytes of a cell
	MaxJournal = 64 << 20 // bytes of one look, packed and unpacked
	rowBytes   = 200      // what a row costs beside its texts
)

// Budget is the bytes that may still be read.
type Budget struct{ Left int64 }

// NewBudget is what a journal may hold.
func NewBudget() *Budget { return &Budget{MaxJournal} }

// Take spends what a row holds. The error says that the journal holds too much.
func (b *Budget) Take(r Record) error {
	n := int64(rowBytes)
	for _, v := range r.row {
		n += int64(len(v.S))
	}
	return b.spend(n)
}

// spend takes bytes from a budget; an error if they are more than are left.
func (b *Budget) spend(n int64) error {
	if b.Left -= n; b.Left < 0 {
		return fmt.Errorf(
			"the journal holds more than %d MiB about one load, or in all that it lists. This program never "+
				"writes that much, so it was not read",
			MaxJournal>>20,
		)
	}
	return nil
}

// Entries reads the loads of a plan, oldest first; it fails if one of them cannot be read. An empty name means all
// plans: then entries that cannot be read are left out.
func (r Reader) Entries(ctx context.Context, name string) ([]*Entry, error) {
	j, err := r.tables(ctx)
	if err != nil || j == nil {
		return nil, err
	}
	var where []store.Cell
	if name != "" {
		where = Cells(j.Loads, "plan", name)
	}
	all, err := r.entries(ctx, j, where, false)
	if err != nil {
		return nil, err
	}
	for _, e := range all {
		if name != "" && e.Unreadable != "" {
			return nil, &Unreadable{e}
		}
	}
	return slices.DeleteFunc(all, func(e *Entry) bool { return e.Elsewhere != "" || e.Unreadable != "" }), nil
}

// AllEntries reads the loads of all plans, oldest first, also those that cannot be read.
func (r Reader) AllEntries(ctx context.Context) ([]*Entry, error) {
	j, err := r.tables(ctx)
	if err != nil || j == nil {
		return nil, err
	}
	all, err := r.entries(ctx, j, nil, false)
	return slices.DeleteFunc(all, func(e *Entry) bool { return e.Elsewhere != "" }), err
}

// Unreadable reports an entry that cannot be read.
type Unreadable struct{ Entry *Entry }

func (e *Unreadable) Error() string {
	return fmt.Sprintf("load %d in the journal cannot be read: %s", e.Entry.Number, e.Entry.Unreadable)
}

// Report says what can be done.
func (e *Unreadable) Report() diag.Report {
	return diag.Report{
		Kind: diag.Database, Message: e.Error(), Members: map[string]any{"load": e.Entry.Number},
		Hint: fmt.Sprintf("use the version of the program that recorded it; or remove it from the journal, which "+
			"leaves its rows: evensprout history --forget %d", e.Entry.Number),
	}
}

// understand reads what is written as JSON, and says why that cannot be done.
func (e *Entry) understand(about, summary string) string {
	if err := json.Unmarshal([]byte(about), &e.About); err != nil {
		return err.Error()
	}
	if e.About.Format != JournalFormat {
		return fmt.Sprintf(
			"it was recorded by another version of this program (%s), in format %d, and this version reads format %d",
			e.About.Version,
			e.About.Format,
			JournalFormat,
		)
	}
	if e.About.ClockSet != "" {
		clock, err := value.ParseTimestamp(e.About.ClockSet)
		if err != nil {
			return err.Error()
		}
		e.About.Clock = clock
	}
	if summary != "" {
		e.Summary = &Result{}
		if err := json.Unmarshal([]byte(summary), e.Summary); err != nil {
			e.Summary = nil
			return err.Error()
		}
	}
	if !slices.Contains([]State{StateOpen, StateDone, StateWithdrawing, StatePartly, StateWithdrawn}, e.State) {
		return fmt.Sprintf("this version does not know the state %q", e.State)
	}
	return ""
}

// Select reads loads for which cells have certain values; it fails if one of them cannot be read. body reports whether to read what they were grown
// from.
func (r Reader) Select(ctx context.Context, j *store.Journal, where []store.Cell, body bool) ([]*Entry, error) {
	all, err := r.entries(ctx, j, where, body)
	if i := slices.IndexFunc(all, func(e *Entry) bool { return e.Unreadable != "" }); err == nil && i >= 0 {
		return nil, &Unreadable{all[i]}
	}
	return all, err
}

// entries reads loads, also those that mean nothing.
func (r Reader) entries(ctx context.Context, j *store.Journal, where []store.Cell, body bool) ([]*Entry, error) {
	if !r.allowed {
		return nil, errNotHeld
	}
	var columns []string
	for _, c := range j.Loads.Columns {
		if body || c.Name != "body" {
			columns = append(columns, c.Name)
		}
	}
	var out []*Entry
	budget := NewBudget()
	err := Read(ctx, r.Store, store.Query{Table: j.Loads, Where: where, Most: maxEntry}, columns, func(row Record) error {
		if err := budget.Take(row); err != nil {
			return err
		}
		e := &Entry{
			Number: row.Int("number"), Plan: row.Text("plan"), Extra: row.Text("extra"), Part: row.Int("part"),
			State: State(row.Text("state")), Began: row.Time("began"), Ended: row.Time("ended"),
			Actor: row.Text("actor"), Token: row.Text("token"), Body: row.Bytes("body"),
		}
		e.Unreadable = e.understand(row.Text("about"), row.Text("summary"))
		for _, name := range e.About.Schemas {
			if j.Path != nil && !slices.Contains(j.Path, name) {
				e.Elsewhere = name
			}
		}
		out = append(out, e)
		return nil
	})
	return out, err
}

// Entry reads one load, with all that it was grown from. The error reports if there
// is none.
func (r Reader) Entry(ctx context.Context, number int64) (*Entry, error) {
	e, err := r.anyEntry(ctx, number)
	if err == nil && e.Unreadable != "" {
		return nil, &Unreadable{e}
	}
	return e, err
}

// anyEntry reads one load, even if it means nothing.
func (r Reader) anyEntry(ctx context.Context, number int64) (*Entry, error) {
	j, err := r.tables(ctx)
	if err != nil {
		return nil, err
	}
	var found []*Entry
	if j != nil {
		if found, err = r.entries(ctx, j, Cells(j.Loads, "number", number), true); err != nil {
			return nil, err
		}
	}
	if len(found) == 0 {
		return nil, &NoEntry{Number: number}
	}
	if schema := found[0].Elsewhere; schema != "" {
		return nil, &store.Fault{
			Kind: store.Refused,
			Message: fmt.Sprintf(
				"load %d wrote to tables of the schema %s, which is not in the search path",
				number,
				schema,
			),
			Hint: fmt.Sprintf(
				"the parameter search_path=%s in the URL names it: ...?search_path=%s",
				schema,
				schema,
			),
		}
	}
	return found[0], nil
}

// NoEntry tells that the journal does not have a load.
type NoEntry struct{ Number int64 }

func (e *NoEntry) Error() string {
	return fmt.Sprintf("the journal of this database has no load %d", e.Number)
}

// Chunks reads the chunks of a load, in the order in which they were written.
func (r Reader) Chunks(ctx context.Context, load int64) ([]*ChunkEntry, error) {
	j, err := r.tables(ctx)
	if err != nil || j == nil {
		return nil, err
	}
	var out []*ChunkEntry
	budget, unpacked := NewBudget(), NewBudget()
	q := store.Query{Table: j.Chunks, Where: Cells(j.Chunks, "load", load), Most: maxEntry}
	err = Read(ctx, r.Store, q, nil, func(row Record) error {
		if err := budget.Take(row); err != nil {
			return err
		}
		x := &ChunkEntry{
			Key:   Key{row.Int("load"), row.Int("family"), row.Int("side"), row.Int("first")},
			Given: row.Int("side") == 1,
			First: uint64(row.Int("first")),
			State: State(row.Text("state")),
			Ended: row.Time("ended"),
		}
		if text := row.Text("result"); text != "" {
			if err := json.Unmarshal([]byte(text), &x.Result); err != nil {
				return fmt.Errorf("a chunk of load %d in the journal cannot be read: %w", load, err)
			}
		}
		if x.Log, err = UnpackLog(row.Bytes("record"), unpacked); err != nil {
			return fmt.Errorf("a chunk of load %d in the journal cannot be read: %w", load, err)
		}
		out = append(out, x)
		return nil
	})
	slices.SortStableFunc(out, func(a, b *ChunkEntry) int { return a.Ended.Compare(b.Ended) })
	return out, err
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
			sum.Merge(x)
			out[name] = sum
		}
	}
	return out
}

// Filled is the first load of a plan that is done and not withdrawn; nil if there is none,
// or one that was not finished.
func (r Reader) Filled(ctx context.Context, plan string) (*Entry, error) {
	all, err := r.Entries(ctx, plan)
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

// SchemasOf are the schemas of tables that are named without one.
func SchemasOf(tables []*schema.Table) []string {
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
	h, e, err := LockLoad(ctx, s, number)
	if err != nil {
		return nil, err
	}
	defer h.Release(ctx)
	j, err := s.Journal(ctx, false)
	if err != nil {
		return nil, err
	}
	tx, err := s.Begin(ctx, store.TxOptions{})
	if err != nil {
		return nil, err
	}
	defer tx.Rollback()
	for _, t := range []*schema.Table{j.Occasions, j.Contents, j.Chunks} {
		if t == nil {
			continue
		}
		if _, err := tx.Delete(ctx, t, Cells(t, "load", number)); err != nil {
			return nil, err
		}
	}

	if _, err := tx.Delete(ctx, j.Loads, Cells(j.Loads, "number", number)); err != nil {
		return nil, err
	}
	return e, tx.Commit(context.WithoutCancel(ctx))
}

// Input is a part of a load's input.
type Input struct {
	Path   string `json:"path,omitempty"`  // of a file: where it was
	Table  string `json:"table,omitempty"` // whose rows were read from the database
	Bytes  int64  `json:"bytes"`
	Digest string `json:"digest"`           // SHA-256
	Member string `json:"member,omitempty"` // of the archive; empty if it is not kept
	Rows   int64  `json:"rows,omitempty"`
}

// Cells makes cells of a table's columns, given by name and value.
func Cells(t *schema.Table, pairs ...any) []store.Cell {
	var out []store.Cell
	for i := 0; i < len(pairs); i += 2 {
		c := t.Column(pairs[i].(string))
		var v value.Value
		switch x := pairs[i+1].(type) {
		case nil:
		case int64:
			v = value.Int(x)
		case int:
			v = value.Int(int64(x))
		case string:
			v = value.String(x)
		case []byte:
			v = value.Value{Type: value.Bytes, S: string(x)}
		case value.Value:
			v = x
		default:
			panic(fmt.Sprintf("a cell of %T", x)) // a mistake of this package
		}
		out = append(out, store.Cell{Column: c, Value: v})
	}
	return out
}
