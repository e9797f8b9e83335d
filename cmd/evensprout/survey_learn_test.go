package main

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const repairTables = `
CREATE TABLE clients (id INTEGER PRIMARY KEY, ref VARCHAR(20) NOT NULL UNIQUE, joined TIMESTAMP NOT NULL);
CREATE TABLE repairs (id INTEGER PRIMARY KEY, client_id INTEGER NOT NULL REFERENCES clients (id) ON DELETE CASCADE,
  slip VARCHAR(20) NOT NULL, state VARCHAR(12) NOT NULL, opened_at TIMESTAMP NOT NULL, closed_reason VARCHAR(40),
  weight INTEGER NOT NULL, hull_no VARCHAR(40));
CREATE TABLE visits (id INTEGER PRIMARY KEY, client_id INTEGER NOT NULL REFERENCES clients (id));
`

// repairRows are rows with habits, among them some of which nobody may hear.
func repairRows() string {
	r := rand.New(rand.NewPCG(7, 7))
	var b strings.Builder
	id, start := 0, time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)

	for client := 1; client <= 300; client++ {
		joined := start.Add(-time.Duration(r.IntN(20_000)) * time.Hour)
		fmt.Fprintf(&b, "INSERT INTO clients VALUES (%d, 'CL-%05d', '%s');\n", client, client*331%100_000,
			joined.Format(time.DateTime))
		for range []int{0, 1, 1, 2, 4}[r.IntN(5)] {
			id++
			day := start.AddDate(0, 0, 7*r.IntN(60)+r.IntN(5))
			state, reason := []string{"open", "done", "done"}[r.IntN(3)], "NULL"
			if r.IntN(5) == 0 {
				state, reason = "refused", fmt.Sprintf("'%s'", []string{"too dear", "no time"}[r.IntN(2)])
			}
			hull, weight := fmt.Sprintf("H%d", 100+r.IntN(9000)), 5*int(80+10*r.NormFloat64())
			if id == 3 {
				hull, weight, reason = "SECRET HULL é", 987_654_320, "NULL"
			}
			fmt.Fprintf(&b, "INSERT INTO repairs VALUES (%d, %d, '%c%04d/%02d', '%s', '%s', %s, %d, '%s');\n",
				id, client,
				'A'+rune(r.IntN(3)), r.IntN(10_000), 24+r.IntN(3), state,
				day.Add(time.Duration(8*60+r.IntN(600))*time.Minute).Format(time.DateTime), reason, weight, hull)
		}
	}
	for visit := range 1500 {
		popular := 1 + int(300*r.Float64()*r.Float64()*r.Float64())
		fmt.Fprintf(&b, "INSERT INTO visits VALUES (%d, %d);\n", visit+1, popular)
	}
	b.WriteString("INSERT INTO visits SELECT 6000 + 2 * id, 299 FROM visits WHERE id <= 791;\n")
	return b.String()
}

// The habits of rows are learned and reported: formats, shapes, hours, weekdays, dependences, numbers of children. What
// is rare is not.
func TestHabitsAreLearned(t *testing.T) {
	f := newFolder(t)
	f.makeDB("a.db", repairTables+repairRows())
	r := f.run("survey", "--db", "sqlite:a.db", "--learn", "--out", "a.yaml", "--prove")
	require.Zero(t, r.code, r.errOut)
	plan := f.read("a.yaml")
	for _, want := range []string{
		`{pattern: "CL-[0-9]{5}", unique: true}`, `{pattern: "[A-Z][0-9]{4}/[0-9]{2}"}`, `{pattern: "H[0-9]{3,4}"`,
		"step: 5, shape: {normal: {mean: 400, spread: ", "hours: 8-18, weekdays: mon-fri", "if: {state: [refused]}",
		"per: {Client: {0: ", "skew: {top: 20%, get: ",
	} {
		assert.Contains(t, plan, want)
	}
	for _, secret := range []string{"SECRET", "987", "791"} {
		assert.NotContains(t, plan, secret)
		assert.NotContains(t, r.out, secret)
	}
	for _, want := range []string{"learned: repairs, ", "  slip: format [A-Z][0-9]{4}/[0-9]{2}\n",
		"  closed_reason: only if state is refused\n", "  client_id: the most popular fifth has "} {
		assert.Contains(t, r.out, want)
	}
	assert.Zero(t, f.run("load", "a.yaml").code)
	assert.Equal(t, []string{"0"}, f.query("a.db", "SELECT count(*) FROM repairs WHERE id > 1000 AND "+
		"(closed_reason IS NOT NULL) <> (state = 'refused')"))
}
