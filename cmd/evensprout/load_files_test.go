package main

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const priceTables = `
CREATE TABLE fares (code VARCHAR(8) PRIMARY KEY, label VARCHAR(20) NOT NULL UNIQUE, price DECIMAL(8,2) NOT NULL,
  seats INTEGER NOT NULL CHECK (seats > 0));
INSERT INTO fares VALUES ('DECK', 'Open deck', 4.50, 1), ('CABIN', 'Cabin', 19.00, 2);`

const pricePlan = `name: fares
seed: fares
clock: 2026-05-01T08:00:00Z
entities:
  Fare:
    table: fares
    write: {mode: upsert, match: [code]}
    given:
      deck:  {code: DECK, label: Open deck, price: 5.50, seats: 1}
      cabin: {code: CABIN, label: Cabin, price: 21.00, seats: 2}
`

// Every file that a load writes is opened before the first write to the database.
func TestFilesAreOpenedBeforeRowsAreWritten(t *testing.T) {
	onTables(t, priceTables, pricePlan, func(t *testing.T, s *site) {
		before := s.rows(t)
		s.write("there.csv", "keep me\n")
		for _, path := range []string{"there.csv", "none/x.csv", "evensprout.yaml/x.csv"} {
			for _, flag := range []string{"--changes", "--rejects"} {
				r := s.on("load", flag, path)
				assert.Equal(t, 1, r.code, path)
				assert.Contains(t, r.errOut, path)
				assert.Contains(t, r.errOut, "nothing was written")
				assert.Equal(t, before, s.rows(t), "%s %s: %s", flag, path, r.errOut)
			}
		}
		assert.Equal(t, "keep me\n", s.read("there.csv"))
		r := s.on("load", "--changes", "changes.csv", "--rejects", "rejects.ndjson")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, s.read("changes.csv"), "CABIN,price,19.00,21.00")
		assert.NoFileExists(t, s.file("rejects.ndjson"), "nothing was left out")
	})
}

const insertPlan = `name: NAME
seed: fares
clock: 2026-05-01T08:00:00Z
on_violation: {unique: skip}
entities:
  Fare:
    table: fares
    given:
      deck:  {code: DECK, label: Open deck, price: 5.50, seats: 1}
      bike:  {code: BIKE, label: Bicycle, price: 2.00, seats: SEATS}
`

func TestRejectsAreNotLost(t *testing.T) {
	onTables(t, priceTables, insertPlan, func(t *testing.T, s *site) {
		plan := func(name, seats string) {
			s.write("evensprout.yaml", strings.NewReplacer("NAME", name, "SEATS", seats).Replace(insertPlan))
		}
		before := s.rows(t)
		plan("fares", "1")
		s.write("there.ndjson", "keep me\n")
		r := s.on("load", "--rejects", "there.ndjson")
		assert.Equal(t, 1, r.code)
		assert.Contains(t, r.errOut, "there.ndjson already exists")
		assert.Equal(t, before, s.rows(t))
		assert.Equal(t, "keep me\n", s.read("there.ndjson"))

		// A name that no file system takes: what is left out could not be written.
		plan("\""+strings.Repeat("港", 120)+"\"", "1")
		r = s.on("load")
		assert.Equal(t, 1, r.code)
		assert.Contains(t, r.errOut, "--rejects")
		assert.Equal(t, before, s.rows(t))

		// Another violation rolls the load back: what was left out on the way is of no use.
		plan("fares", "0")
		r = s.on("load")
		assert.Equal(t, 5, r.code, r.errOut)
		assert.Equal(t, before, s.rows(t))
		assert.NoFileExists(t, s.file("fares.rejects.ndjson"))

		// A dry run writes the files that are named, and no others.
		plan("fares", "1")
		r = s.on("load", "--dry-run")
		assert.Equal(t, 6, r.code, r.errOut)
		assert.NoFileExists(t, s.file("fares.rejects.ndjson"))
		assert.NotContains(t, r.out, "rejects.ndjson")
		r = s.on("load", "--dry-run", "--rejects", "would.ndjson")
		assert.Equal(t, 6, r.code, r.errOut)
		assert.Contains(t, s.read("would.ndjson"), "Fare.deck")
		assert.Equal(t, before, s.rows(t))

		r = s.on("load")
		assert.Equal(t, 6, r.code, r.errOut)
		assert.Contains(t, s.read("fares.rejects.ndjson"), "Fare.deck")
		files, err := os.ReadDir(s.path)
		require.NoError(t, err)
		for _, f := range files {
			assert.NotContains(t, f.Name(), "-2", "one file for what one load leaves out")
		}
	})
}
