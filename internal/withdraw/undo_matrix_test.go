package withdraw_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"evensprout/internal/archive"
	"evensprout/internal/loadtest"
	"evensprout/internal/replay"
	"evensprout/internal/withdraw"

	"evensprout/internal/journal"
	"evensprout/internal/load"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/files"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
	"evensprout/internal/store/storetest"
	"evensprout/internal/value"
)

func TestMain(m *testing.M) { storetest.Main(m) }

const matrixTables = `
CREATE TABLE items (id {key}, code VARCHAR(8) NOT NULL UNIQUE, label VARCHAR(20), n INTEGER NOT NULL);
CREATE TABLE kinds (code VARCHAR(8) PRIMARY KEY, label VARCHAR(20), n INTEGER NOT NULL);
CREATE TABLE item_parts (id {key}, item_id INTEGER NOT NULL REFERENCES items (id), word VARCHAR(20));
CREATE TABLE kind_parts (id {key}, kind_code VARCHAR(8) NOT NULL REFERENCES kinds (code), word VARCHAR(20));`

// matrixCase is one way to load.
type matrixCase struct{ mode, keys, children, before, policy, commit string }

func (c matrixCase) String() string {
	return strings.Join(
		[]string{c.mode, "keys " + c.keys, "children " + c.children, "before " + c.before, c.policy, c.commit},
		", ",
	)
}

func matrix() []matrixCase {
	var all []matrixCase
	for _, mode := range []string{"insert", "keep", "upsert", "update", "replace"} {
		for _, keys := range []string{"planned", "planned far", "database", "natural"} {
			for _, children := range []string{"none", "per", "pick"} {
				for _, before := range []string{"nothing", "others", "some of the same"} {
					for _, policy := range []string{"stop", "skip", "redraw"} {
						for _, commit := range []string{"load", "chunk"} {
							if mode == "replace" && commit == "chunk" ||
								mode == "update" && (before == "nothing" || children != "none" || keys == "database") {
								continue // refused by the plan, or nothing to do
							}
							all = append(all, matrixCase{mode, keys, children, before, policy, commit})
						}
					}
				}
			}
		}
	}
	return all
}

func (c matrixCase) plan() string {
	table, entity, id := "items", "Item", ""
	switch c.keys {
	case "planned":
		id = "id: {count: 1}, "
	case "planned far":
		id = "id: {count: {from: 5001}}, "
	case "natural":
		table = "kinds"
	}
	var b strings.Builder
	fmt.Fprintf(&b, "name: matrix\nseed: s\nclock: 2026-05-01T08:00:00Z\ncommit: %s\n", c.commit)
	if c.policy != "stop" {
		fmt.Fprintf(&b, "on_violation: {unique: %s}\n", c.policy)
	}
	fmt.Fprintf(&b, "entities:\n  %s:\n    table: %s\n    rows: 12\n", entity, table)
	switch c.mode {
	case "insert":
	case "replace":
		fmt.Fprintf(&b, "    write: {mode: replace, cascade: true}\n")
	case "update":
		fmt.Fprintf(&b, "    write: {mode: update, match: [code], set: [label, n]}\n")
	default:
		fmt.Fprintf(&b, "    write: {mode: %s, match: [code]}\n", c.mode)
	}
	if c.keys == "database" {
		fmt.Fprintf(&b, "    keys: database\n")
	}
	fmt.Fprintf(
		&b,
		"    fields: {%scode: {pattern: \"A[0-9]{2}\", unique: true}, label: {pattern: \"[a-z]{4}\", nulls: 20%%}, "+
			"n: {between: [1, 9]}}\n",
		id,
	)
	if c.children != "none" {
		fmt.Fprintf(&b, "  Part:\n    table: %s_parts\n", strings.TrimSuffix(table, "s"))
		if c.children == "per" {
			fmt.Fprintf(&b, "    per: {%s: 0..2}\n    fields: {word: {pattern: \"[a-z]{5}\"}}\n", entity)
		} else {
			fmt.Fprintf(&b, "    rows: 9\n    fields: {%s: {pick: %s}, word: {pattern: \"[a-z]{5}\"}}\n",
				map[bool]string{true: "kind_code", false: "item_id"}[table == "kinds"], entity)
		}
	}
	return b.String()
}

