package archive

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/journal"

	"evensprout/internal/diag"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// Operator is who works on a load of the journal, with their own plan. Plan and command line
// are trusted. The journal is data: whoever may write to it could have written anything, so
// it gives no orders. No path that stands in it is opened, and a plan that stands in it is
// held against the operator's.
type Operator struct {
	Plan *plan.Plan // nil if none was named
	// Strict holds the tables of a load against the operator's plan in any case: nobody has
	// named the load.
	Strict bool
	// Demand says what is to be done with loads only if their plan is the operator's: resumed
	// or restored; empty: it may have been edited since.
	Demand string
	// Ignore names columns whose values do not count, beside those that the plan names.
	Ignore []string
	// Rows opens files of rows again.
	Rows func(plan.FileSpec) (plan.FileRows, diag.Problems)
}

const (
	DemandResumed  = "resumed"
	demandRestored = "restored"
	demandRetried  = "retried"
)

// ToRetry demands the same: the values of rows that are tried again come from the plan that
// the journal keeps.
func (o Operator) ToRetry() Operator {
	o.Demand = demandRetried
	return o
}

// renamed is the name that a field of a load's plan has in the operator's.
func (o Operator) renamed(entity, field string) string {
	if o.Plan == nil {
		return ""
	}
	for _, e := range o.Plan.Entities {
		if e.Name != entity {
			continue
		}
		for _, f := range e.Fields {
			if f.Was == field {
				return cmp.Or(f.Column, f.Name)
			}
			if f.Name == field && f.Column != "" {
				return f.Column
			}
		}
	}
	return ""
}

// ToRestore demands that the plan is the operator's.
func (o Operator) ToRestore() Operator {
	o.Demand = demandRestored
	return o
}

// Knows reports whether the operator's plan is a load's, whatever was edited since.
func (o Operator) Knows(e *journal.Entry) bool { return o.Plan != nil && o.Plan.Name == e.Plan }

// HoldAgainst refuses a load whose stored plan is not the operator's, where that is demanded. To
// restore it, more rows and new entities do not count.
//
// Nor do fields that a migration explains: those that are called otherwise now, those that
// the stored plan does not have, which are not touched, and those whose columns are lost.
func (o Operator) HoldAgainst(e *journal.Entry, lost []string) error {
	if o.Plan == nil || o.Demand == "" {
		return nil
	}
	stored, err := Plan(e)
	if err != nil {
		return err
	}
	what := "its name"
	if o.Knows(e) {
		list := o.Plan.Departures(stored, o.Demand != DemandResumed)
		if o.Demand != DemandResumed {
			list = slices.DeleteFunc(list, func(d plan.Difference) bool {
				words := strings.Split(d.Path, ".")
				if len(words) != 4 || words[0] != "entities" || words[2] != "fields" {
					return false
				}
				entity, field := words[1], words[3]
				now := o.renamed(entity, field)
				return d.Was == "" ||
					d.Is == "" &&
						(slices.Contains(lost, entity+"."+field) || now != "" &&
							o.Plan.FieldSays(stored, entity, now, field))
			})
		}
		if len(list) == 0 {
			return nil
		}
		what = list[0].String()
	}
	return &store.Fault{
		Kind: store.Refused,
		Message: fmt.Sprintf(
			"load %d was not %s: its plan in the journal differs from %s (%s)",
			e.Number,
			o.Demand,
			o.Plan.File(),
			what,
		),
		Hint: fmt.Sprintf(
			"evensprout history %d --plan > was.yaml writes that plan: read it, and name it instead of yours;\n  "+
				"     or undo the load with evensprout withdraw %d",
			e.Number,
			e.Number,
		),
	}
}

// MayResume refuses to go on with a load whose stored plan is not the operator's.
func (o Operator) MayResume(e *journal.Entry) error {
	o.Demand = DemandResumed
	return o.HoldAgainst(e, nil)
}

// Same reports whether the operator's plan is the one that the journal keeps of a load.
func (o Operator) Same(e *journal.Entry) bool {
	return o.Plan != nil && o.MayResume(e) == nil
}

// StoredPlan is the plan that the journal keeps of a load, as it was written.
func StoredPlan(e *journal.Entry) ([]byte, error) {
	p, err := Plan(e)
	if err != nil {
		return nil, err
	}
	return p.Source(), nil
}

// Reach tells which tables the taking back of a load may touch. Where others may write to
// the journal, these are the tables of the operator's plan, and those that refer to them.
func (o Operator) Reach(e *journal.Entry, j *store.Journal, db *schema.Database) (func(table string) error, error) {
	if len(j.Writers) == 0 && !o.Strict {
		return func(string) error { return nil }, nil
	}
	others := strings.Join(j.Writers, ", ")
	if others == "" {
		others = "others"
	}
	if !o.Knows(e) {
		return nil, &store.Fault{
			Kind: store.Refused,
			Message: fmt.Sprintf(
				"load %d was not touched: %s can also write to the journal, so name its plan %s",
				e.Number,
				others,
				e.Plan,
			),
			Hint: fmt.Sprintf("name its file: evensprout withdraw %d PLAN.yaml", e.Number),
		}
	}

	var tables []*schema.Table
	take := func(t *schema.Table) {
		if t != nil && !slices.Contains(tables, t) {
			tables = append(tables, t)
		}
	}
	byEntity := map[string]*schema.Table{}
	for _, t := range o.Plan.Outline(db) {
		take(t.Table)
		byEntity[t.Plan.Name] = t.Table
	}
	for _, u := range o.Plan.Units {
		for _, s := range u.AllSteps() {
			take(byEntity[s.Target])
			take(db.Table(s.Target))
		}
	}

	for i := 0; i < len(tables); i++ {
		for _, t := range db.Tables {
			if slices.ContainsFunc(t.References, func(r schema.Reference) bool { return r.To == tables[i] }) {
				take(t)
			}
		}
	}
	return func(table string) error {
		if t := db.Table(table); t == nil || slices.Contains(tables, t) {
			return nil
		}
		return &store.Fault{
			Kind: store.Refused,
			Message: fmt.Sprintf(
				"load %d was not touched: according to the journal it wrote to %s, which %s does not mention; %s "+
					"can also write to the journal",
				e.Number,
				table,
				o.Plan.File(),
				others,
			),
			Hint: fmt.Sprintf(
				"if that is right: evensprout history %d --plan > was.yaml writes its plan: read it, then "+
					"evensprout withdraw %d was.yaml",
				e.Number,
				e.Number,
			),
		}
	}, nil
}
