package preflight

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/load"

	"evensprout/internal/journal"

	"evensprout/internal/diag"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Foreseen is the load that is looked ahead at.
type Foreseen struct {
	Plan     *plan.Plan
	Database *schema.Database
	Compiled *plan.Compiled // nil if the plan is wrong
	// rows of a table whose keys are read; where there are more, keys are looked up; 0: as in a load
	MostKnown int64
}

// Foresee tells what a load would meet in the database: rights that are missing, rows
// that are there already, triggers, engines without transactions, clocks that disagree.
// Of a plan that is wrong it tells what can be told of the tables. Nothing is written.
func Foresee(ctx context.Context, s store.Store, of Foreseen) (diag.Problems, error) {
	p, c := of.Plan, of.Compiled
	f := &foresight{store: s, plan: p, known: cmp.Or(of.MostKnown, load.MaxKnown)}
	var l *load.Session
	if c != nil {
		var err error
		if l, err = load.NewSession(c, s, load.Options{Journal: &load.Journal{}}); err != nil {
			return nil, err
		}
		for _, t := range l.List {
			f.writes = append(f.writes, writesOf(l, t))
		}
		for _, x := range l.Loose {
			i := slices.IndexFunc(f.writes, func(w foreseenWrite) bool { return w.Table == x.Table })
			f.writes[i].access.Loosen = true
			f.warn(
				f.writes[i].Target,
				"it is checked before the commit; other transactions may have to wait until then",
				"%s closes a circle of references, and can neither be NULL nor be deferred by the schema: it is "+
					"deferred during the load",
				strings.Join(x.Reference.Columns, ", "),
			)
		}
	} else {
		for _, t := range p.Outline(of.Database) {
			f.writes = append(f.writes, outlined(t))
		}
	}

	for _, w := range f.writes {
		f.table(w.Target)
	}
	if err := errors.Join(f.rights(ctx), f.clocks(ctx)); err != nil {
		return f.found, err
	}
	earlier, err := loadedBefore(ctx, s, p.Name)
	switch {
	case earlier || err != nil: // then a load knows its own rows
	case l == nil || len(f.found.Errors()) > 0:
		err = f.rows(ctx)
	default:
		err = f.collisions(ctx, l)
	}
	return f.found, err
}

// foresight is what is foreseen of a load.
type foresight struct {
	store  store.Store
	plan   *plan.Plan
	writes []foreseenWrite
	found  diag.Problems
	known  int64 // rows of a table whose keys are read
}

// foreseenWrite is an entity, and what is done with its table.
type foreseenWrite struct {
	*plan.Target
	access store.Access
}

// wrong notes what would end the load.
func (f *foresight) wrong(t *plan.Target, hint, format string, args ...any) {
	p := f.plan.Problem(t.Plan, format, args...)
	p.Hint = hint
	f.found = append(f.found, p)
}

// warn notes what people should know beforehand.
func (f *foresight) warn(t *plan.Target, hint, format string, args ...any) {
	f.wrong(t, hint, format, args...)
	f.found[len(f.found)-1].Warning = true
}

// table tells what the survey says about a table.
func (f *foresight) table(t *plan.Target) {
	if t.Plan.Existing {
		return
	}
	if t.Table.Broken != "" {
		f.wrong(t, "", "rows cannot be written to %s: %s", t.Table.Name, t.Table.Broken)
	}
	if why := schema.Lasting([]*schema.Table{t.Table}); why != "" {
		f.warn(t, "rows in it remain when a load is rolled back: load takes it only with --commit chunk, and never for a replace or a dry run", "%s", why)
	}

	if t.Table.External != "" {
		f.warn(
			t,
			"a load writes, changes or deletes rows of another server or table, which are committed there on their "+
				"own: if one of the two commits fails, the journal and these rows differ",
			"the rows of the table %s are stored elsewhere: %s",
			t.Table.Name,
			t.Table.External,
		)
	}

	if t.Table.Secured {
		f.warn(
			t,
			"they may refuse rows, and hide existing rows",
			"row-level security policies apply to this user in %s",
			t.Table.Name,
		)
	}

	if n := len(t.Table.Triggers); n > 0 {
		f.warn(
			t,
			"they may refuse rows, or write rows that a withdrawal does not know of",
			"triggers run when rows are written to %s: %s",
			t.Table.Name,
			strings.Join(t.Table.Triggers, ", "),
		)
	}
}

// outlined is what is done with the table of an entity whose plan may be wrong.
func outlined(t *plan.Target) foreseenWrite {
	w := store.Access{Table: t.Table, Delete: t.Write.Mode == plan.Replace}
	if t.Plan.Existing {
		w.Read = t.Table.Columns
		return foreseenWrite{t, w}
	}
	for _, c := range t.Columns {
		if c != nil && !c.Generated {
			w.Read = append(w.Read, c)
		}
	}
	if t.Write.Mode != plan.Update {
		w.Insert = w.Read
	}
	w.Update = slices.Concat(t.Write.Set, t.Write.Stamp)
	w.Stage = t.Write.Mode != plan.Insert && t.Write.Mode != plan.Replace
	return foreseenWrite{t, w}
}

// writesOf is what is done with the table of an entity.
func writesOf(l *load.Session, t *load.Target) foreseenWrite {
	w := outlined(t.Target)
	a := &w.access
	if t.Plan.Existing {
		return w
	}
	for _, i := range t.Late {
		a.Update = append(a.Update, t.Columns[i])
	}
	if a.Insert != nil {
		a.Insert = t.Writes.Columns // without keys that the database gives
	}
	if t.Key != nil && t.Key.Identity != schema.NoIdentity && !t.Unkeyed && t.Write.Mode != plan.Update {
		a.Number = t.Key
	}
	a.Stage = a.Stage || len(t.Late) > 0 || t.Sums || l.Policy(t, store.Unique) != plan.Stop
	return w
}

