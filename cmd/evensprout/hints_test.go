package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a message advises is done, and the trouble is gone.
func TestHintsAreFollowed(t *testing.T) {
	for name, c := range map[string]struct {
		wrong []string
		says  string
		right []string
	}{
		"a flag": {[]string{"load", "--quite"}, "did you mean --quiet?", []string{"load", "--quiet"}},
		"an entity": {[]string{"preview", "--entity", "Brth"}, "did you mean Berth?",
			[]string{"preview", "--entity", "Berth"}},
		"a unit": {[]string{"load", "--unit", "nte", "--dry-run"}, `did you mean "note"?`,
			[]string{"load", "--unit", "note", "--dry-run"}},
		"a row": {[]string{"export", "--row", "Prt.0"}, "did you mean Port?",
			[]string{"export", "--row", "Port.0"}},
		"a table": {[]string{"look", "bertsh"}, "did you mean berths?", []string{"look", "berths"}},
		"a kind":  {[]string{"catalog", "localty"}, "did you mean locality?", []string{"catalog", "locality"}},
	} {
		t.Run(name, func(t *testing.T) {
			onTables(t, emptyLinkTables, strings.Replace(editPlan, "SEED", "one", 1), func(t *testing.T, s *site) {
				require.Zero(t, s.on("load", "--without-units").code)
				run := func(args []string) result {
					if args[0] == "catalog" {
						return s.run(args...)
					}
					return s.on(args...)
				}
				r := run(c.wrong)
				assert.NotZero(t, r.code)
				assert.Contains(t, r.errOut, c.says)
				r = run(c.right)
				assert.Zero(t, r.code, r.errOut)
			})
		})
	}
}

// A load that waits says for what: a name may be mistyped.
func TestWaitingSaysForWhat(t *testing.T) {
	onTables(
		t,
		emptyLinkTables,
		strings.Replace(startPlan, "table: berths", "table: bertsh", 1),
		func(t *testing.T, s *site) {
			told := func(r result) int {
				return strings.Count(
					r.errOut,
					"bertsh, and the database has none of that name",
				) + strings.Count(
					r.errOut,
					"has no table bertsh",
				)
			}
			r := s.on("load", "--wait", "2s")
			assert.Equal(t, 4, r.code)
			assert.Contains(t, r.errOut, "note: waiting up to 2s for this to change:")
			assert.Equal(t, 2, told(r), r.errOut)
			r = s.on("load", "--wait", "300ms", "--quiet")
			assert.Equal(t, 4, r.code)
			assert.NotContains(t, r.errOut, "note:")
			assert.Equal(t, 1, told(r), r.errOut)
		},
	)
}

func TestRestoreHasTheClockOfThen(t *testing.T) {
	onTables(t, emptyLinkTables, startPlan, func(t *testing.T, s *site) {
		r := s.on("load", "--restore")
		require.Zero(t, r.code, r.errOut)
		assert.Equal(t, 1, strings.Count(r.errOut, "nothing of this plan is loaded yet"), r.errOut)
		r = s.on("load", "--restore", "--clock", "2026-06-01T00:00:00Z")
		assert.Equal(t, 2, r.code)
		assert.Contains(t, r.errOut, "cannot be combined with")
		assert.Zero(t, s.on("load", "--restore").code)
		require.Zero(t, s.on("withdraw").code)
		r = s.on("load", "--restore")
		assert.Zero(t, r.code, r.errOut)
		assert.Equal(t, 1, strings.Count(r.errOut, "nothing of this plan is loaded yet"), r.errOut)
	})
}

const advicePlan = `name: advice
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Port:
    table: ports
    rows: 9
    fields: {code: {pattern: "P[0-9]"}, label: {kind: locality}}
  Berth:
    table: berths
    per: {Port: 2}
    fields: {number: {between: 1..90}}
`

// Whatever a refused load advises, the load goes through after it.
func TestAdviceOfRefusedLoads(t *testing.T) {
	type advice struct {
		says   string
		change []string // of the plan: old, new
		args   []string
		exit   int
		keys   bool // the database gives them
		before []string
	}
	taken := "INSERT INTO ports (id, code, label) VALUES (700, 'P4', 'theirs')"
	for name, a := range map[string]advice{
		"own rows": {says: "add unique: true to code in the plan", change: []string{`"P[0-9]"`, `"P[0-9]", ` +
			`unique: true`}},
		"own rows, keys given": {keys: true, says: "add unique: true to code in the plan",
			change: []string{`"P[0-9]"`, `"P[0-9]", ` +
				`unique: true`}, before: []string{"INSERT INTO ports (id, code, label) VALUES (700, 'X', 'theirs')"}},
		"others': keep": {says: "write: {mode: keep, match: [code]} at Port keeps the existing row, and mode " +
			"upsert", change: []string{`"P[0-9]"`, `"P[0-9]", unique: true`, "    rows: 9\n", "    rows: 9\n    " +
			"write: {mode: keep, match: [code]}\n"}, before: []string{taken}},
		"others': upsert": {says: "and mode upsert changes it", change: []string{`"P[0-9]"`, `"P[0-9]", ` +
			`unique: true`, "    rows: 9\n", "    rows: 9\n    write: {mode: upsert, match: [code]}\n"},
			before: []string{taken}},
		"others': redraw": {says: "--on-violation unique=redraw generates another code",
			change: []string{`"P[0-9]"`, `"P[0-9]", ` +
				`unique: true`}, args: []string{"--on-violation", "unique=redraw"}, before: []string{taken}},
		"others': skip": {says: "--on-violation unique=skip leaves the row out",
			change: []string{`"P[0-9]"`, `"P[0-9]", ` +
				`unique: true`}, args: []string{"--on-violation", "unique=skip"}, exit: 6, before: []string{taken}},
	} {
		t.Run(name, func(t *testing.T) {
			onTables(t, emptyLinkTables, advicePlan, func(t *testing.T, s *site) {
				plan := advicePlan
				if a.keys {
					plan = strings.Replace(plan, "    rows: 9\n", "    rows: 9\n    keys: database\n", 1)
				}
				if len(a.before) > 0 && !a.keys {
					plan = strings.Replace(plan, `"P[0-9]"`, `"P[0-9]", unique: true`, 1)
				}
				s.write("evensprout.yaml", plan)
				s.exec(t, a.before...)
				before := s.rows(t)
				r := s.on("load")
				require.NotZero(t, r.code)
				assert.Contains(t, r.errOut, a.says)
				assert.Equal(t, before, s.rows(t))
				if a.keys {
					assert.NotContains(t, r.errOut, "which existed before this load")
					assert.NotContains(t, r.errOut, "other row   id ", "a key that is rolled back says nothing")
				}
				for i := 0; i < len(a.change); i += 2 {
					if strings.Contains(plan, a.change[i+1]) {
						continue
					}
					require.Contains(t, plan, a.change[i])
					plan = strings.Replace(plan, a.change[i], a.change[i+1], 1)
				}
				s.write("evensprout.yaml", plan)
				r = s.on(append([]string{"load"}, a.args...)...)
				assert.Equal(t, a.exit, r.code, r.errOut)
			})
		})
	}
}
