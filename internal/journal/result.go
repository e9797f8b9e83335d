package journal

import (
	"fmt"
	"strings"
	"time"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// Merge adds counts.
func (e *Entity) Merge(o Entity) {
	e.Inserted += o.Inserted
	e.Updated += o.Updated
	e.Unchanged += o.Unchanged
	e.Kept += o.Kept
	e.Removed += o.Removed
	e.Rejected += o.Rejected
	e.Unmatched += o.Unmatched
	e.Fingerprint.Add(o.Fingerprint)
	e.Awkward.Add(o.Awkward, 1)
}

// Report shows the row, the constraint and what to do.
func (r *Refusal) Report() diag.Report {
	return diag.Report{Kind: diag.Violation, Layout: r, Data: true, Members: map[string]any{"refusal": r}}
}

// Result is what a load did, with counts from the database itself.
type Result struct {
	Load    int64 `json:"load,omitempty"`    // its number in the journal; 0 if it is not there
	Earlier int64 `json:"earlier,omitempty"` // the load that wrote the rows that were not repeated
	// the load that was partly withdrawn, and whose missing rows were put back
	Completed int64 `json:"completed,omitempty"`
	PutBack   int64 `json:"put_back,omitempty"` // these rows
	Amended   bool  `json:"amended,omitempty"`  // rows of the load were changed to what the plan says now
	// NotAmended tells why rows that could have been changed in place were withdrawn and loaded.
	NotAmended string `json:"-"`
	// Units are those of which an amended load keeps the runs, which have done all occasions; nil: they are to be run.
	Units []*UnitResult `json:"-"`
	// Concerned are the invariants that what was amended could break.
	Concerned []*schema.Rule `json:"-"`
	Stepped   []Stepped      `json:"stepped,omitempty"` // keys that are not the planned ones
	// rows that earlier loads left out, and that are not there yet
	LeftOut      int64         `json:"left_out,omitempty"`
	Unread       bool          `json:"unread,omitempty"`   // triggers rewrote more rows than the journal keeps
	Migrated     []string      `json:"migrated,omitempty"` // how the tables have changed since the plan was loaded
	Entities     []Entity      `json:"entities"`           // in load order
	Rows         int64         `json:"rows"`               // inserted or updated
	Rejected     int64         `json:"rejected"`
	Redrawn      int64         `json:"redrawn"`
	Chunks       int           `json:"chunks"`
	Transactions int           `json:"transactions"`
	Repeated     int           `json:"repeated"` // transactions begun again after a deadlock or the like
	Commit       plan.Commit   `json:"commit"`
	DryRun       bool          `json:"dry_run"`
	Elapsed      time.Duration `json:"elapsed_ns"`
	Notice       string        `json:"notice,omitempty"`
	Unconnected  int           `json:"unconnected,omitempty"` // connections that were asked for and could not be opened
	Unit         *UnitResult   `json:"unit,omitempty"`        // of a run of a unit, in the journal
	Part         *PartResult   `json:"part,omitempty"`        // what one part did, of a load in parts
	Indexes      *Indexes      `json:"indexes,omitempty"`     // nil if there was nothing to decide
	// Statements are the distinct statements, and Sent how many ran.
	Statements []store.Statement `json:"statements,omitempty"`
	Sent       int64             `json:"statements_sent"`
	// Unmatched are the first rows that update found no row for.
	Unmatched []*Refusal `json:"unmatched,omitempty"`
	// Rejections are the first rows that were left out.
	Rejections []*Refusal `json:"rejections,omitempty"`
}

// Indexes is what a load did with the indexes of large tables that were empty.
type Indexes struct {
	Rebuilt int      `json:"rebuilt"`          // dropped, and made again behind the rows
	Tables  []string `json:"tables,omitempty"` // whose they are
	Kept    string   `json:"kept,omitempty"`   // why all stayed in place
}

// Entity is what a load did with one entity.
type Entity struct {
	Entity    string    `json:"entity"`
	Table     string    `json:"table"`
	Mode      plan.Mode `json:"mode"`
	Before    int64     `json:"rows_before"`
	Inserted  int64     `json:"inserted"`
	Updated   int64     `json:"updated"`
	Unchanged int64     `json:"unchanged"`
	Kept      int64     `json:"kept"`
	Removed   int64     `json:"removed"`
	Rejected  int64     `json:"rejected"`
	Refused   *Refusal  `json:"refused,omitempty"` // the first of its rows that was left out
	Unmatched int64     `json:"unmatched"`
	After     int64     `json:"rows_after"`
	Skipped   bool      `json:"skipped"` // its table was not empty, and the plan says when: empty
	// rows that an earlier load wrote, and this one did not repeat
	Loaded      uint64           `json:"loaded,omitempty"`
	Fingerprint grow.Fingerprint `json:"fingerprint"`
	Awkward     grow.Tally       `json:"awkward,omitempty"` // awkward values, by name
}

// PartResult is what one part of a load is, whoever wrote it.
type PartResult struct {
	order.Part
	Entities []Entity `json:"entities"` // in load order; rows before and after are not told
	Chunks   int      `json:"chunks"`
	Done     uint64   `json:"parts_done"` // how many parts are written whole
	Whole    bool     `json:"whole"`      // all of them are, and the load is done
}

// Refusal is a violation in the plan's words.
type Refusal struct {
	Kind       store.ViolationKind `json:"kind"`
	Entity     string              `json:"entity"`
	Step       string              `json:"step,omitempty"`    // of a unit, which is the entity then
	Row        string              `json:"row,omitempty"`     // such as Passenger row 4321, Passenger.ada
	Element    string              `json:"element,omitempty"` // of a list in an occasion, such as people[3].email
	Fields     []string            `json:"fields,omitempty"`
	Values     []string            `json:"values,omitempty"`
	Place      string              `json:"place,omitempty"` // of the row in its file, such as prices.csv:7
	Table      string              `json:"table"`
	Constraint string              `json:"constraint,omitempty"`
	Columns    []string            `json:"columns,omitempty"`
	Other      string              `json:"other,omitempty"` // the row collided with
	Refers     string              `json:"refers,omitempty"`
	Code       string              `json:"code,omitempty"`
	Message    string              `json:"message"` // the engine's own words
	Hint       string              `json:"hint,omitempty"`
}

// Error names the row and says why it was refused.
func (r *Refusal) Error() string {
	return fmt.Sprintf("%s: %s", r.who(), r.Summary())
}

// who is the row as people call it.
func (r *Refusal) who() string {
	if r.Row != "" {
		return r.Row
	}
	return r.Entity
}

// maxShown bounds how much of a value a message shows, in bytes.
const maxShown = 60

// Summary says in one line what was refused.
func (r *Refusal) Summary() string {
	what := strings.Join(r.Fields, ", ")
	var shown []string
	for _, v := range r.Values {
		if len(v) > maxShown {
			v = strings.ToValidUTF8(v[:maxShown], "") + "..."
		}
		shown = append(shown, fmt.Sprintf("%q", v))
	}

	value := strings.Join(shown, ", ")
	named := strings.TrimSpace(what + " " + value)
	switch r.Kind {
	case store.Unique:
		return fmt.Sprintf("%s already exists", named)
	case store.ForeignKey:
		if r.Constraint == Consequence {
			return r.Message
		}
		if r.Refers != "" && what != "" {
			return fmt.Sprintf("%s refers to a row of %s that does not exist", named, r.Refers)
		}
		return "a reference points to a row that does not exist"
	case store.NotNull:
		if what != "" {
			return fmt.Sprintf("%s must not be NULL", what)
		}
	case store.RowCount:
		if what != "" {
			return fmt.Sprintf("%s: %s", named, r.Message)
		}
	case store.Check:
		if r.Constraint == "" {
			return r.Message
		}
		return fmt.Sprintf("%s does not hold", r.Constraint)
	case store.TooLong, store.OutOfRange, store.BadValue:
		return strings.TrimPrefix(fmt.Sprintf("%s: %s", named, r.Message), ": ")
	}
	return r.Message
}

// Consequence stands for the constraint of rows that are left out with another.
const Consequence = "consequence"

// Stepped is a run of keys that rows got because others have the planned ones.
type Stepped struct {
	Entity string `json:"entity"`
	Table  string `json:"table"`
	Rows   int64  `json:"rows"`
	First  int64  `json:"first"` // key
}

// UnitResult is what a run of a unit did.
type UnitResult struct {
	Unit         string        `json:"unit"`
	Load         int64         `json:"load,omitempty"` // its number in the journal; 0 if it is not there
	Occasions    int64         `json:"occasions"`      // all that there are
	Done         int64         `json:"done"`           // by this run
	Earlier      int64         `json:"earlier"`        // by earlier runs, or by others at the same time
	Rejected     int64         `json:"rejected"`
	Together     uint64        `json:"together"` // occasions in one transaction; 0: all
	Transactions int           `json:"transactions"`
	Repeated     int           `json:"repeated"`
	AtOnce       int64         `json:"at_once"` // occasions that were done many at a time
	DryRun       bool          `json:"dry_run"`
	Undo         bool          `json:"undo"` // it can be withdrawn
	Steps        []StepResult  `json:"steps"`
	Elapsed      time.Duration `json:"elapsed_ns"`

	Statements []store.Statement `json:"statements,omitempty"`
	Sent       int64             `json:"statements_sent"`
	Rejections []*Refusal        `json:"rejections,omitempty"` // the first of them
}

// StepResult is what a step did over all occasions.
type StepResult struct {
	Step  string `json:"step"` // such as update Sailing
	Table string `json:"table,omitempty"`
	Rows  int64  `json:"rows"` // found, added, changed or removed; of a loop, elements
	Loop  bool   `json:"loop,omitempty"`
}
