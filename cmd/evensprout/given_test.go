package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const givenTables = `
CREATE TABLE ports (id {key}, code VARCHAR(8) NOT NULL UNIQUE, town VARCHAR(20), pier INTEGER, UNIQUE (town, pier));
CREATE TABLE boats (id {key}, port_id INTEGER NOT NULL REFERENCES ports (id), owner_id INTEGER REFERENCES ports (id),
  name VARCHAR(20) NOT NULL,
  status VARCHAR(8) NOT NULL DEFAULT 'open', price DECIMAL(8,2) NOT NULL DEFAULT 2.50, seats INTEGER DEFAULT 12,
    built_on DATE DEFAULT '2020-02-29', loaded_at TIMESTAMP DEFAULT CURRENT_TIMESTAMP);
INSERT INTO ports (id, code, town, pier) VALUES (7, 'P7', 'North', 1), (8, 'P8', 'North', 2), (9, 'P9', 'South', 1);`

const givenPlan = `name: given
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Port: {table: ports, rows: existing}
  Boat:
    table: boats
    given:
      ada: {port: {find: {Port: {code: P8}}}, name: Ada, status: shut, price: 9.75, seats: null,
        built_on: 1999-01-01, loaded_at: 2026-01-01T00:00:00Z}
      bea: {port: {find: {Port: {town: South, pier: 1}}}, owner: {find: {Port: {code: P7}}}, name: Bea}
`

// Given rows refer to rows of the database by their natural keys, and what they leave out
// of columns with a default is the default.
func TestGivenRowsFindAndDefault(t *testing.T) {
	onTables(t, givenTables, givenPlan, func(t *testing.T, s *site) {
		before := s.rows(t)
		r := s.on("load")
		require.Zero(t, r.code, r.errOut)
		assert.Empty(t, r.errOut)
		assert.Equal(t, []string{"8", "9"}, s.column(t, "boats", "port_id"))
		assert.Equal(t, []string{"NULL", "7"}, s.column(t, "boats", "owner_id"))
		assert.Equal(t, []string{"shut", "open"}, s.column(t, "boats", "status"))
		assert.Equal(t, []string{"9.75", "2.50"}, s.column(t, "boats", "price"))
		assert.Equal(t, []string{"NULL", "12"}, s.column(t, "boats", "seats"))
		assert.Equal(t, []string{"1999-01-01", "2020-02-29"}, s.column(t, "boats", "built_on"))
		assert.Contains(
			t,
			s.column(t, "boats", "loaded_at")[1],
			"2026-05-01",
			"the time of a load is the plan's clock",
		)
		r = s.on("compare")
		assert.Zero(t, r.code, r.out+r.errOut)
		r = s.on("withdraw")
		require.Zero(t, r.code, r.errOut)
		assert.Empty(t, difference(before, s.rows(t)))

		for wrong, says := range map[string][2]string{
			"code: P8}}}":          {"code: P5}}}", `evensprout.yaml:9:7: Boat.port: no Port has the code "P5"`},
			"town: South, pier: 1": {"pier: 1", `evensprout.yaml:11:7: Boat.port: more than one Port has the pier "1"`},
			"{Port: {code: P7}}":   {"{Port: {cod: P7}}", "Port has no field cod"},
		} {
			s.write("evensprout.yaml", strings.Replace(givenPlan, wrong, says[0], 1))
			r = s.on("load")
			assert.Equal(t, 3, r.code, wrong)
			assert.Contains(t, r.errOut, says[1])
		}
	})
}

const drawnTables = `
CREATE TABLE treatments (id {key}, name VARCHAR(20) NOT NULL, price DECIMAL(8,2) NOT NULL);
CREATE TABLE bills (id {key}, treatment_id INTEGER NOT NULL REFERENCES treatments (id), price DECIMAL(8,2) NOT NULL,
  words VARCHAR(60), twice DECIMAL(8,2));`

const drawnPlan = `name: drawn
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Treatment: {table: treatments, rows: 5, fields: {name: {kind: given-name}, price: {between: [1.50, 9.00]}}}
  Bill:
    table: bills
    rows: 20
    shared: {t: {pick: Treatment}}
    fields:
      treatment: {from: t}
      price: {from: t.price}
      words: {text: "{t.name} for {t.price}"}
      twice: {derive: "t.price + t.price"}
`

// What a drawn reference points to can be used in several fields.
func TestPartsOfADrawnReference(t *testing.T) {
	onTables(t, drawnTables, drawnPlan, func(t *testing.T, s *site) {
		r := s.on("load")
		require.Zero(t, r.code, r.errOut)
		name, price := map[string]string{}, map[string]string{}
		for i, id := range s.column(t, "treatments", "id") {
			name[id], price[id] = s.column(t, "treatments", "name")[i], s.column(t, "treatments", "price")[i]
		}
		prices, words := s.column(t, "bills", "price"), s.column(t, "bills", "words")
		for i, id := range s.column(t, "bills", "treatment_id") {
			assert.Equal(t, price[id], prices[i])
			assert.Equal(t, name[id]+" for "+price[id], words[i])
		}
		r = s.on("compare")
		assert.Zero(t, r.code, r.out+r.errOut)
		s.write("evensprout.yaml", strings.Replace(drawnPlan, "t.name}", "t.nme}", 1))
		r = s.on("load")
		assert.Equal(t, 3, r.code)
		assert.Contains(t, r.errOut, "Treatment has no field nme")
	})
}
