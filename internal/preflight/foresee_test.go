package preflight_test

import (
	"fmt"
	"strings"
	"testing"

	"evensprout/internal/loadtest"
	"evensprout/internal/preflight"
	"evensprout/internal/store/storetest"

	"evensprout/internal/load"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMain(m *testing.M) { storetest.Main(m) }

const codesScript = `CREATE TABLE codes (id {key}, code VARCHAR(4) NOT NULL UNIQUE, label VARCHAR(20));
INSERT INTO codes (id, code, label) VALUES (9001, 'A0', 'x'), (9002, 'A1', 'x'), (9003, 'B0', 'x'), (9004, 'B1',
  'x'), (9005, 'ZZ', 'x');`

// What check foresees of keys, a load meets.
func TestCollisionsAreForeseen(t *testing.T) {
	loadtest.OnEach(t, codesScript, func(t *testing.T, d *loadtest.DB) {
		entities := func(rows int, digits, more string) string {
			return fmt.Sprintf(
				"  Code:\n    table: codes\n    rows: %d\n%s    fields:\n      code: {pattern: \"[A-J][0-%s]\", "+
					"unique: true}\n      label: {choose: [a, b]}\n",
				rows,
				more,
				digits,
			)
		}
		// Twenty values of which four are taken.
		for _, x := range []struct{ rows, met int }{{20, 4}, {17, 0}} {
			found := d.Foreseen(t, entities(x.rows, "1", "")).Errors()
			require.Len(t, found, 1)
			assert.Contains(
				t,
				found[0].Message,
				fmt.Sprintf("of %d rows of Code have keys that existing rows of codes also have, such as Code "+
					"row ", x.rows),
			)
			assert.Contains(t, found[0].Hint, "redraw")
			if x.met > 0 {
				assert.Contains(t, found[0].Message, fmt.Sprintf("%d of %d rows", x.met, x.rows))
			}
			r := d.Refused(t, entities(x.rows, "1", ""), load.Options{})
			assert.Equal(t, "code", r.Columns[0])
		}
		// Drawn again, sixteen rows find a value, and seventeen do not.
		redraw := "    on_violation: {unique: redraw}\n"
		found := d.Foreseen(t, entities(17, "1", redraw)).Errors()
		require.Len(t, found, 1)
		assert.Regexp(t, `and for \d+ of them no other value is free: it was redrawn 100 times`, found[0].Message)
		d.Refused(t, entities(17, "1", redraw), load.Options{})
		assert.Empty(t, d.Foreseen(t, entities(8, "9", redraw)).Errors())
		// Left out, or recognised, they are no problem.
		assert.Empty(t, d.Foreseen(t, entities(20, "1", "    on_violation: {unique: skip}\n")).Errors())
		assert.Empty(t, d.Foreseen(t, entities(20, "1", "    write: {mode: keep, match: [code]}\n")).Errors())
		assert.Empty(
			t,
			d.Foreseen(t, entities(20, "1", "    write: {mode: upsert, match: [code], set: [label]}\n")).Errors(),
		)
		d.Loaded(t, entities(8, "9", redraw), load.Options{})
	})
}

// A row that is added under its own match may still have another key of a stranger.
func TestAnotherKeyThanTheMatchIsForeseen(t *testing.T) {
	script := `CREATE TABLE codes (id {key}, code VARCHAR(4) NOT NULL UNIQUE, serial INTEGER NOT NULL UNIQUE);
INSERT INTO codes (id, code, serial) VALUES (9001, 'A0', 3), (9002, 'ZZ', 5);`
	loadtest.OnEach(t, script, func(t *testing.T, d *loadtest.DB) {
		for _, mode := range []string{"keep", "upsert"} {
			entities := "  Code:\n    table: codes\n    rows: 10\n    write: {mode: " + mode + ", match: [code]}\n " +
				"   fields:\n      code: {pattern: \"A[0-9]\", unique: true}\n      serial: {count: 1}\n"
			found := d.Foreseen(t, entities)
			require.Len(t, found, 1, mode)
			assert.Equal(t, mode == "upsert", found[0].Warning, "an upsert may change the other row's key as well")
			assert.Contains(
				t,
				found[0].Message,
				"2 of 10 rows of Code have keys that existing rows of codes also have, such as Code row 2, with "+
					"serial 3",
			)
			r := d.Refused(t, entities, load.Options{})
			assert.Equal(t, []string{"serial"}, r.Columns)
		}
	})
}

// Of a large table, too, a row that is recognised there is no collision, and one that is
// added under a key of a stranger is.
func TestMatchesAreLookedUpInLargeTables(t *testing.T) {
	script := `CREATE TABLE codes (id {key}, code VARCHAR(4) NOT NULL UNIQUE, serial INTEGER NOT NULL UNIQUE);
INSERT INTO codes (id, code, serial) VALUES (9001, 'A0', 3), (9002, 'ZZ', 5);`
	loadtest.OnEach(t, script, func(t *testing.T, d *loadtest.DB) {
		c := d.Compile(
			t,
			"  Code:\n    table: codes\n    rows: 10\n    write: {mode: keep, match: [code]}\n    fields:\n      "+
				"code: {pattern: \"A[0-9]\", unique: true}\n      serial: {count: 1}\n",
		)
		found, err := preflight.Foresee(
			t.Context(),
			d.Store,
			preflight.Foreseen{Plan: c.Plan, Database: c.Database, Compiled: c, MostKnown: 1},
		)
		require.NoError(t, err)
		require.Len(t, found, 1)
		assert.Regexp(t, `^2 of 10 rows of Code have keys .*, with serial \d`, found[0].Message)
	})
}

// Where a table is too large to read its keys, the first rows are looked up.
func TestKeysAreLookedUpInLargeTables(t *testing.T) {
	loadtest.OnEach(t, codesScript, func(t *testing.T, d *loadtest.DB) {
		c := d.Compile(
			t,
			"  Code:\n    table: codes\n    rows: 20\n    fields:\n      code: {pattern: \"[A-J][0-1]\", unique: "+
				"true}\n      label: {choose: [a, b]}\n",
		)
		found, err := preflight.Foresee(
			t.Context(),
			d.Store,
			preflight.Foreseen{Plan: c.Plan, Database: c.Database, Compiled: c, MostKnown: 1},
		)
		require.NoError(t, err)
		require.Len(t, found, 1)
		assert.True(t, strings.HasPrefix(found[0].Message, "4 of 20 rows of Code have keys"), found[0].Message)
	})
}
