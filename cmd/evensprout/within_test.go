package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const withinTables = `
CREATE TABLE owners (id {key}, name VARCHAR(60) NOT NULL);
CREATE TABLE berths (id {key}, number INTEGER NOT NULL UNIQUE);
CREATE TABLE boats (id {key}, owner_id INTEGER NOT NULL REFERENCES owners (id), name VARCHAR(60) NOT NULL,
  label VARCHAR(60) NOT NULL, UNIQUE (owner_id, name), UNIQUE (owner_id, label));
CREATE TABLE trips (id {key}, boat_id INTEGER NOT NULL REFERENCES boats (id), owner_id INTEGER NOT NULL
  REFERENCES owners (id), berth_id INTEGER NOT NULL REFERENCES berths (id),
  nr INTEGER NOT NULL, kind VARCHAR(8) NOT NULL, began TIMESTAMP NOT NULL, ended TIMESTAMP NOT NULL,
    UNIQUE (owner_id, kind, ended), UNIQUE (berth_id, nr));`

const withinPlan = `name: within
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Owner: {table: owners, rows: 60, fields: {name: {kind: locality}}}
  Berth: {table: berths, rows: 400, fields: {number: {count: 1}}}
  Boat:
    table: boats
    per: {Owner: 1..3}
    shared: {word: {choose: [red, blue]}}
    fields: {name: {choose: [Tern, Gull, Teal]}, label: {text: "The {word} one"}}
  Trip:
    table: trips
    per: {Boat: 0..4}
    fields:
      owner: {same: Boat.Owner}
      berth: {pick: Berth}
      nr: {count: {restart: true}}
      kind: {choose: {day: 80, night: 20}}
      began: {between: [2026-04-01T08:00:00Z, 2026-04-01T08:00:40Z]}
      ended: {after: began, within: 20s}
`

// What is unique within a parent is planned as the warning says, and loads.
func TestUniqueWithinAParent(t *testing.T) {
	onTables(t, withinTables, withinPlan, func(t *testing.T, s *site) {
		before := s.rows(t)
		r := s.on("check")
		require.Zero(t, r.code, r.errOut)
		for _, group := range []string{"Owner, name", "Owner, label", "owner, kind, ended", "berth, nr"} {
			assert.Contains(t, r.errOut, "unique: [["+group+"]]")
		}
		plan := strings.Replace(
			withinPlan,
			"    per: {Owner: 1..3}\n",
			"    per: {Owner: 1..3}\n    unique: [[Owner, name], [Owner, label]]\n",
			1,
		)
		plan = strings.Replace(
			plan,
			"    per: {Boat: 0..4}\n",
			"    per: {Boat: 0..4}\n    unique: [[owner, kind, ended], [berth, nr]]\n",
			1,
		)
		s.write("evensprout.yaml", plan)
		r = s.on("check")
		require.Zero(t, r.code, r.errOut)
		assert.NotContains(t, r.errOut, "wants")
		r = s.on("load")
		require.Zero(t, r.code, r.errOut)
		r = s.on("compare")
		assert.Zero(t, r.code, r.out+r.errOut)
		r = s.on("withdraw")
		require.Zero(t, r.code, r.errOut)
		assert.Empty(t, difference(before, s.rows(t)))
	})
}
