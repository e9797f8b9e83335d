// Package draft makes plans for the tables of a database: how many rows, and where each
// field gets its values, so that the rows satisfy every constraint that the database
// tells of. A draft is made to be read and made better by hand.
package draft

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"evensprout/internal/habits"
	"evensprout/internal/lexicon"
	"evensprout/internal/schema"
	"evensprout/internal/sources"
	"evensprout/internal/value"
)

// Options say what a draft is made of.
type Options struct {
	Name    string                             // the plan's
	URL     string                             // of the database, without a password; empty if the plan names none
	Rows    uint64                             // wished for each table that is no child of another; 0: as seems fit
	Held    map[*schema.Table]*habits.Contents // what tables hold; see habits.Look
	Names   lexicon.Naming                     // how fields are called
	Only    func(*schema.Table) bool           // the tables that are wanted, beside those that they need; nil: all
	Learned map[*schema.Table]*habits.Learned  // what rows tell; see Learn
	// What the code calls tables and columns, and the constants of a column's type; empty
	// or nil where it says nothing.
	Entities map[*schema.Table]string
	Fields   map[*schema.Column]string
	Choices  map[*schema.Column][]value.Value
	Refers   map[*schema.Column]*schema.Reference // what the code says that no constraint says
	// Loosens tells that a reference that closes a circle can be put off, even if it is
	// not deferrable.
	Loosens bool
	Probe   Prober // asks the database about conditions; nil: it cannot be asked
	Size    uint64 // of a table that needs no other, if Rows is 0; 0: 100
	Today   int64  // the day of the plan's clock, in days since 1970; 0: 2026-05-01
	Proof   string // what trying the draft has shown; empty: it was not tried
	Found   Found  // what trying earlier drafts has shown
}

// Source is where a field gets its values.
type Source = sources.Source

// defaultRows is how many rows a table gets if nobody says.
const defaultRows = 100

// Draft is a plan for a database.
type Draft struct {
	Tables []*Table // in load order
	Left   []Left   // tables that the plan leaves out
}

// Left is a table that a draft leaves out, and why.
type Left struct {
	Table, Reason string
	Unasked       bool // nobody asked for it
}

// Make drafts a plan.
func Make(ctx context.Context, db *schema.Database, o Options) (*Draft, error) {
	given := o.Rows > 0
	if !given {
		o.Rows = cmp.Or(o.Size, defaultRows)
	}
	d := &drafter{given: given, Options: o, db: db, byTable: map[*schema.Table]*Table{}}
	d.choose(d.widen())
	for _, t := range d.tables {
		t.read()
	}
	d.narrow()
	d.common()
	d.name()
	d.lookups()
	d.families()
	d.guessReferences()
	for _, t := range d.tables {
		t.refer()
	}
	for _, t := range d.tables {
		if t.existing {
			continue
		}
		if err := t.fill(ctx); err != nil {
			return nil, err
		}
	}

	for left := -1; left != len(d.tables); { // a table that is left out may be needed by others
		left = len(d.tables)
		d.leaveWhatNeedsOthers()
		for _, t := range slices.Clone(d.tables) { // what had followed references that were given up
			if err := t.fillRest(ctx); err != nil {
				return nil, err
			}
		}
	}
	d.count(d.sorted()) // may end families, and what follows names parents
	d.sums()
	d.shareAncestors()
	d.afterParents()
	d.keepHours()
	for _, t := range d.tables {
		if !t.existing {
			t.learn()
			t.agree()
			t.followStatus()
		}
	}

	out := &Draft{Tables: d.sorted(), Left: d.left}
	d.count(out.Tables)
	for _, t := range out.Tables {
		if !t.existing {
			t.settle()
		}
	}
	return out, nil
}

// drafter drafts a plan for one database.
type drafter struct {
	Options
	given bool // the user said how many rows
	// triggers may refuse rows, so that loads go chunk by chunk, in which no circle can be closed at the end
	chunks  bool
	db      *schema.Database
	tables  []*Table
	byTable map[*schema.Table]*Table
	left    []Left
}

// Table is one table of a draft.
type Table struct {
	Schema  *schema.Table
	Entity  string
	Rows    uint64 // for children: about so many
	Fields  []*Field
	Unique  [][]*Field // groups of fields that differ together
	Meets   []string   // conditions on a row, as the plan writes them
	Notes   []string   // for people
	Learned *Learned   // from its rows; nil if they were not looked at

	d        *drafter
	existing bool       // its rows are those that are there
	parent   *reference // the reference to the parent; nil if it is none's child
	children string     // how many for each parent
	// the least and the most of them, if that was learned; 0, 0 if not
	least, most uint64
	refs        []*reference
	domains     map[string]*domain // by column
	together    []string           // conditions over several columns that only the database can compute
	agreed      []schema.Reference // undeclared ones, to what declared ones imply
	avoided     []string           // the rows of partial keys that the table does not have
	rest        []string           // conditions that are not of one column alone
}

// Field is one column of a draft.
type Field struct {
	Name    string
	Column  *schema.Column
	Source  Source
	Nulls   bool   // some are NULL
	Unique  bool   // no two rows have the same
	Comment string // the reason for a guess
	Draws   []Draw // what its source is made of

	table    *Table
	nulls    string     // the share of NULLs, if it was learned
	ref      *reference // the reference that it carries or belongs to
	follows  *Field     // of another table, whose value it has
	followed bool       // another moment is drawn after it
	begins   bool       // it is the moment in which the row begins
	apart    bool       // a range that must not overlap others
	unsaid   bool       // the plan leaves it to the database
	lead     bool       // it picks the row; the others of the reference follow
}

// Draw is a value that is drawn beside the fields, and not stored.
type Draw struct{ Name, Source string }

