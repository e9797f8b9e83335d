// Package demo holds the sample scenario: Larkwater Ferries.
package demo

import (
	"embed"
	"io/fs"
	"strings"
)

//go:embed larkwater
var files embed.FS

// The sample's own files, as they stand in its folder.
const (
	SchemaFile = "schema.sql"      // makes its tables
	PlanFile   = "evensprout.yaml" // fills them
	BaseFile   = "reference.yaml"  // the plan that it builds on: the reference data
	// FullBoat is a sale that cannot be: the last of its steps that write is refused.
	FullBoat = "full-boat.csv"
)

// Schema and Plan are the texts of these files, and Entities is the plan with its reference data and without its
// units and invariants: it needs no other file.
var (
	Schema   = text(SchemaFile)
	Plan     = text(PlanFile)
	Entities = entities(Plan, text(BaseFile))
)

// text returns a file of the demo.
func text(name string) string {
	b, err := files.ReadFile("larkwater/" + name)
	if err != nil {
		panic(err) // it is embedded
	}
	return string(b)
}

// entities is the part of a plan before its units, with the entities of the plan that it builds on.
func entities(plan, base string) string {
	const mark = "\nentities:\n"
	head, _, _ := strings.Cut(plan, "\n# Writes that belong together")
	head, own, _ := strings.Cut(head, mark)
	_, shared, _ := strings.Cut(base, mark)
	var lines []string
	for line := range strings.Lines(head) {
		if !strings.HasPrefix(line, "builds_on:") {
			lines = append(lines, line)
		}
	}
	return strings.TrimRight(strings.Join(lines, ""), "\n") + "\n" + mark + shared + "\n" + own
}

// Files are all files of the sample, by name.
func Files() map[string][]byte {
	out := map[string][]byte{}
	list, err := fs.ReadDir(files, "larkwater")
	if err != nil {
		panic(err) // it is embedded
	}
	for _, f := range list {
		out[f.Name()] = []byte(text(f.Name()))
	}
	return out
}
