package setwise

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Probes bounds what conditions of a database may cost that it is asked about. The zero
// value is ready.
type Probes struct {
	calls int
	spent time.Duration
}

const (
	ProbeTime  = 2 * time.Second  // of one value
	maxProbing = 20 * time.Second // of all values of a connection
	maxProbes  = 20_000           // values of a connection
)

// Asker is an engine, and how it is asked about conditions.
type Asker struct {
	Engine Engine
	// runs something where nothing can be written, with the limit ProbeTime
	Reading func(ctx context.Context, do func() error) error
	Typed   func(param string, c *schema.Column) string // a parameter with its type
}

// Passes lets the database say which rows of values of some columns a condition lets
// pass, as a CHECK constraint would; in it a single column may also be called VALUE. Rows
// that it cannot be computed over do not pass. The names in the condition are the
// database's own: it comes from there.
func (p *Probes) Passes(
	ctx context.Context,
	by Asker,
	columns []*schema.Column,
	condition string,
	rows [][]value.Value,
) ([]bool, error) {
	e := by.Engine
	var selected []string
	take := func(c *schema.Column, name string) {
		selected = append(selected, by.Typed(e.Param(len(selected)+1, c), c)+" AS "+e.Quote(name))
	}
	for _, c := range columns {
		take(c, c.Name)
	}
	twice := len(columns) == 1 && columns[0].Name != "value"
	if twice {
		take(columns[0], "value")
	}
	sql := "SELECT CASE WHEN (" + condition + ") THEN 1 WHEN NOT (" + condition + ") THEN 0 ELSE 1 END " +
		"FROM (SELECT " + strings.Join(selected, ", ") + ") AS t"
	out := make([]bool, len(rows))
	// An error ends the transaction, so the rows behind it have another.
	for next := 0; next < len(rows); {
		failed := by.Reading(ctx, func() error {
			for next < len(rows) {
				i := next
				next++
				var args []Arg
				for j, c := range columns {
					args = append(args, Arg{Value: rows[i][j], Column: c})
				}
				if twice {
					args = append(args, args[0])
				}
				n, err := p.ask(ctx, e, sql, args)
				if err != nil {
					return err
				}
				out[i] = n == 1
			}
			return nil
		})
		var refused *store.NotAsked
		var fault *store.Fault
		switch {
		case ctx.Err() != nil:
			return nil, context.Cause(ctx)
		case errors.As(failed, &refused):
			return nil, refused
		case errors.As(failed, &fault) && fault.Kind == store.Lost:
			return nil, failed
		}
	}
	return out, nil
}

// ask computes one number, within the limits for questions and their time.
func (p *Probes) ask(ctx context.Context, e Engine, sql string, args []Arg) (int64, error) {
	if p.calls++; p.calls > maxProbes || p.spent > maxProbing {
		return 0, &store.NotAsked{Why: "the limit for tested conditions is reached"}
	}
	began := time.Now()
	n, err := Number(ctx, e, sql, args...)
	took := time.Since(began)
	p.spent += took
	switch {
	case ctx.Err() != nil:
		return 0, context.Cause(ctx)
	case err != nil && took >= ProbeTime:
		return 0, &store.NotAsked{Why: fmt.Sprintf("it takes longer than %s", ProbeTime)}
	}
	return n, err
}