// rights tells what this user may not do.
func (f *foresight) rights(ctx context.Context) error {
	for _, w := range f.writes {
		a := w.access
		a.Stage = false // of the database, and told once
		why, err := f.store.Denied(ctx, a)
		if err != nil {
			return err
		}
		if why != "" {
			what := "rows cannot be written to"
			if len(a.Insert)+len(a.Update) == 0 {
				what = "rows cannot be read from"
			}
			f.wrong(
				w.Target,
				"grant the right, or use a user in the database URL who has it",
				"%s %s: %s",
				what,
				w.Table.Name,
				why,
			)
		} else if !a.Delete && len(a.Insert) > 0 {
			if why, err = f.store.Denied(ctx, store.Access{Table: w.Table, Delete: true}); err != nil {
				return err
			} else if why != "" {
				f.warn(w.Target, "load works anyway", "rows written to %s could not be removed again: "+
					"%s", w.Table.Name, why)
			}
		}
	}

	if i := slices.IndexFunc(f.writes, func(w foreseenWrite) bool { return w.access.Stage }); i >= 0 {
		why, err := f.store.Denied(ctx, store.Access{Stage: true})
		if err != nil {
			return err
		}
		if why != "" {
			f.wrong(
				f.writes[i].Target,
				"grant the right, or use a user in the database URL who has it",
				"rows of %s go to temporary tables first, and that is not allowed: %s",
				f.writes[i].Plan.Name,
				why,
			)
		}
	}

	if len(f.writes) == 0 || len(f.found.Errors()) > 0 {
		return nil
	}
	return f.journal(ctx)
}

// journal reports whether the journal can be kept.
func (f *foresight) journal(ctx context.Context) error {
	j, err := f.store.Journal(ctx, false)
	if err != nil {
		return err
	}
	needs := []store.Access{{Journal: true}}
	if j != nil {
		needs = nil
		for _, t := range []*schema.Table{j.Loads, j.Chunks, j.Contents, j.Occasions} {
			if t != nil {
				needs = append(
					needs,
					store.Access{Table: t, Read: t.Columns, Insert: t.Columns, Update: t.Columns, Delete: true},
				)
			}
		}
	}

	for _, a := range needs {
		why, err := f.store.Denied(ctx, a)
		if err != nil {
			return err
		}
		if why != "" {
			f.warn(
				f.writes[0].Target,
				"grant the right, or load with --no-journal: then the load cannot be resumed or withdrawn, and a "+
					"second load does not know of it",
				"the journal cannot be kept: %s",
				why,
			)
			return nil
		}
	}
	return nil
}

// clocks tells where moments may be read otherwise than they are meant.
func (f *foresight) clocks(ctx context.Context) error {
	now, zone, err := f.store.Clock(ctx)
	if err != nil {
		return err
	}
	var columns []string
	var first *plan.Target
	for _, w := range f.writes {
		if w.Plan.Existing {
			continue
		}
		for _, c := range w.Table.Columns {
			if c.Zoneless && (slices.Contains(w.access.Insert, c) || slices.Contains(w.access.Update, c) || c.Default) {
				columns = append(columns, w.Table.Name+"."+c.Name)
				if first == nil {
					first = w.Target
				}
			}
		}
	}

	if zone != "" && first != nil {
		f.warn(
			first,
			"this is right for programs that store UTC there; programs that store local time will read shifted "+
				"values",
			"the server's time zone is %s, and %s without a time zone: times are written there in UTC",
			zone,
			someOf(columns, "is a column", "are columns"),
		)
	}

	if f.plan.Clock.N > now.UnixMicro() && len(f.writes) > 0 {
		f.warn(
			f.writes[0].Target,
			"a CHECK or a program that compares with the time of day may refuse what must be between; clock: at "+
				"the head of the plan, or --clock, sets it",
			"the clock of the plan, %s, is ahead of the server's, %s",
			f.plan.Clock,
			value.Value{Type: value.Timestamp, N: now.Truncate(1e9).UnixMicro()},
		)
	}
	return nil
}

// someOf names the first few of a list.
func someOf(names []string, one, more string) string {
	const most = 3
	switch n := len(names); {
	case n == 1:
		return names[0] + " " + one
	case n > most:
		return fmt.Sprintf("%s and %d more %s", strings.Join(names[:most], ", "), n-most, more)
	default:
		return strings.Join(names[:n-1], ", ") + " and " + names[n-1] + " " + more
	}
}

// rows tells which tables are not empty, where more cannot be told.
func (f *foresight) rows(ctx context.Context) error {
	var full []string
	var first *plan.Target
	for _, w := range f.writes {
		if w.Plan.Existing || w.Plan.WhenEmpty || w.Write.Mode != plan.Insert {
			continue
		}
		n, err := f.store.Count(ctx, w.Table)
		var fault *store.Fault
		if errors.As(err, &fault) && fault.Kind == store.Denied {
			continue // told
		}
		if err != nil {
			return err
		}
		if n > 0 {
			full = append(full, fmt.Sprintf("%s (%d)", w.Table.Name, n))
			if first == nil {
				first = w.Target
			}
		}
	}

	if first != nil {
		f.warn(
			first,
			"check reports collisions with them once the plan is valid",
			"tables with rows: %s",
			strings.Join(full, ", "),
		)
	}
	return nil
}

// loadedBefore reports whether a plan was loaded before.
func loadedBefore(ctx context.Context, s store.Store, name string) (bool, error) {
	entries, err := journal.Unlocked(s).Entries(ctx, name)
	return len(entries) > 0, err
}
