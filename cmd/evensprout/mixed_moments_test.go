package main

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A date follows a moment and a moment follows a date, on each engine: later, and with a time of day if the step is
// shorter than a day.
func TestDatesAndMomentsFollowEachOther(t *testing.T) {
	onTables(t, `CREATE TABLE bills (id {key}, issued_on DATE NOT NULL, made_at TIMESTAMP NOT NULL,
		paid_at TIMESTAMP NULL, due_on DATE NOT NULL)`, `name: bills
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Bill:
    table: bills
    rows: 200
    fields:
      issued_on: {between: [2025-01-01, 2025-12-30]}
      made_at:   {before: clock, within: 400d}
      paid_at:   {after: issued_on, before: clock, within: 20d, hours: 9-17, step: 15m}
      due_on:    {after: made_at, within: 20d}
`, func(t *testing.T, s *site) {
		require.Zero(t, s.on("load").code)
		issued, made := s.cells(t, "bills", "issued_on"), s.cells(t, "bills", "made_at")
		paid, due := s.cells(t, "bills", "paid_at"), s.cells(t, "bills", "due_on")
		require.Len(t, due, 200)
		for i := range due {
			assert.Greater(t, paid[i], issued[i])
			assert.Regexp(t, `[ T](09|1[0-6]):(00|15|30|45):00`, paid[i])
			assert.Greater(t, due[i], made[i][:10])
			assert.Regexp(t, `^\d{4}-\d\d-\d\d$`, due[i])
		}
	})
}
