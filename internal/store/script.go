package store

import (
	"fmt"
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Script is how an engine's SQL is written for its own client: it needs no connection.
type Script interface {
	// Name is the engine's, for people.
	Name() string
	// Begin are the statements that set the session and begin the transaction.
	Begin() []string
	// Late are those that let references be held against the tables at its end, as far as
	// the engine can.
	Late() []string
	Quote(name string) string
	// Quoting lets literals be read as they are written here, for as long as something is
	// done in a transaction of somebody else's.
	Quoting(exec func(sql string) error, do func() error) error
	// InUTC are the statements that let moments be read as UTC in a transaction of somebody else's, and those that put
	// the session back.
	InUTC() (before, after []string)
	// Table is a table's quoted name, with its schema.
	Table(t *schema.Table) string
	// AppendLiteral appends a value as the column takes it.
	AppendLiteral(b []byte, v *value.Value, c *schema.Column) []byte
	// Overriding stands between columns and values where keys are given to columns that
	// number themselves; empty if nothing need.
	Overriding() string
	// Advance moves the sequence of a column beyond a number, never back; empty where it
	// moves by itself.
	Advance(t *schema.Table, c *schema.Column, last int64) string
	// DefersAll tells that any reference can be held against the tables at the end.
	DefersAll() bool
	// Inverse tells that rows of a statement go one after the other, so that those that
	// refer to others of their table must go first.
	Inverse() bool
}

// ScriptFor is the script of the engine that a URL's scheme, such as postgres, names; nil
// if there is none.
func ScriptFor(drivers []Driver, scheme string) Script {
	if d := driver(drivers, scheme+":"); d != nil {
		return d.Script()
	}
	return nil
}

// AppendQuoted appends a text as SQL's standard writes it: quotes inside are doubled.
func AppendQuoted(b []byte, s string) []byte {
	b = append(b, '\'')
	for i := range len(s) {
		if s[i] == '\'' {
			b = append(b, '\'')
		}
		b = append(b, s[i])
	}
	return append(b, '\'')
}

// AppendApart appends a text whose carriage returns are written apart: clients take them
// away at the ends of lines. Between the pieces stands what makes one, around them what puts
// them together.
func AppendApart(b []byte, s, open, between, shut string) []byte {
	if !strings.Contains(s, "\r") {
		return AppendQuoted(b, s)
	}
	b = append(b, open...)
	for i, piece := range strings.Split(s, "\r") {
		if i > 0 {
			b = append(b, between...)
		}
		b = AppendQuoted(b, piece)
	}
	return append(b, shut...)
}

// ScriptError is a statement of a script that the engine refused.
type ScriptError struct {
	File    string // empty if it is not known
	Line    int    // from 1; 0 if it is not known
	Message string
}

func (e *ScriptError) Error() string {
	at := e.File
	if at == "" {
		at = "the script"
	}
	if e.Line > 0 {
		at = fmt.Sprintf("%s:%d", at, e.Line)
	}
	return at + ": " + e.Message
}

// Report names file and line.
func (e *ScriptError) Report() diag.Report {
	return diag.Report{
		Kind:    diag.Database,
		Message: e.Error(),
		Hint:    "nothing was loaded, and the database created for it is dropped",
		Members: map[string]any{"script": map[string]any{"file": e.File, "line": e.Line}},
	}
}

// OnlyComments reports whether a piece of SQL is comments alone; those that begin with an
// exclamation mark are for a server.
func OnlyComments(s string) bool {
	for {
		s = strings.TrimSpace(s)
		switch {
		case s == "":
			return true
		case strings.HasPrefix(s, "#"), strings.HasPrefix(s, "--"):
			_, s, _ = strings.Cut(s, "\n")
		case strings.HasPrefix(s, "/*") && !strings.HasPrefix(s, "/*!") && !strings.HasPrefix(s, "/*M!"):
			_, s, _ = strings.Cut(s, "*/")
		default:
			return false
		}
	}
}
