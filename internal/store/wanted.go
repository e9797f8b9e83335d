package store

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/schema"
)

// Wanted tells which tables were asked for by patterns of names, as path.Match reads
// them, and by a schema; nil: all.
func Wanted(db *schema.Database, patterns []string, schemaName string) (func(*schema.Table) bool, error) {
	if len(patterns) == 0 && schemaName == "" {
		return nil, nil
	}
	if err := checkSchema(db, schemaName); err != nil {
		return nil, err
	}
	named := func(t *schema.Table, pattern string) bool {
		for _, name := range []string{t.Name, t.LocalName()} {
			if ok, _ := path.Match(strings.ToLower(pattern), strings.ToLower(name)); ok {
				return true
			}
		}
		return false
	}
	for _, p := range patterns {
		if !slices.ContainsFunc(
			db.Tables,
			func(t *schema.Table) bool { return named(t, p) && (schemaName == "" || t.Schema == schemaName) },
		) {
			f := &Fault{Kind: Missing, Message: fmt.Sprintf("there is no table %s", p)}
			if near := diag.Nearest(p, db.TableNames()); near != "" {
				f.Hint = fmt.Sprintf("did you mean %s?", near)
			}
			return nil, f
		}
	}
	return func(t *schema.Table) bool {
		if schemaName != "" && t.Schema != schemaName {
			return false
		}
		return len(patterns) == 0 || slices.ContainsFunc(patterns, func(p string) bool { return named(t, p) })
	}, nil
}

// checkSchema refuses the name of a schema that holds no table.
func checkSchema(db *schema.Database, name string) error {
	var schemas []string
	for _, t := range db.Tables {
		if t.Schema != "" && !slices.Contains(schemas, t.Schema) {
			schemas = append(schemas, t.Schema)
		}
	}
	if name == "" || slices.Contains(schemas, name) {
		return nil
	}
	hint := "this database has no schemas"
	if near := diag.Nearest(name, schemas); near != "" {
		hint = fmt.Sprintf("did you mean %s?", near)
	} else if len(schemas) > 0 {
		hint = "there are " + strings.Join(schemas, ", ")
	}
	return &Fault{Kind: Missing, Message: fmt.Sprintf("there is no schema %s with "+
		"tables", name), Hint: hint}
}