// null gives a column up: it is NULL in every row.
func (f *Field) null(why string) {
	f.Source, f.Nulls, f.Unique, f.Comment, f.Draws = Source{Text: "null", Fixed: true}, false, false, why, nil
}

// avoid leaves a column out: it is NULL, or takes its default.
func (f *Field) avoid(why string) {
	if f.unsaid = f.Column.NotNull; !f.unsaid {
		f.null(why)
	}
}

// widen adds to the tables that are wanted those that they cannot do without; nil: all.
func (d *drafter) widen() map[*schema.Table]bool {
	if d.Only == nil {
		return nil
	}
	wanted := map[*schema.Table]bool{}
	var need func(t *schema.Table)
	need = func(t *schema.Table) {
		if wanted[t] {
			return
		}
		wanted[t] = true
		for _, r := range t.References {
			must := r.To != nil
			for _, name := range r.Columns {
				c := t.Column(name)
				must = must && c != nil && c.NotNull
			}
			if must {
				need(r.To)
			}
		}
	}
	for _, t := range d.db.Tables {
		if d.Only(t) {
			need(t)
		}
	}
	return wanted
}

// choose takes the tables that are wanted and can be filled.
func (d *drafter) choose(wanted map[*schema.Table]bool) {
	for _, t := range d.db.Tables {
		switch {
		case d.Found.Without[t] != "":
			d.left = append(d.left, Left{Table: t.Name, Reason: d.Found.Without[t]})
		case wanted != nil && !wanted[t]:
			d.left = append(d.left, Left{Table: t.Name, Reason: "not selected", Unasked: true})
		case d.bookkeeping(t):
			d.left = append(d.left, Left{Table: t.Name, Reason: "it records migrations"})
		case t.Broken != "":
			d.left = append(d.left, Left{Table: t.Name, Reason: t.Broken})
		case d.fedBy(t) != nil:
			d.left = append(d.left, Left{Table: t.Name, Reason: "triggers of " + d.fedBy(t).Name + " add its rows"})
		case t.Partition == "false":
			d.left = append(d.left, Left{Table: t.Name, Reason: "it is partitioned, and no partition accepts a row"})
		default:
			x := &Table{Schema: t, d: d, domains: map[string]*domain{}}
			d.tables = append(d.tables, x)
			d.byTable[t] = x
		}
	}
}

// bookkeeping reports whether a table only keeps track of migrations: such tables are
// called so, and nothing refers to them.
func (d *drafter) bookkeeping(t *schema.Table) bool {
	plain := schema.Plain(t.LocalName())
	named := strings.Contains(plain, "migration") || strings.HasSuffix(plain, "schemaversion") ||
		strings.HasSuffix(plain, "schemahistory") ||
		strings.HasSuffix(plain, "dbversion")
	return named && len(t.References) == 0 && len(t.Columns) <= 16 &&
		!slices.ContainsFunc(d.db.Tables, func(o *schema.Table) bool {
			return slices.ContainsFunc(o.References, func(r schema.Reference) bool { return r.To == t })
		})
}

// fedBy is a table whose triggers add the rows of another, with keys of theirs, so that
// rows of a plan would be in their way; nil if there is none.
func (d *drafter) fedBy(t *schema.Table) *schema.Table {
	for _, name := range t.PrimaryKey {
		if c := t.Column(name); c == nil || c.Identity != schema.NoIdentity || c.Default {
			return nil // its rows number themselves
		}
	}
	referred := slices.ContainsFunc(d.db.Tables, func(o *schema.Table) bool {
		return slices.ContainsFunc(o.References, func(r schema.Reference) bool { return r.To == t })
	})
	if len(t.PrimaryKey) == 0 || referred {
		return nil
	}
	for _, o := range d.db.Tables {
		if o != t &&
			slices.ContainsFunc(o.Feeds, func(name string) bool { return strings.EqualFold(name, t.LocalName()) }) {
			return o
		}
	}
	return nil
}

// find is the field of a column, or nil.
func (t *Table) find(column string) *Field {
	for _, f := range t.Fields {
		if strings.EqualFold(f.Column.Name, column) {
			return f
		}
	}
	return nil
}

// targeted reports whether references point to the values of a field.
func (d *drafter) targeted(f *Field) bool {
	return d.targetedBy(f.table, func(r *reference) bool {
		return slices.ContainsFunc(r.Targets, func(c string) bool { return strings.EqualFold(c, f.Column.Name) })
	})
}

// targetedBy reports whether some reference to a table is such a one.
func (d *drafter) targetedBy(t *Table, such func(*reference) bool) bool {
	for _, o := range d.tables {
		for _, r := range o.refs {
			if r.to == t.Schema && such(r) {
				return true
			}
		}
	}
	return false
}

// leave takes a table out of the draft.
func (t *Table) leave(reason string) {
	d := t.d
	if d.byTable[t.Schema] == nil {
		return
	}
	d.left = append(d.left, Left{Table: t.Schema.Name, Reason: reason})
	delete(d.byTable, t.Schema)
	d.tables = slices.DeleteFunc(slices.Clone(d.tables), func(o *Table) bool { return o == t })
}

// sorted are the tables in an order in which they can be loaded: what is referred to
// first, as far as there is one.
func (d *drafter) sorted() []*Table {
	var out []*Table
	state := map[*Table]int{}
	var place func(t *Table)
	place = func(t *Table) {
		state[t] = 1
		for _, hard := range []bool{true, false} {
			for _, r := range t.refs {
				if to := d.byTable[r.to]; to != nil && state[to] == 0 && r.needed() == hard {
					place(to)
				}
			}
		}
		out = append(out, t)
	}
	for _, t := range d.tables {
		if state[t] == 0 {
			place(t)
		}
	}
	return out
}
