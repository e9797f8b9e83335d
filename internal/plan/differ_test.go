package plan

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDepartures(t *testing.T) {
	const base = "name: x\nseed: s\ndatabase: sqlite:a.db\nentities:\n  A:\n    rows: 5\n    write: insert\n    " +
		"fields: {n: {between: [1, 9]}}\n"
	read := func(text string) *Plan {
		p, err := Read("p.yaml", []byte(text))
		require.NoError(t, err)
		return p
	}
	was := read(base)
	for name, c := range map[string]struct {
		text            string
		resumed, stored []string // paths of the differences: to resume it, and to restore it
	}{
		"the same": {base, nil, nil},
		"a remark": {"# remark\n" + base, nil, nil},
		"another place": {"name: x\nseed: s\ndatabase: sqlite:b.db\nentities:\n  A:\n    rows: 5\n    write: " +
			"insert\n    fields: {n: {between: [1, 9]}}\n", nil, nil},
		"more rows": {"name: x\nseed: s\nentities:\n  A:\n    rows: 6\n    write: insert\n    fields: {n: " +
			"{between: [1, 9]}}\n", []string{"entities.A.rows"}, nil},
		"another mode": {"name: x\nseed: s\nentities:\n  A:\n    rows: 5\n    write: replace\n    fields: {n: " +
			"{between: [1, 9]}}\n", []string{"entities.A.write"}, []string{"entities.A.write"}},
		"another source": {"name: x\nseed: s\nentities:\n  A:\n    rows: 5\n    write: insert\n    fields: {n: " +
			"{between: [1, 8]}}\n", []string{"entities.A.fields.n.between"}, []string{"entities.A.fields.n.between"}},
		"a new entity": {base + "  B: {rows: 1}\n", []string{"entities.B"}, nil},
		"an entity less": {"name: x\nseed: s\nentities:\n  B: {rows: 1}\n", []string{"entities.A", "entities.B"},
			[]string{"entities.A"}},
		"another seed": {"name: x\nseed: t\nentities:\n  A:\n    rows: 5\n    write: insert\n    fields: {n: " +
			"{between: [1, 9]}}\n", []string{"seed"}, []string{"seed"}},
		"another setting": {"commit: chunk\n" + base, []string{"commit"}, []string{"commit"}},
	} {
		for appended, want := range map[bool][]string{false: c.resumed, true: c.stored} {
			var got []string
			for _, d := range read(c.text).Departures(was, appended) {
				got = append(got, d.Path)
			}
			assert.ElementsMatch(t, want, got, "%s, appended %t", name, appended)
		}
	}
}