// rowsBefore are the statements that fill the tables before a case.
func (c matrixCase) rowsBefore(codes []string) []string {
	out := []string{"DELETE FROM item_parts", "DELETE FROM kind_parts", "DELETE FROM items", "DELETE FROM kinds"}
	if c.before == "nothing" {
		return out
	}
	rows := []string{"Z01", "Z02"}
	if c.before == "some of the same" {
		rows = append(rows, codes[2], codes[7])
	}
	for i, code := range rows {
		out = append(
			out,
			fmt.Sprintf("INSERT INTO items (id, code, label, n) VALUES (%d, '%s', 'old', %d)", 9001+i, code, i+1),
			fmt.Sprintf("INSERT INTO kinds (code, label, n) VALUES ('%s', NULL, %d)", code, i+1),
		)
	}
	return append(
		out,
		"INSERT INTO item_parts (id, item_id, word) VALUES (9001, 9001, 'mine')",
		"INSERT INTO kind_parts (id, kind_code, word) VALUES (9001, 'Z01', 'mine')",
	)
}

// covering is a sample of cases in which each two values of two dimensions meet that meet
// in any case, chosen one after the other by how many new pairs a case brings.
func covering(all []matrixCase) []matrixCase {
	pairs := func(c matrixCase) []string {
		values := []string{c.mode, c.keys, c.children, c.before, c.policy, c.commit}
		var out []string
		for i, a := range values {
			for j, b := range values[:i] {
				out = append(out, fmt.Sprint(i, a, j, b))
			}
		}
		return out
	}
	const times = 3 // that each pair is met
	var sample []matrixCase
	for range times {
		seen := map[string]bool{}
		for {
			var best matrixCase
			most := 0
			for _, c := range all {
				fresh := 0
				for _, p := range pairs(c) {
					if !seen[p] {
						fresh++
					}
				}
				if fresh > most && !slices.Contains(sample, c) {
					best, most = c, fresh
				}
			}
			if most == 0 {
				break
			}
			sample = append(sample, best)
			for _, p := range pairs(best) {
				seen[p] = true
			}
		}
	}
	return sample
}

// The sample leaves out no pair of values.
func TestTheSampleOfWaysToLoadCovers(t *testing.T) {
	pairs := func(cases []matrixCase) map[string]bool {
		out := map[string]bool{}
		for _, c := range cases {
			values := []string{c.mode, c.keys, c.children, c.before, c.policy, c.commit}
			for i := range values {
				for j := range i {
					out[fmt.Sprint(j, values[j], i, values[i])] = true
				}
			}
		}
		return out
	}
	all := matrix()
	sample := covering(all)
	assert.Equal(t, pairs(all), pairs(sample))
	assert.Less(t, len(sample), len(all)/4)
	t.Logf("%d of %d cases", len(sample), len(all))
}

// Whatever the way of loading: what was loaded compares clean, and taking it back leaves
// the tables as they were.
func TestUndoOfEveryWayToLoad(t *testing.T) {
	cases := matrix()
	require.GreaterOrEqual(t, 3*len(cases), 2000)
	if os.Getenv("EVENSPROUT_FAULTS") == "" { // else all of them
		cases = covering(cases)
	}
	for _, e := range loadtest.Engines() {
		t.Run(e.Name, func(t *testing.T) {
			t.Parallel()
			d := &loadtest.DB{Engine: e, URL: e.Make(t, e.Words.Replace(matrixTables))}
			d.Store = d.Open(t)
			tables, err := d.Store.Survey(t.Context())
			require.NoError(t, err)
			codes := matrixCodes(t, d, tables)
			refused, forget := 0, []string{}
			_, err = d.Load(
				t,
				"  Item:\n    table: items\n    rows: 1\n    fields: {code: {value: X}, n: {value: 1}}\n",
				d.Journaled(load.Options{}),
			) // makes the journal
			require.NoError(t, err)
			kept, err := d.Store.Journal(t.Context(), false)
			require.NoError(t, err)
			// a long journal would take long to read
			for _, table := range []*schema.Table{kept.Contents, kept.Chunks, kept.Loads} {
				forget = append(forget, "DELETE FROM "+d.Store.(interface{ Table(*schema.Table) string }).Table(table))
			}
			if e.Name == "sqlite" {
				_, err = d.Store.(setwise.Engine).Exec(t.Context(), "PRAGMA synchronous = OFF")
				require.NoError(t, err)
			}
			for _, c := range cases {
				inTransaction(t, d, append(slices.Clone(forget), c.rowsBefore(codes)...))
				if !undone(t, d, tables, c) {
					refused++
				}
			}
			assert.Less(t, refused, len(cases)/4, "most ways load")
		})
	}
}

// inTransaction runs statements in one transaction.
func inTransaction(t *testing.T, d *loadtest.DB, statements []string) {
	t.Helper()
	for _, sql := range slices.Concat([]string{"BEGIN"}, statements, []string{"COMMIT"}) {
		_, err := d.Store.(setwise.Engine).Exec(t.Context(), sql)
		require.NoError(t, err, sql)
	}
}

