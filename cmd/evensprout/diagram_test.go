package main

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/demo"
)

// drawing is what diagram --json prints.
type drawing struct {
	Entities []struct {
		Name, Rows string
		Order      int
		Only       string `json:"only_in"`
		Fields     []struct {
			Name, Type string
			Key        bool
			Only       string `json:"only_in"`
		}
	}
	References []struct {
		From, To        int
		Field           string
		Closing, Family bool
		Only            string `json:"only_in"`
	}
}

func drawn(t *testing.T, r result) (d drawing) {
	t.Helper()
	require.Zero(t, r.code, r.errOut)
	require.NoError(t, json.Unmarshal([]byte(r.out), &d), r.out)
	return d
}

func TestDiagrams(t *testing.T) {
	f := newFolder(t)
	f.write("evensprout.yaml", demo.Entities)
	f.makeDB("larkwater.db", demo.Schema)

	r := f.run("diagram")
	require.Zero(t, r.code, r.errOut)
	assert.Regexp(t, `3 +Pier +9`, r.out)
	assert.Regexp(t, `10 +└ Booking +[0-9,]+ +Sailing \(sailing\)`, r.out)
	assert.Regexp(t, `11 +└ Ticket +[0-9,]+ +FareClass`, r.out, "it stands below Booking")

	for _, name := range []string{"a.svg", "a.png", "a.mmd", "a.txt"} {
		r := f.run("diagram", "--out", name)
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.errOut, "note: "+name+" shows ")
		info, err := os.Stat(f.file(name))
		require.NoError(t, err)
		assert.Positive(t, info.Size())
	}
	svg := f.read("a.svg")
	assert.True(t, strings.HasPrefix(svg, "<svg "))
	assert.NotContains(t, svg, "href", "a picture leads nowhere")
	assert.Contains(t, svg, "<title>Booking, ")
	assert.Contains(t, f.run("diagram", "--format", "mermaid").out, `Passenger ||--o{ Booking : "Passenger"`)

	all := drawn(t, f.run("diagram", "--json", "--fields", "all"))
	around := drawn(t, f.run("diagram", "--json", "--around", "Booking"))
	assert.Less(t, len(around.Entities), len(all.Entities))
	only := drawn(t, f.run("diagram", "--json", "--only", "booking,Ticket"))
	require.Len(t, only.Entities, 2)
	require.Len(t, only.References, 1)
	assert.True(t, only.References[0].Family)
	for _, wrong := range [][]string{
		{"--only", "Bokking", `there is no entity or table Bokking; did you mean Booking?`},
		{"--around", "Booking:x", `such as Booking:2, got "Booking:x"`},
		{"--only", "Pier", "--around", "Pier", "cannot be combined"},
		{"--format", "gif", "must be tree, svg, png or mermaid, got gif"},
		{"--format", "png", "add --out diagram.png"},
		{"--out", "a.gif", "--out must end in .svg, .png, .mmd or .txt"},
		{"--fields", "some", "--fields must be all or keys, got some"},
	} {
		r := f.run(append([]string{"diagram"}, wrong[:len(wrong)-1]...)...)
		assert.Equal(t, 2, r.code, wrong)
		assert.Contains(t, r.errOut, wrong[len(wrong)-1])
	}
}

// A plan beside its database: what only one of them has is marked. Without a plan, the tables are shown.
func TestDiagramsOfDatabases(t *testing.T) {
	onTables(t, `CREATE TABLE ports (id {key}, code VARCHAR(12) NOT NULL UNIQUE, extra VARCHAR(9) NULL);
CREATE TABLE crew (id {key}, port_id INTEGER NOT NULL REFERENCES ports (id));
ALTER TABLE ports ADD COLUMN lead_id INTEGER NULL REFERENCES crew (id);
CREATE TABLE notes (id {key}, port_id INTEGER NOT NULL REFERENCES ports (id));`,
		`name: harbour
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Port: {table: ports, rows: 3, fields: {code: {pattern: "[A-Z]{4}", unique: true}, colour: {kind: colour}}}
  Crew: {table: crew, per: {Port: 2}}
  Tug: {table: tugs, rows: 2, fields: {name: {kind: title}}}
`, func(t *testing.T, s *site) {
			both := drawn(t, s.on("diagram", "--json"))
			marks := map[string]string{}
			for _, e := range both.Entities {
				marks[e.Name] = e.Only
				for _, f := range e.Fields {
					marks[e.Name+"."+f.Name] = f.Only
				}
			}
			for name, want := range map[string]string{"Port": "", "Port.code": "", "Port.colour": "plan",
				"Port.extra": "database", "Port.lead_id": "database", "Port.id": "", "Tug": "plan", "notes": "database",
				"Crew": "", "Crew.Port": ""} {
				got, there := marks[name]
				assert.True(t, there, name)
				assert.Equal(t, want, got, name)
			}
			s.write("evensprout.yaml", "")
			require.NoError(t, os.Remove(s.file("evensprout.yaml")))
			tables := drawn(t, s.on("diagram", "--json"))
			require.Len(t, tables.Entities, 3)
			closing := 0
			for _, r := range tables.References {
				if r.Closing {
					closing++
				}
			}
			require.Len(t, tables.References, 3)
			assert.Equal(t, 1, closing, "one of the two that refer to each other")
			r := s.on("diagram", "--out", "tables.svg")
			assert.Contains(t, r.errOut, "tables.svg shows 3 tables")
			assert.Contains(t, s.on("diagram", "--only", "ports", "--out", "one.svg").errOut, "one.svg shows 1 table")
			assert.Contains(t, strings.ToLower(s.read("tables.svg")), ">varchar(12)<")
		})
}
