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
		"a flag":    {[]string{"load", "--quite"}, "did you mean --quiet?", []string{"load", "--quiet"}},
		"an entity": {[]string{"preview", "--entity", "Brth"}, "did you mean Berth?", []string{"preview", "--entity", "Berth"}},
		"a unit":    {[]string{"load", "--unit", "nte", "--dry-run"}, `did you mean "note"?`, []string{"load", "--unit", "note", "--dry-run"}},
		"a row":     {[]string{"export", "--row", "Prt.0"}, "did you mean Port?", []string{"export", "--row", "Port.0"}},
		"a table":   {[]string{"look", "bertsh"}, "did you mean berths?", []string{"look", "berths"}},
		"a kind":    {[]string{"catalog", "localty"}, "did you mean locality?", []string{"catalog", "locality"}},
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
	onTables(t, emptyLinkTables, strings.Replace(startPlan, "table: berths", "table: bertsh", 1), func(t *testing.T, s *site) {
		told := func(r result) int {
			return strings.Count(r.errOut, "bertsh, and the database has none of that name") + strings.Count(r.errOut, "has no table bertsh")
		}
		r := s.on("load", "--wait", "300ms")
		assert.Equal(t, 4, r.code)
		assert.Contains(t, r.errOut, "note: waiting at most 300ms for this to change:\n")
		assert.Equal(t, 2, told(r), r.errOut)
		r = s.on("load", "--wait", "300ms", "--quiet")
		assert.Equal(t, 4, r.code)
		assert.NotContains(t, r.errOut, "note:")
		assert.Equal(t, 1, told(r), r.errOut)
	})
}

func TestRestoreHasTheClockOfThen(t *testing.T) {
	onTables(t, emptyLinkTables, startPlan, func(t *testing.T, s *site) {
		r := s.on("load", "--restore")
		require.Zero(t, r.code, r.errOut)
		assert.Equal(t, 1, strings.Count(r.errOut, "nothing of this plan was loaded yet"), r.errOut)
		r = s.on("load", "--restore", "--clock", "2026-06-01T00:00:00Z")
		assert.Equal(t, 2, r.code)
		assert.Contains(t, r.errOut, "--clock cannot be combined with it")
		assert.Zero(t, s.on("load", "--restore").code)
		require.Zero(t, s.on("withdraw").code)
		r = s.on("load", "--restore")
		assert.Zero(t, r.code, r.errOut)
		assert.Equal(t, 1, strings.Count(r.errOut, "nothing of this plan was loaded yet"), r.errOut)
	})
}
