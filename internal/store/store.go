// Package store says what a database offers to the rest of the program. Each
// engine has a folder of its own with its peculiarities.
package store

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
)

// Driver opens databases of one engine.
type Driver interface {
	// Schemes are the first parts of its URLs, such as sqlite.
	Schemes() []string
	// Open connects. An error is a *Fault where its cause is known.
	Open(ctx context.Context, url string) (Store, error)
	// Beside returns a URL whose relative file, if it names one, lies in a folder.
	Beside(url, folder string) string
}

// Store is an open database. It belongs to one goroutine.
type Store interface {
	// Survey reads tables, columns, keys and constraints.
	Survey(ctx context.Context) (*schema.Database, error)
	// Count is the number of rows of a table.
	Count(ctx context.Context, t *schema.Table) (int64, error)
	// Select reads rows; each is shown in turn and must not be kept.
	Select(ctx context.Context, q Query, show func(row []grow.Value) error) error
	// Begin opens the one transaction for writing. With lateReferences, foreign
	// keys are held against the tables only at Commit.
	Begin(ctx context.Context, lateReferences bool) (Tx, error)
	Close() error
}

// Tx is a transaction for writing.
type Tx interface {
	Count(ctx context.Context, t *schema.Table) (int64, error)
	// Find counts the rows that have these values; NULLs are left out.
	Find(ctx context.Context, t *schema.Table, columns []*schema.Column, values []grow.Value) (int64, error)
	// Insert adds the rows of a batch. A refusal is a *Violation.
	Insert(ctx context.Context, into Into, b *grow.Batch) error
	// Commit makes all permanent. A refusal is a *Violation.
	Commit(ctx context.Context) error
	// Rollback takes everything back; after Commit it does nothing.
	Rollback() error
}

// Into says where the rows of a batch go: the field with index Fields[i] into
// Columns[i].
type Into struct {
	Table   *schema.Table
	Columns []*schema.Column
	Fields  []int
}

// Query asks for rows of a table, in the order of its primary key or, without one,
// as they come.
type Query struct {
	Table   *schema.Table
	Columns []*schema.Column
	Where   *schema.Column // rows that have Equals there; nil for all
	Equals  grow.Value
	Skip    int64
	Limit   int64
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
	Raised     ViolationKind = "raised" // by a trigger
)

// Violation is a refusal of a row.
type Violation struct {
	Kind       ViolationKind
	Row        int    // index in the batch; -1 if only Key tells which row it is
	Key        []Pair // primary key of the row, where Row is -1
	Table      string
	Constraint string   // name or text of the constraint
	Columns    []string // of the constraint
	Values     []grow.Value
	Other      []Pair // primary key of the row collided with
	Refers     string // the table referred to, of a foreign key
	Code       string // the engine's own code; empty if this program refused the row
	Message    string // the engine's own words
}

// Pair is a column and its value.
type Pair struct {
	Column string
	Value  grow.Value
}

func (v *Violation) Error() string {
	return fmt.Sprintf("%s violation in %s: %s", v.Kind, v.Table, v.Message)
}

// FaultKind is what is wrong with a database as a whole.
type FaultKind string

// The kinds of faults.
const (
	Missing     FaultKind = "missing" // there is no such database
	Foreign     FaultKind = "foreign" // the file is something else
	Locked      FaultKind = "locked"
	ReadOnly    FaultKind = "read_only"
	Full        FaultKind = "full" // no room on the disk
	BadURL      FaultKind = "bad_url"
	Interrupted FaultKind = "interrupted"
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

// Open opens a database with the driver for its URL.
func Open(ctx context.Context, drivers []Driver, url string) (Store, error) {
	if d := driver(drivers, url); d != nil {
		return d.Open(ctx, url)
	}
	var known []string
	for _, d := range drivers {
		for _, s := range d.Schemes() {
			known = append(known, s+":")
		}
	}
	shown := url
	if scheme, _, ok := strings.Cut(url, ":"); ok {
		shown = scheme + ":..." // what follows may hold a password
	}
	return nil, &Fault{Kind: BadURL, Message: fmt.Sprintf("%q is no database URL that this program knows", shown),
		Hint: "URLs begin with " + strings.Join(known, ", ") + " such as sqlite:path.db"}
}

// Beside returns a URL whose relative file, if it names one, lies in a folder.
func Beside(drivers []Driver, url, folder string) string {
	if d := driver(drivers, url); d != nil {
		return d.Beside(url, folder)
	}
	return url
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
