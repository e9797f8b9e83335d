package sqlite

import (
	"encoding/hex"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Script writes SQL for the sqlite3 shell.
func (Driver) Script() store.Script { return script{} }

type script struct{ sqlText }

func (script) Name() string { return "SQLite" }

// InUTC does nothing: moments are texts.
func (script) InUTC() (before, after []string) { return nil, nil }

func (script) Begin() []string { return []string{"PRAGMA foreign_keys = ON", "BEGIN"} }
func (script) Late() []string  { return []string{"PRAGMA defer_foreign_keys = ON"} }

func (script) Table(t *schema.Table) string                        { return quote(t.LocalName()) }
func (script) Advance(*schema.Table, *schema.Column, int64) string { return "" }
func (script) DefersAll() bool                                     { return true }
func (script) Inverse() bool                                       { return false }
func (script) AppendLiteral(b []byte, v *value.Value, c *schema.Column) []byte {
	switch v.Type {
	case value.Null:
		return append(b, "NULL"...)
	case value.Integer, value.Boolean:
		return value.Int(v.N).AppendText(b)
	case value.Bytes, value.Text, value.JSON:
		if v.Type == value.Bytes || c.Kind == schema.Bytes {
			b = hex.AppendEncode(append(b, "X'"...), []byte(v.S))
			return append(b, '\'')
		}
		return store.AppendApart(b, v.S, "(", " || char(13) || ", ")")
	case value.Decimal:
		if c.Kind == schema.Any {
			return v.AppendText(b) // no column type makes a number of a text here
		}
	}
	return store.AppendQuoted(b, string(appendText(nil, v, c)))
}
