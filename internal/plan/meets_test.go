package plan

import (
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMeets(t *testing.T) {
	c, problems := compileText(`  Pair:
    rows: 200
    fields:
      low_end: {between: [1, 50]}
      highEnd: {between: [1, 50], nulls: 10%}
      kind: {choose: [a, b]}
    meets: ["low_end < high_end OR kind = 'b'", low_end <> 7]
`, nil)
	require.Empty(t, problems)
	number := func(s string) int {
		n, err := strconv.Atoi(s)
		require.NoError(t, err)
		return n
	}
	for _, r := range rowsOf(t, c, "Pair") {
		assert.NotEqual(t, "7", r["low_end"])
		if r["highEnd"] != "NULL" && r["kind"] == "a" {
			assert.Less(t, number(r["low_end"]), number(r["highEnd"]))
		}
	}
}

func TestProblemsOfMeets(t *testing.T) {
	for meets, want := range map[string]string{
		`"a >"`:             "plan.yaml:9:16: A cannot be read as a condition in SQL: expected a value, got the end",
		`"b > 1"`:           "A has no field b",
		`"weigh(a) > 1"`:    "the function weigh cannot be computed by this program",
		`"1 = 1"`:           "the condition uses no field of A",
		`{a: 1}`:            "a condition of meets must be a text,",
		`["a > 1", [a]]`:    "a condition of meets must be a text,",
		`"a IN (SELECT 1)"`: "a query inside the condition",
		`"a ~ '(?=x)'"`:     "the regular expression (?=x) cannot be computed",
	} {
		_, problems := compileText(
			"  A:\n    rows: 3\n    fields:\n      a: {between: [1, 5]}\n    meets: "+meets+"\n",
			nil,
		)
		require.NotEmpty(t, problems, meets)
		assert.Contains(t, problems.Error(), want)
	}
}

// Fields that are unique together and meet a condition: rows that do not are drawn again
// elsewhere in the space of their values, where no other row is.
func TestUniqueRowsThatMeet(t *testing.T) {
	of := func(rows int, meets string) []row {
		c, problems := compileText(`  User:
    rows: 40
    fields: {name: {kind: name}}
  Follow:
    rows: `+strconv.Itoa(rows)+`
    unique: [[follower, followed]]
    fields:
      follower: {pick: User}
      followed: {pick: User}
    meets: ["`+meets+`"]
`, nil)
		require.Empty(t, problems)
		return rowsOf(t, c, "Follow")
	}
	number := func(s string) int {
		n, err := strconv.Atoi(strings.TrimPrefix(s, "User row "))
		require.NoError(t, err, s)
		return n
	}
	seen := map[string]bool{}
	for _, r := range of(200, "follower <> followed") {
		assert.NotEqual(t, r["follower"], r["followed"])
		key := r["follower"] + " " + r["followed"]
		assert.False(t, seen[key], "%s is there twice", key)
		seen[key] = true
	}
	few, more := of(25, "follower < followed"), of(25, "follower < followed AND follower > 0")
	assert.Equal(t, few, more, "a condition that holds anyway changes nothing")
	for _, r := range few {
		assert.Less(t, number(r["follower"]), number(r["followed"]))
	}
	// As long as rows take at most an eighth of the values, more rows change none.
	longer := of(170, "follower <> followed")
	for i, r := range of(120, "follower <> followed") {
		require.Equal(t, r, longer[i])
	}
}

// A pick under a fixed condition can be unique: the rows that meet it are counted.
func TestUniquePicksUnderACondition(t *testing.T) {
	entities := func(rows, kind string) string {
		return `  Account:
    rows: 100
    fields: {kind: {choose: [asset, debt]}}
  Asset:
    rows: ` + rows + `
    fields:
      account: {pick: Account, where: {kind: ` + kind + `}, unique: true}
      kind: {same: account.kind}
`
	}
	c, problems := compileText(entities("50", "asset"), nil)
	require.Empty(t, problems)
	seen := map[string]bool{}
	for _, r := range rowsOf(t, c, "Asset") {
		assert.Equal(t, "asset", r["kind"])
		assert.False(t, seen[r["account"]], r["account"])
		seen[r["account"]] = true
	}
	assert.Len(t, seen, 50)
	_, problems = compileText(entities("60", "asset"), nil)
	assert.Regexp(t, "60 rows need different values of account, and only 5[0-4] exist", problems.Error())
	_, problems = compileText(entities("5", "other"), nil)
	assert.Contains(t, problems.Error(), "no row of Account meets the condition")
	_, problems = compileText(`  A: {rows: 9, fields: {b: {pick: B, where: {x: 1}, unique: true}, y: {between: [1, 3]}}}
  B: {rows: 9, fields: {a: {pick: A, where: {y: 1}, unique: true}, x: {between: [1, 3]}}}
`, nil)
	assert.Contains(t, problems.Error(), "which rows of A meet the condition depends on these rows")
}
