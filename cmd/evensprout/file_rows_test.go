package main

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const branchTables = `CREATE TABLE branches (id {key}, code VARCHAR(9) NOT NULL UNIQUE,
  city VARCHAR(40) NOT NULL, slug VARCHAR(60) NOT NULL UNIQUE);
CREATE TABLE staff (id {key}, branch_id INTEGER NOT NULL, name VARCHAR(40) NOT NULL,
  FOREIGN KEY (branch_id) REFERENCES branches (id));
`

const branchPlan = `name: branches
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Branch:
    table: branches
    rows_from: {file: branches.csv, key: code, columns: same}
    fields: {id: {count: 1}, slug: {kind: slug, unique: true}}
  Staff:
    table: staff
    per: {Branch: 1..3}
    fields: {id: {count: 1}, name: {kind: given-name}}
`

// Rows are planned for each row of a file; what is generated beside a file's columns can be unique, and stays with the
// line's key when lines are moved and added.
func TestRowsBesideAFile(t *testing.T) {
	onTables(t, branchTables, branchPlan, func(t *testing.T, s *site) {
		var lines []string
		for i := range 300 {
			lines = append(lines, fmt.Sprintf("B%d,Town %d", i, i%7))
		}
		s.write("branches.csv", "code,city\n"+strings.Join(lines, "\n")+"\n")
		r := s.on("check")
		require.Zero(t, r.code, r.errOut)
		assert.NotContains(t, r.errOut, "warning")
		r = s.on("load")
		require.Zero(t, r.code, r.errOut)
		r = s.on("compare")
		require.Zero(t, r.code, r.out)
		slugs := s.slugs(t)
		require.Len(t, slugs, 300)

		s.write("branches.csv", "code,city\n"+strings.Join(lines, "\n")+"\nNEW,Moss\n")
		r = s.on("load")
		require.Zero(t, r.code, r.errOut)
		require.Zero(t, s.on("compare").code)

		lines[3], lines[200] = lines[200], lines[3]
		s.write("branches.csv", "code,city\nTOP,Oslo\n"+strings.Join(lines, "\n")+"\n")
		r = s.on("load", "--anew")
		require.Zero(t, r.code, r.errOut)
		kept := 0
		for code, slug := range s.slugs(t) {
			if slugs[code] == slug {
				kept++
			}
		}
		assert.GreaterOrEqual(t, kept, 297, "but for those whose place the new line has")
		require.Zero(t, s.on("compare").code)
	})
}

// slugs are the slugs of the branches by their codes.
func (s *site) slugs(t *testing.T) map[string]string {
	t.Helper()
	out := map[string]string{}
	for _, line := range strings.Split(s.on("look", "branches", "--limit", "1000").out, "\n") {
		if f := strings.Fields(line); len(f) > 3 && strings.HasPrefix(f[1], "B") {
			out[f[1]] = f[len(f)-1]
		}
	}
	return out
}
