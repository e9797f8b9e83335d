// Package store says what a database offers to the rest of the program. Each
// engine has a folder of its own with its peculiarities.
package store

import (
	"context"
	"database/sql"
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strings"
	"time"

	"evensprout/internal/diag"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Driver opens databases of one engine.
type Driver interface {
	// Schemes are the first parts of its URLs, such as sqlite.
	Schemes() []string
	// Open connects. An error is a *Fault where its cause is known.
	Open(ctx context.Context, url string) (Store, error)
	// Describe reads a URL without connecting. A URL that is not understood has the host
	// UnknownHost, and Shown holds nothing of it but its scheme.
	Describe(url string) Place
	// Beside returns a URL whose relative file, if it names one, lies in a folder.
	Beside(url, folder string) string
	// Script writes the engine's SQL.
	Script() Script
	// SurveyConn reads the tables that a connection of the standard library leads to; false if
	// that is another engine. The URL, or the environment's, counts where the connection
	// does not let its tables be read.
	SurveyConn(ctx context.Context, conn *sql.Conn, url string) (*schema.Database, bool, error)
	// OpenScratch opens the databases that this program makes for itself, beside that of a URL.
	OpenScratch(ctx context.Context, url string) (Scratch, error)
	// Variables are the variables of the environment by which programs find a database.
	Variables(url string) []Variable
}

// Place is where a database is, as the engine's driver understands its URL.
type Place struct {
	Name  string   // the database's, for people and drafts
	Hosts []string // every host that the driver may connect to; none of a file or socket
	Ports []string // host:port of each host, for people
	File  string   // the path; empty if it is on a server
	Shown string   // for people: made of scheme, user, host and database alone
	Err   error    // why the URL is not understood; nil if it is
}

// At names the servers and the database, for messages about connections.
func (p Place) At() string {
	if len(p.Ports) == 0 {
		return "its socket (database " + p.Name + ")"
	}
	return strings.Join(p.Ports, ", ") + " (database " + p.Name + ")"
}

// UnknownHost stands for the hosts of a URL that is not understood.
const UnknownHost = "an unknown host"

// Elsewhere are the hosts of a place that are not this machine.
func (p Place) Elsewhere() []string {
	var out []string
	for _, h := range p.Hosts {
		if !Local(h) && !slices.Contains(out, h) {
			out = append(out, h)
		}
	}
	return out
}

// Local reports whether a host is this machine for certain: a loopback address, or the name
// localhost, which RFC 6761 reserves for them. Every other name or address is not, even one
// that this machine has: what listens there may be anything.
func Local(host string) bool {
	if strings.EqualFold(host, "localhost") {
		return true
	}
	ip, err := netip.ParseAddr(host)
	return err == nil && ip.Unmap().IsLoopback()
}

// Store is an open database: one connection, which belongs to one goroutine.
type Store interface {
	Reader
	Asker
	Locker

	// Begin opens a transaction for writing: one at a time.
	Begin(ctx context.Context, o TxOptions) (Tx, error)
	// Reserve moves the sequence or counter of a column that numbers itself beyond a
	// number, so that nobody else is given it; never back. Outside transactions.
	Reserve(ctx context.Context, t *schema.Table, c *schema.Column, last int64) error
	// Journal finds the tool's own tables; create makes them if they are not there. It is
	// nil without an error if there are none. Outside transactions.
	Journal(ctx context.Context, create bool) (*Journal, error)
	// Statements are the distinct statements so far.
	Statements() []Statement
	Close() error
}

// Reader reads what a database holds.
type Reader interface {
	// Survey reads tables, columns, keys and constraints.
	Survey(ctx context.Context) (*schema.Database, error)
	// Count is the number of rows of a table.
	Count(ctx context.Context, t *schema.Table) (int64, error)
	// Select reads rows; each is shown in turn and must not be kept.
	Select(ctx context.Context, q Query, show func(row []value.Value) error) error
	// Spread counts the values of a column.
	Spread(ctx context.Context, t *schema.Table, c *schema.Column) (*Spread, error)
	// Sizes are the bytes that tables take with their indexes, by name, as far as the
	// engine tells.
	Sizes(ctx context.Context) (map[string]int64, error)
}

// Asker asks a database what it would do, and changes nothing.
type Asker interface {
	// Passes lets the database say which rows of values of some columns a condition lets
	// pass, as a CHECK constraint would; in it a single column may also be called VALUE. It
	// runs in a transaction that cannot write, is rolled back and has a time limit. An error
	// is a *NotAsked where the condition would run code that may be somebody else's, or the
	// limits of time or calls are reached.
	Passes(ctx context.Context, columns []*schema.Column, condition string, rows [][]value.Value) ([]bool, error)
	// Denied tells why this user may not do all of an access, such as that it lacks
	// UPDATE (price); it is empty if it may. Nothing is written.
	Denied(ctx context.Context, a Access) (string, error)
	// Clock is the server's time, and the time zone that other sessions have unless they
	// ask for one; empty where the engine knows of none, or it is UTC.
	Clock(ctx context.Context) (now time.Time, zone string, err error)
	Traits() Traits
}

// Locker takes locks that only runs of this program know.
type Locker interface {
	// Lock takes a lock that only runs of this program know, until Unlock or Close. It
	// does not wait: holder says who has it. It is a courtesy, and not every engine has one.
	Lock(ctx context.Context, name string) (holder string, err error)
	Unlock(ctx context.Context, name string) error
}

// NotAsked tells why the database was not asked about a condition.
type NotAsked struct{ Why string }

func (e *NotAsked) Error() string { return "the database was not asked: " + e.Why }

// Access is what a load does with a table or, without one, with the database.
type Access struct {
	Table                *schema.Table
	Read, Insert, Update []*schema.Column
	Delete               bool
	Loosen               bool           // a reference of it is held against the tables late
	Number               *schema.Column // its sequence or counter is moved forward; nil: none is

	Stage   bool // rows are laid aside in temporary tables
	Journal bool // the journal's tables are made
}

// Lacking is a right that is refused for some columns, as SQL writes it: without the
// columns if it is refused for all, empty if for none.
func Lacking(right string, columns []*schema.Column, refused func(*schema.Column) bool) string {
	var names []string
	for _, c := range columns {
		if refused(c) {
			names = append(names, c.Name)
		}
	}
	switch len(names) {
	case 0:
		return ""
	case len(columns):
		return right
	}
	return right + " (" + strings.Join(names, ", ") + ")"
}

// Traits are what engines differ in, as far as others must know.
type Traits struct {
	Engine string // for people
	// Writers is how many transactions can write at a time.
	Writers int
	// DefersAll tells that any reference can be held against the tables at the commit.
	DefersAll bool
	// Loosens tells that references can be held against the tables late that are not
	// deferrable: see TxOptions.
	Loosens bool
	// CountsMatches tells that an UPDATE counts all rows that match, and not only those
	// that it had to change.
	CountsMatches bool
	// Rebuilds tells that indexes can be dropped and made again inside a transaction.
	Rebuilds bool
	// Notice is what the user should know about the way that rows go; mostly empty.
	Notice string
}

// Rebuild says whose indexes a transaction drops and makes again.
type Rebuild struct {
	Tables []*schema.Table // whose indexes: they are empty
	Filled []*schema.Table // tables that may be locked: references to others stay
	Wait   bool            // wait for those who use the tables; else that refuses
}

// Dropped is what was dropped inside a transaction.
type Dropped struct {
	Count   int             // indexes and keys
	Tables  []*schema.Table // whose they were
	Restore func(context.Context) error
}

// TxOptions say what a transaction needs.
type TxOptions struct {
	// Late foreign keys are held against the tables only at Commit, as far as the
	// engine can.
	Late bool
	// Reads tells that the transaction is rolled back, and writes to nothing but temporary tables. Any other is refused
	// where sessions are read-only by default.
	Reads bool
	// Loose are references that are held against the tables only by Settle, although they
	// are not deferrable. They are as before once the transaction has ended.
	Loose []Loose
	// Isolation is what it sees of others; empty: what the engine's folder finds best.
	Isolation Isolation
	// Until is how long a commit waits for readers, where these hold it up; zero: as long as the engine does.
	Until time.Time
}

// Loose is a reference of a table.
type Loose struct {
	Table     *schema.Table
	Reference *schema.Reference
}

// Rows are batches of one entity, in order. Within a write its rows are numbered from
// 0. They can be read once.
type Rows = iter.Seq[*value.Batch]

// Tx is a transaction for writing.
type Tx interface {
	Finder
	Inserter
	Remover
	Checker
	Editor
	Marker

	// Settle holds what was put off against the tables. A refusal is a *Violation.
	Settle(ctx context.Context) error
	// Commit makes all permanent. A *Fault of kind Unanswered leaves open whether it did.
	Commit(ctx context.Context) error
	// Rollback takes everything back; after Commit it does nothing.
	Rollback() error
}

// Finder counts rows of tables, as the transaction sees them.
type Finder interface {
	Count(ctx context.Context, t *schema.Table) (int64, error)
	// Find counts the rows that have these values; NULLs are left out.
	Find(ctx context.Context, t *schema.Table, columns []*schema.Column, values []value.Value) (int64, error)
	// Between counts the rows of a span.
	Between(ctx context.Context, s Span) (int64, error)
	// Greatest is the greatest number in a column, 0 if it has none above.
	Greatest(ctx context.Context, t *schema.Table, c *schema.Column) (int64, error)
}

// Inserter takes rows and occasions in.
type Inserter interface {
	// Insert adds rows by the engine's bulk path and says how many. A refusal is a
	// *Violation, whose Row is -1 unless the engine stops at the guilty row; then the
	// rows before it are written, as far as the caller does not take them back.
	Insert(ctx context.Context, into Into, rows Rows) (int64, error)
	// InsertUnkeyed adds rows to whom the database gives their keys, which are
	// returned in the order of the rows.
	InsertUnkeyed(ctx context.Context, into Into, key *schema.Column, rows Rows) ([]value.Value, error)
	// Stage lays rows aside, to be written by set-based statements.
	Stage(ctx context.Context, w *Write, rows Rows) (Stage, error)
	// StageInputs makes values of occasions of a unit ready for steps. The columns say of which
	// types the values are.
	StageInputs(ctx context.Context, inputs []*schema.Column, rows [][]value.Value) (Occasions, error)
}

// Remover takes rows and references away.
type Remover interface {
	// LockRows locks all rows of a table to which rows of others can refer, until the transaction ends: before anybody
	// looks for rows that refer to them.
	LockRows(ctx context.Context, db *schema.Database, t *schema.Table) error
	// Clear deletes all rows of a table.
	Clear(ctx context.Context, t *schema.Table) (int64, error)
	// Referring shows the rows of a table that refer to any row of another.
	Referring(ctx context.Context, t *schema.Table, r *schema.Reference, show func([]value.Value) error) error
	// Unlink sets references to NULL, and Remove deletes the rows that have them.
	Unlink(ctx context.Context, t *schema.Table, r *schema.Reference) error
	Remove(ctx context.Context, t *schema.Table, r *schema.Reference) (int64, error)
	// RefersInto reports whether rows refer to rows of a span that are not of the span themselves. Where that is not
	// simple to find out, it says yes. The span is locked, so that it stays true.
	RefersInto(ctx context.Context, db *schema.Database, s Span) (bool, error)
	// RemoveSpan deletes the rows of a span and shows each of them: what it deletes is what it shows.
	RemoveSpan(ctx context.Context, s Span, columns []*schema.Column, show func([]value.Value) error) error
}

// Span is the rows of a table whose key lies between two numbers, both included.
type Span struct {
	Table       *schema.Table
	Key         *schema.Column // of whole numbers
	First, Last int64
}

// Checker looks whether conditions hold.
type Checker interface {
	// Holds reports whether a condition in SQL holds; a value stands between every two of
	// its pieces. NULL is no.
	Holds(ctx context.Context, condition []string, values []Cell) (bool, error)
	// Broken shows rows, at most so many, for which an invariant does not hold, with what
	// was computed over others; of a condition on its own it shows no columns.
	Broken(
		ctx context.Context,
		r *schema.Rule,
		most int,
		show func(columns []*schema.Column, row []value.Value, computed value.Value) error,
	) error
}

// Editor changes rows of small tables, such as the journal's, one statement for each row
// or condition. A refusal is a *Violation.
type Editor interface {
	Add(ctx context.Context, t *schema.Table, rows ...[]Cell) error
	Set(ctx context.Context, t *schema.Table, set, where []Cell) (int64, error)
	Delete(ctx context.Context, t *schema.Table, where []Cell) (int64, error)
}

// Marker marks places to go back to; marks are nested.
type Marker interface {
	Savepoint(ctx context.Context, name string) error
	RollbackTo(ctx context.Context, name string) error
	Release(ctx context.Context, name string) error
}

// Stage is rows laid aside for one table.
type Stage interface {
	// Rows is how many there are.
	Rows() int64
	// Guilty finds rows that keys, references and checks would refuse, as far as
	// set-based statements can tell, in the order of the rows.
	Guilty(ctx context.Context) ([]*Violation, error)
	// Drop takes rows away from the stage.
	Drop(ctx context.Context, rows []int64) error
	// Apply writes the rows from lo to hi-1 in the mode of the write. A refusal is a
	// *Violation without a row.
	Apply(ctx context.Context, lo, hi int64) (Outcome, error)
	// Duplicates finds rows that have the match values of an earlier row.
	Duplicates(ctx context.Context) ([]*Violation, error)
	// Unmatched are the rows that no row of the table matches.
	// first, if it is not 0, asks only for those among so many.
	Unmatched(ctx context.Context, first int64) ([]int64, error)
	// Keys shows the keys that matched rows have in the table; with differing only
	// those that are not the staged ones.
	Keys(ctx context.Context, key *schema.Column, differing bool, show func(row int64, key value.Value) error) error
	// Changes shows what Apply would change, cell by cell.
	Changes(ctx context.Context, show func(Change) error) error
	// Prior shows all columns of the rows that Apply would change, and locks these rows.
	Prior(ctx context.Context, show func(row int64, values []value.Value) error) error
	// Lock locks the matches: what the stage tells of them from then on stays true until the transaction ends.
	Lock(ctx context.Context) error
	// Differing are the rows whose match has other values in the columns of Set.
	Differing(ctx context.Context) ([]int64, error)
	// Referred are the rows whose match rows of some table refer to; a row's references
	// to itself do not count, nor do those of the columns left out. The matches are locked first.
	Referred(ctx context.Context, db *schema.Database, except []*schema.Column) ([]Referral, error)
	// Referrers shows the primary keys of the rows that refer to the matches, by table. The matches are locked first.
	Referrers(ctx context.Context, db *schema.Database, show func(t *schema.Table, key []value.Value) error) error
	// Copies shows how many rows of the table match each staged one.
	Copies(ctx context.Context, show func(row, n int64) error) error
	// Strangers shows columns of the rows of the table that no staged row matches.
	Strangers(ctx context.Context, columns []*schema.Column, show func([]value.Value) error) error
	// Remove deletes the matches of all rows.
	Remove(ctx context.Context) (int64, error)
	// RemoveWith does so together with those of stages of other tables: where the engine
	// can, in one statement, so that no row sees another go. It says how many were deleted
	// by each.
	RemoveWith(ctx context.Context, others ...Stage) ([]int64, error)
}

// Referral is a staged row, and a table whose rows refer to its match.
type Referral struct {
	Row   int64
	Table string
	// Hidden says why it is not known whether rows of the table refer to it; empty if it is.
	Hidden string
}

// Why says of a row that it stays because of the referral.
func (r Referral) Why() string {
	if r.Hidden != "" {
		return "rows of " + r.Table + " may refer to it, and would change with it: " + r.Hidden
	}
	return "rows of " + r.Table + " refer to it"
}

// Mode is how the rows of an entity are written.
type Mode string

// The write modes.
const (
	Insert  Mode = "insert"
	Keep    Mode = "keep"
	Upsert  Mode = "upsert"
	Update  Mode = "update"
	Replace Mode = "replace"
)

// Into says where the rows of a batch go: the field with index Fields[i] into
// Columns[i].
type Into struct {
	Table   *schema.Table
	Columns []*schema.Column
	Fields  []int
}

// Of returns what is written of a row, in the order of the columns.
func (i Into) Of(row []value.Value) []value.Value {
	out := make([]value.Value, len(i.Fields))
	for j, f := range i.Fields {
		out[j] = row[f]
	}
	return out
}

// Write says how the rows of one entity are written.
type Write struct {
	Into
	Mode  Mode
	Match []*schema.Column // how existing rows are recognised
	Set   []*schema.Column // what upsert and update change
	Stamp []*schema.Column // changed only together with one of Set
	// Distinct tells that no two rows of the load have the same match values.
	Distinct bool
	// Alike tells that a row of the table matches if it is the same in all columns of
	// Match byte for byte, NULLs included: for tables without a key.
	Alike bool
}

// Outcome counts rows.
type Outcome struct{ Inserted, Updated, Unchanged, Kept int64 }

// Add adds the counts of another outcome.
func (o *Outcome) Add(p Outcome) {
	o.Inserted += p.Inserted
	o.Updated += p.Updated
	o.Unchanged += p.Unchanged
	o.Kept += p.Kept
}

// Change is one cell that differs.
type Change struct {
	Row      int64
	Match    []value.Value
	Column   *schema.Column
	From, To value.Value
}

// Journal is the tool's own tables in a database: what was loaded, in which chunks, what
// rows that were changed or removed held before, and which occasions of units are done.
type Journal struct {
	Loads, Chunks, Contents, Occasions *schema.Table

	// Path are the schemas in which tables without one are looked for; nil where the engine
	// has none.
	Path []string

	Writers []string // others that may write to these tables, as far as the engine tells
}

// Statement is a distinct statement with how often it ran.
type Statement struct {
	Text    string        `json:"statement"`
	Times   int64         `json:"times"`
	Rows    int64         `json:"rows"`
	Elapsed time.Duration `json:"elapsed_ns"`

	// Values are those that were bound, for Watch alone. Of a statement that writes many rows they
	// are those of the first.
	Values []value.Value `json:"-"`
}

// Tally counts statements. The zero value is ready.
type Tally struct {
	Watch  func(Statement) // is called for each run of a statement as it ends; may be nil
	byText map[string]int
	list   []Statement
}

// Note counts one run of a statement with the values that were bound.
func (t *Tally) Note(text string, rows int64, d time.Duration, values []value.Value) {
	t.Add(Statement{Text: text, Times: 1, Rows: rows, Elapsed: d, Values: values})
}

// FirstRow passes rows on and keeps what is written of the first, in the order of the columns.
func FirstRow(into Into, rows Rows, first *[]value.Value) Rows {
	return func(yield func(*value.Batch) bool) {
		for b := range rows {
			if *first == nil && b.Len > 0 {
				*first = into.Of(b.Row(0))
			}
			if !yield(b) {
				return
			}
		}
	}
}

// Add counts runs of a statement.
func (t *Tally) Add(s Statement) {
	if t.byText == nil {
		t.byText = map[string]int{}
	}
	i, ok := t.byText[s.Text]
	if !ok {
		i = len(t.list)
		t.byText[s.Text] = i
		t.list = append(t.list, Statement{Text: s.Text})
	}
	t.list[i].Times += s.Times
	t.list[i].Rows += max(s.Rows, 0)
	t.list[i].Elapsed += s.Elapsed
	if t.Watch != nil {
		t.Watch(s)
	}
}

// Statements are the distinct statements in the order of their first run.
func (t *Tally) Statements() []Statement { return slices.Clone(t.list) }

// Query asks for rows of a table, in the order of its primary key or, without one,
// as they come.
type Query struct {
	Table   *schema.Table
	Columns []*schema.Column
	Where   []Cell // all of them must hold
	// a condition in SQL that must hold, too; it must be one expression, and nothing is written while it runs
	Also  string
	Exact bool  // read so that the values can be written back
	Head  int64 // characters of a text, or bytes of others, after which a cell is cut off; 0: all is read
	Fresh bool  // also what others have committed since the transaction began
	AsIs  bool  // in any order
	Most  int64 // bytes of a cell; one with more is read as NULL. 0: any
	Skip  int64
	Limit int64
}

// Cell is a column and its value.
type Cell struct {
	Column *schema.Column
	Value  value.Value
}

// ViolationKind is why a database refused a row.
type ViolationKind string

// The kinds of violations.
const (
	Unique     ViolationKind = "unique"
	ForeignKey ViolationKind = "foreign_key"
	NotNull    ViolationKind = "not_null"
	Check      ViolationKind = "check"
	TooLong    ViolationKind = "too_long"
	OutOfRange ViolationKind = "out_of_range"
	BadValue   ViolationKind = "bad_value"
	Raised     ViolationKind = "raised" // by a trigger or a rule
	Exclusion  ViolationKind = "exclusion"
	RowCount   ViolationKind = "row_count" // another number of rows than expected

	Requirement ViolationKind = "requirement" // a condition of a unit did not hold
)

// Violation is a refusal of a row.
type Violation struct {
	Kind       ViolationKind
	Row        int64  // number of the row within the write; -1 if only Key tells which row it is, or nothing
	Key        []Pair // primary key of the row, where Row is -1
	Table      string
	Constraint string   // name or text of the constraint
	Columns    []string // of the constraint
	Values     []value.Value
	Other      []Pair // primary key of the row collided with
	Twin       int64  // number, within the write, of the row collided with, if HasTwin
	HasTwin    bool
	TwinLabel  string // what the caller calls that row
	Refers     string // the table referred to, of a foreign key
	Code       string // the engine's own code; empty if this program refused the row
	Message    string // the engine's own words
}

// Pair is a column and its value.
type Pair struct {
	Column string
	Value  value.Value
}

// LeftOut is the violation of rows that the engine took and did not write.
func LeftOut(sent, written int64) *Violation {
	what := fmt.Sprintf("%d rows were sent, but %d were written", sent, written)
	if sent == 1 {
		what = "the row was sent, but not written"
	}
	return &Violation{
		Kind:       Raised,
		Row:        -1,
		Constraint: "trigger or rule",
		Message:    what + ": something in the database, such as a trigger or rule, leaves out rows",
	}
}

func (v *Violation) Error() string {
	return fmt.Sprintf("%s violation in %s: %s", v.Kind, v.Table, v.Message)
}

// FaultKind is what is wrong with a database as a whole.
type FaultKind string

// The kinds of faults.
const (
	Missing     FaultKind = "missing" // there is no such database
	Foreign     FaultKind = "foreign" // the file, or the server, is something else
	Locked      FaultKind = "locked"
	ReadOnly    FaultKind = "read_only"
	Full        FaultKind = "full" // no room on the disk
	BadURL      FaultKind = "bad_url"
	Interrupted FaultKind = "interrupted"
	Unreachable FaultKind = "unreachable"
	Denied      FaultKind = "denied"     // the server does not let this user in, or do that
	Transient   FaultKind = "transient"  // a deadlock or the like: the same may work again
	Lost        FaultKind = "lost"       // the connection broke; nothing was committed
	Unanswered  FaultKind = "unanswered" // the connection broke in a commit
	Refused     FaultKind = "refused"    // by this program, to protect the user
)

// Fault is a database that cannot be used.
type Fault struct {
	Kind    FaultKind
	Message string // what happened
	Hint    string // what to do
	Err     error  // the engine's own error, may be nil
}

func (f *Fault) Error() string {
	if f.Err != nil {
		return f.Message + ": " + f.Err.Error()
	}
	return f.Message
}

func (f *Fault) Unwrap() error { return f.Err }

// Guarded is the fault of a session whose transactions are read-only by default, as set by whom it says: nothing is
// written.
func Guarded(setting, by, hint string) *Fault {
	return &Fault{Kind: Refused, Message: setting + " is on (set " + by + "), so nothing is written here", Hint: hint}
}

// Report shows what to do.
func (f *Fault) Report() diag.Report {
	r := diag.Report{
		Kind:    diag.Database,
		Hint:    f.Hint,
		Members: map[string]any{"fault": f.Kind},
		Data:    f.Kind == Full || f.Kind == Transient || f.Kind == Lost,
	}
	switch f.Kind {
	case Full:
		r.Kind = diag.Failed
	case Interrupted:
		r.Kind = diag.Interrupted
	case Refused:
		r.Kind = diag.Usage
	}
	return r
}

// Open opens a database with the driver for its URL.
func Open(ctx context.Context, drivers []Driver, url string) (Store, error) {
	if d := driver(drivers, url); d != nil {
		return d.Open(ctx, url)
	}
	return nil, unknown(drivers)
}

// unknown is the error of a URL of no driver.
func unknown(drivers []Driver) error {
	var known []string
	for _, d := range drivers {
		for _, s := range d.Schemes() {
			known = append(known, s+":")
		}
	}
	// Nothing of the text is shown: any part of it may be a password.
	return &Fault{Kind: BadURL, Message: "this database URL is not supported",
		Hint: "a URL begins with " + strings.Join(known, ", ") + " such as sqlite:path.db or postgres://user@host/name"}
}

// Beside returns a URL whose relative file, if it names one, lies in a folder.
func Beside(drivers []Driver, url, folder string) string {
	if d := driver(drivers, url); d != nil {
		return d.Beside(url, folder)
	}
	return url
}

// Describe reads a URL without connecting.
func Describe(drivers []Driver, url string) Place {
	if d := driver(drivers, url); d != nil {
		return d.Describe(url)
	}
	return Place{Hosts: []string{UnknownHost}, Shown: "the database URL", Err: unknown(drivers)}
}

func driver(drivers []Driver, url string) Driver {
	scheme, _, ok := strings.Cut(url, ":")
	for _, d := range drivers {
		if ok && slices.Contains(d.Schemes(), scheme) {
			return d
		}
	}
	return nil
}
