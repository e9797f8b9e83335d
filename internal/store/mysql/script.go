package mysql

import (
	"encoding/hex"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Script writes SQL for the mariadb and mysql clients.
func (Driver) Script() store.Script { return script{} }

type script struct{ sqlText }

func (script) Name() string { return "MariaDB" }

func (script) Late() []string { return nil }

// InUTC sets the time zone, which columns of the type TIMESTAMP are read in.
func (script) InUTC() (before, after []string) {
	return []string{"SET @evensprout_time_zone = @@SESSION.time_zone", "SET SESSION time_zone = '+00:00'"},
		[]string{"SET SESSION time_zone = @evensprout_time_zone"}
}

func (script) Begin() []string {
	return []string{
		"SET NAMES utf8mb4",
		"SET time_zone = '+00:00'",
		"SET sql_mode = 'STRICT_ALL_TABLES,NO_AUTO_VALUE_ON_ZERO,NO_BACKSLASH_ESCAPES'",
		"START TRANSACTION",
	}
}

func (script) Advance(*schema.Table, *schema.Column, int64) string { return "" }
func (script) DefersAll() bool                                     { return false }
func (script) Inverse() bool                                       { return true }

// AppendLiteral writes texts without escapes: Begin turns backslashes off.
func (script) AppendLiteral(b []byte, v *value.Value, c *schema.Column) []byte {
	switch {
	case v.IsNull():
		return append(b, "NULL"...)
	case v.Type == value.Integer, v.Type == value.Boolean:
		return value.Int(v.N).AppendText(b)
	case v.Type == value.Decimal:
		return v.AppendText(b)
	case v.Type == value.Bytes || c.Kind == schema.Bytes:
		b = hex.AppendEncode(append(b, "X'"...), []byte(v.S))
		return append(b, '\'')
	}
	text := string(appendText(nil, v, c))
	if of := madeBy(c); of != "" {
		b = append(append(b, of...), '(')
		return append(store.AppendQuoted(b, text), madeEnd(c)...)
	}
	return store.AppendApart(b, text, "CONCAT(", ", CHAR(13 USING utf8mb4), ", ")")
}
