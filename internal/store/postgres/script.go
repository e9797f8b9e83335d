package postgres

import (
	"encoding/hex"
	"fmt"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Script writes SQL for psql.
func (Driver) Script() store.Script { return script{} }

type script struct{ sqlText }

func (script) Name() string { return "PostgreSQL" }

// InUTC does nothing: moments are written with their zone.
func (script) InUTC() (before, after []string) { return nil, nil }

func (script) Begin() []string {
	return []string{
		"SET client_encoding = 'UTF8'",
		"SET standard_conforming_strings = on",
		"SET TimeZone = 'UTC'",
		"SET DateStyle = 'ISO'",
		"BEGIN",
	}
}

func (script) Late() []string { return []string{"SET CONSTRAINTS ALL DEFERRED"} }

func (script) DefersAll() bool { return false }
func (script) Inverse() bool   { return false }

func (script) AppendLiteral(b []byte, v *value.Value, c *schema.Column) []byte {
	switch {
	case v.IsNull():
		return append(b, "NULL"...)
	case v.Type == value.Boolean && c.Kind == schema.Integer:
		return append(b, '0'+byte(v.N))
	case v.Type == value.Integer || v.Type == value.Boolean:
		return v.AppendText(b)
	case v.Type == value.Decimal && (c.Kind == schema.Decimal || c.Kind == schema.Real):
		return v.AppendText(b)
	case v.Type == value.Bytes || c.Kind == schema.Bytes:
		b = hex.AppendEncode(append(b, `'\x`...), []byte(v.S))
		return append(b, '\'')
	}
	text := string(v.AppendText(nil))
	if strings.Contains(text, "\r") { // clients take it away at the ends of lines
		return store.AppendQuoted(append(b, 'E'), strings.NewReplacer(`\`, `\\`, "\r", `\r`).Replace(text))
	}
	return store.AppendQuoted(b, text)
}

// Advance moves the sequence behind a column, if there is one.
func (script) Advance(t *schema.Table, c *schema.Column, last int64) string {
	text := func(x string) string { return string(store.AppendQuoted(nil, x)) }
	return fmt.Sprintf(
		"SELECT setval(s.name, %d) FROM pg_get_serial_sequence(%s, %s) AS s (name) WHERE s.name IS NOT NULL AND "+
			"coalesce(pg_sequence_last_value(s.name::regclass), 0) < %d",
		last,
		text(tableName(t)),
		text(c.Name),
		last,
	)
}