// matrixCodes are the codes of the planned rows.
func matrixCodes(t *testing.T, d *loadtest.DB, tables *schema.Database) []string {
	c := matrixPlan(t, d, tables,
		matrixCase{mode: "insert", keys: "planned", commit: "load", policy: "stop", children: "none"},
	)
	_, err := load.Run(t.Context(), c, d.Store, load.Options{})
	require.NoError(t, err)
	var codes []string
	items := tables.Table("items")
	q := store.Query{Table: items, Columns: []*schema.Column{items.Column("code")}}
	require.NoError(t, d.Store.Select(t.Context(), q, func(row []value.Value) error {
		codes = append(codes, row[0].S)
		return nil
	}))
	return codes
}

func matrixPlan(t *testing.T, d *loadtest.DB, tables *schema.Database, c matrixCase) *plan.Compiled {
	p, err := plan.Read(filepath.Join("/", "plan.yaml"), []byte(c.plan()))
	require.NoError(t, err)
	compiled, err := p.Compile(plan.Options{Database: tables, Rows: files.Rows})
	require.NoError(t, err, c.String()+"\n"+c.plan())
	return compiled
}

// surveyed is a store whose tables are read once: they do not change.
type surveyed struct {
	store.Store
	tables *schema.Database
}

func (s surveyed) Survey(context.Context) (*schema.Database, error) { return s.tables, nil }

// undone loads, compares and takes back; false if the load was refused.
func undone(t *testing.T, d *loadtest.DB, tables *schema.Database, c matrixCase) bool {
	t.Helper()
	s := surveyed{d.Store, tables}
	before := loadtest.DumpOf(t, s, tables)
	o := d.Journaled(load.Options{Chunk: 5})
	r, err := load.Run(t.Context(), matrixPlan(t, d, tables, c), s, o)
	var partial *load.Partial
	if err != nil && !errors.As(err, &partial) {
		require.Equal(t, before, loadtest.DumpOf(t, s, tables), "%s: %v", c, err)
		return false
	}
	if err != nil {
		v, err := withdraw.Run(t.Context(), s, partial.Load, withdraw.Options{By: archive.Operator{Rows: files.Rows}})
		require.NoError(t, err, c.String())
		require.Zero(t, v.Left, "%s: %+v", c, v.LeftRows)
		require.Equal(t, before, loadtest.DumpOf(t, s, tables), c.String())
		return false
	}
	if r.Load == 0 { // nothing was to be done
		require.Equal(t, before, loadtest.DumpOf(t, s, tables), c.String())
		return true
	}
	p, err := load.Recall(t.Context(), journal.Unlocked(s), r.Load, tables, archive.Operator{Rows: files.Rows})
	require.NoError(t, err, c.String())
	diff, err := replay.Compare(t.Context(), s, []*load.PastLoad{p}, replay.CompareOptions{})
	require.NoError(t, err, c.String())
	require.NoError(t, p.Close())
	require.Zero(t, diff.Missing+diff.Changed, "%s: %+v", c, diff.Entities)
	v, err := withdraw.Run(t.Context(), s, r.Load, withdraw.Options{By: archive.Operator{Rows: files.Rows}})
	require.NoError(t, err, c.String())
	require.Zero(t, v.Left, "%s: %+v", c, v.LeftRows)
	require.Equal(t, before, loadtest.DumpOf(t, s, tables), c.String())
	return true
}

// Rows whose keys the database gave come back with their keys.
func TestRestoreOfKeysThatTheDatabaseGave(t *testing.T) {
	for _, mode := range []string{"insert", "keep", "upsert"} {
		t.Run(mode, func(t *testing.T) {
			loadtest.OnEach(t, matrixTables, func(t *testing.T, d *loadtest.DB) {
				c := matrixCase{
					mode:     mode,
					keys:     "database",
					children: "none",
					before:   "others",
					policy:   "stop",
					commit:   "load",
				}
				inTransaction(t, d, c.rowsBefore(nil))
				tables, err := d.Store.Survey(t.Context())
				require.NoError(t, err)
				_, err = load.Run(t.Context(), matrixPlan(t, d, tables, c), d.Store, d.Journaled(load.Options{}))
				require.NoError(t, err)
				loaded := loadtest.DumpOf(t, d.Store, tables)
				d.Exec(t, "DELETE FROM items WHERE n > 4 AND code LIKE 'A%'")
				d.Exec(t, "UPDATE items SET label = 'mine' WHERE n < 4 AND code LIKE 'A%'")
				_, err = replay.Restore(t.Context(), d.Store, replay.RestoreOptions{Of: load.Loads{Plan: "matrix"}, Database: tables, By: archive.Operator{Rows: files.Rows}})
				require.NoError(t, err)
				assert.Equal(t, loaded, loadtest.DumpOf(t, d.Store, tables))
			})
		})
	}
}
