package load

import (
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/journal"

	"evensprout/internal/plan"
)

// migrated drops the differences of a plan that a migration of the tables explains: fields
// that are called otherwise now (was), fields whose columns are gone, and fields of columns
// that were not there when the plan was loaded. What it drops it notes.
func (l *Session) migrated(diffs []plan.Difference, earlier *plan.Plan, last *journal.Entry) []plan.Difference {
	l.Result.Migrated = nil
	renamed := map[string]bool{} // old fields, as Entity.field
	fieldOf := func(d plan.Difference) (*Target, string, bool) {
		words := strings.Split(d.Path, ".")
		if len(words) != 4 || words[0] != "entities" || words[2] != "fields" {
			return nil, "", false
		}
		t := l.Named(words[1])
		return t, words[3], t != nil
	}
	for _, d := range diffs {
		t, field, ok := fieldOf(d)
		if !ok || d.Was != "" {
			continue
		}
		if was := l.Plan.Plan.Was(t.Plan.Name, field); was != "" &&
			l.Plan.Plan.FieldSays(earlier, t.Plan.Name, field, was) {
			renamed[t.Plan.Name+"."+was], renamed[t.Plan.Name+"."+field] = true, true
			l.Result.Migrated = append(l.Result.Migrated, fmt.Sprintf("%s.%s was %s", t.Plan.Name, field, was))
		}
	}
	return slices.DeleteFunc(diffs, func(d plan.Difference) bool {
		t, field, ok := fieldOf(d)
		if !ok {
			return false
		}
		name := t.Plan.Name + "." + field
		switch {
		case renamed[name]:
			return true
		case d.Is == "" && t.Table.ByConvention(field) == nil && t.Table.ByConvention(field+"_id") == nil:
			l.Result.Migrated = append(l.Result.Migrated, "the column of "+name+" is gone")
			return true
		case d.Was == "":
			return l.isNewColumn(t, field, last, name)
		}
		return false
	})
}

// isNewColumn reports whether the column of a field was not there when the plan was loaded.
func (l *Session) isNewColumn(t *Target, field string, last *journal.Entry, name string) bool {
	for i, f := range t.Grow.Fields {
		if f.Name != field || t.Columns[i] == nil {
			continue
		}
		for _, e := range last.About.Entities {
			if e.Entity == t.Plan.Name && len(e.Columns) > 0 && !slices.Contains(e.Columns, t.Columns[i].Name) {
				l.Result.Migrated = append(
					l.Result.Migrated,
					"the column of "+name+" is new: existing rows keep its present values",
				)
				return true
			}
		}
	}
	return false
}
