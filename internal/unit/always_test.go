package unit_test

import (
	"strings"
	"testing"

	"evensprout/internal/load"
	"evensprout/internal/loadtest"
	"evensprout/internal/store/storetest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/diag"
	"evensprout/internal/plan"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// Each form of invariant holds, or is told with the rows that break it, and nothing stays.
func TestInvariants(t *testing.T) {
	loadtest.OnEach(t, purse, func(t *testing.T, d *loadtest.DB) {
		k := newDesk(t, d)
		text := purseEntities + `units:
  pay:
    together: all
    given:
      one: {n: A1, amount: 5.50}
    steps:
      - find: Account
        match: {number: n}
      - insert: movements
        set: {account_id: Account.id, amount: amount}
always:
  RULE
`
		run := func(rule string) error {
			_, err := k.run(t, strings.Replace(text, "RULE", rule, 1), load.Options{})
			return err
		}
		k.fill(t, purseEntities)
		for _, rule := range []string{
			"sums: sum of movements.amount per Account <= Account.balance", "counts: count of movements per " +
				"Account via account_id <= 1", "smallest: min of movements.amount per Account >= 5.50",
			"positive: every Account has balance >= 0 && number != ''", "every movement: every movements has " +
				"amount > 0", "none: {no: movements, where: amount IS NULL}", `some: {sql: "(SELECT count(*) FROM ` +
				`accounts) = 40"}`,
		} {
			assert.NoError(t, run(rule), rule)
			d.Script(t, "DELETE FROM movements")
		}
		for rule, rows := range map[string][]string{
			"sums: sum of movements.amount per Account = 0":                {"id 1; sum of movements.amount is 5.50"},
			"counts: count of movements per Account < 1":                   {"id 1; count of movements is 1"},
			"largest: max of movements.amount per Account < 5.50":          {"id 1; max of movements.amount is 5.50"},
			`low: every Account has balance <= decimal("99.50") || id > 1`: {"id 1, balance 100.00, id 1"},
			"none: {no: Account, where: number = 'A7'}":                    {"id 7"},
			`many: {sql: "(SELECT count(*) FROM accounts) > 40"}`:          nil,
		} {
			err := run(rule)
			var broken *load.Broken
			require.ErrorAs(t, err, &broken, rule)
			require.Len(t, broken.Rules, 1)
			assert.Equal(t, rows, broken.Rules[0].Rows, rule)
			assert.Empty(t, k.Table(t, "movements"), "nothing stays")
		}
		// Of a load, too, in one transaction and in chunks.
		more := strings.Replace(
			purseEntities,
			"rows: 40",
			"rows: 50",
			1,
		) + "always:\n  forty: {sql: \"(SELECT count(*) FROM accounts) <= 40\"}\n"
		for _, commit := range []plan.Commit{plan.CommitLoad, plan.CommitChunk} {
			_, err := load.Run(t.Context(), k.plan(t, more), k.Store, k.Journaled(load.Options{Commit: commit}))
			var broken *load.Broken
			require.ErrorAs(t, err, &broken)
			if commit == plan.CommitLoad {
				assert.Len(t, k.Table(t, "accounts"), 40)
			}
		}
	})
}

// Conditions in SQL that a database does not understand are told at their places before
// anything is written, all at once.
func TestConditionsAreTriedBeforehand(t *testing.T) {
	text := purseEntities + `units:
  pay:
    given:
      one: {n: A1, most: 5.00}
    steps:
      - require: {sql: "EXISTS (SELECT 1 FROM accounts WHERE number = {n} AND balanse > {most})"}
      - require: {sql: "EXISTS (SELECT 1 FROM accounts WHERE number = {n} AND balance > {most})"}
      - insert: limits
        set: {number: n, most: most, uses: 1}
always:
  fine: {no: Account, where: balance < 0}
  wrong: {no: Account, where: balanse < 0}
  wronger: {sql: "(SELECT count(*) FROM acounts) = 1"}
`
	loadtest.OnEach(t, purse, func(t *testing.T, d *loadtest.DB) {
		k := newDesk(t, d)
		err := load.TryConditions(t.Context(), k.Store, k.plan(t, text))
		var problems diag.Problems
		require.ErrorAs(t, err, &problems)
		require.Len(t, problems, 3)
		for i, want := range []struct {
			line int
			word string
		}{{15, "balanse"}, {21, "balanse"}, {22, "acounts"}} {
			assert.Equal(t, want.line, problems[i].Line)
			assert.Contains(t, problems[i].Message, want.word)
			assert.True(t, problems[i].Database)
		}
		right := strings.NewReplacer("balanse", "balance", "acounts", "accounts").Replace(text)
		require.NoError(t, load.TryConditions(t.Context(), k.Store, k.plan(t, right)))
		k.fill(t, purseEntities)
		r, err := k.run(t, strings.Replace(right, "= 1\"", "= 40\"", 1), load.Options{})
		require.NoError(t, err)
		assert.Equal(t, int64(1), r.Done)
	})
}
