package unit

import (
	"slices"

	"evensprout/internal/journal"

	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// undoAdded notes rows that a step added; without a key they cannot be found again.
func (s *unitStep) undoAdded(u *journal.Undo, values [][]value.Value, keys []value.Value) {
	var columns []*schema.Column
	var places []int
	for _, k := range s.rowKey {
		if k == s.key {
			continue
		}
		i := slices.Index(s.into.Columns, k)
		if i < 0 {
			return
		}
		columns, places = append(columns, k), append(places, s.into.Fields[i])
	}

	if len(s.rowKey) == 0 {
		return
	}
	section := journal.UndoSection{
		Step:  s.index,
		Kind:  journal.UndoAdded,
		Table: s.Table.Name,
		Key:   schema.NamesOf(s.rowKey),
	}
	for i, c := range s.into.Columns {
		if !slices.Contains(columns, c) {
			section.Columns, places = append(section.Columns, c.Name), append(places, s.into.Fields[i])
		}
	}
	for i, row := range values {
		var out []value.Value
		if s.key != nil {
			out = append(out, keys[i])
		}
		for _, at := range places {
			out = append(out, row[at])
		}
		section.Values = append(section.Values, out)
	}
	u.Add(section)
}

// undoChanged notes what changed rows held before and after.
func (s *unitStep) undoChanged(u *journal.Undo, before, after [][]value.Value) {
	k := len(s.rowKey)
	section := journal.UndoSection{
		Step:    s.index,
		Kind:    journal.UndoChanged,
		Table:   s.Table.Name,
		Key:     schema.NamesOf(s.rowKey),
		Columns: schema.NamesOf(s.kept),
	}
	for i := range before {
		section.Values = append(section.Values, slices.Concat(before[i], after[i][k:]))
	}
	u.Add(section)
}
