package mysql

import (
	"context"
	"errors"
	"strings"
	"time"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
)

// Denied lets the server prepare statements that would do all this, which it refuses
// where this user has no right to run them, be it by itself, by a role or by a pattern
// of names. None of them runs.
func (d *database) Denied(ctx context.Context, a store.Access) (string, error) {
	var lacks []string
	try := func(name, statement string) error {
		may, err := d.may(ctx, statement)
		if err == nil && !may {
			lacks = append(lacks, name)
		}
		return err
	}
	if a.Stage {
		if err := try("CREATE TEMPORARY TABLES on the database", "CREATE TEMPORARY TABLE `evensprout rights` (n "+
			"INT)"); err != nil {
			return "", err
		}
	}

	if a.Journal {
		if err := try("CREATE on the database", "CREATE TABLE `evensprout rights` (n INT)"); err != nil {
			return "", err
		}
	}
	if a.Table != nil {
		table := d.Table(a.Table)
		nulls := func(columns []*schema.Column) string {
			return strings.TrimSuffix(strings.Repeat("NULL, ", len(columns)), ", ")
		}
		for _, x := range []struct {
			right     string
			columns   []*schema.Column
			statement func([]*schema.Column) string
		}{
			{"SELECT", a.Read, func(c []*schema.Column) string {
				return "SELECT " + strings.Join(setwise.Names(d, "", c), ", ") + " FROM " + table
			}},
			{"INSERT", a.Insert, func(c []*schema.Column) string {
				return "INSERT INTO " + table + " (" + strings.Join(setwise.Names(d, "", c), ", ") + ") VALUES (" +
					nulls(c) + ")"
			}},
			{"UPDATE", a.Update, func(c []*schema.Column) string {
				return "UPDATE " + table + " SET " + strings.Join(setwise.Names(d, "", c), " = NULL, ") + " = NULL"
			}},
		} {
			if len(x.columns) == 0 {
				continue
			}
			may, err := d.may(ctx, x.statement(x.columns))
			if err != nil {
				return "", err
			}
			if may {
				continue
			}
			lacks = append(lacks, store.Lacking(x.right, x.columns, func(c *schema.Column) bool {
				may, again := d.may(ctx, x.statement([]*schema.Column{c}))
				err = errors.Join(err, again)
				return !may
			}))
			if err != nil {
				return "", err
			}
		}
		if a.Delete {
			if err := try("DELETE", "DELETE FROM "+table); err != nil {
				return "", err
			}
		}
	}

	if len(lacks) == 0 {
		return "", nil
	}
	return "this user lacks " + strings.Join(lacks, ", "), nil
}

// may reports whether the server lets this user run a statement.
func (d *database) may(ctx context.Context, statement string) (bool, error) {
	prepared, err := d.conn.PrepareContext(ctx, statement)
	if err == nil {
		return true, prepared.Close()
	}
	var fault *store.Fault
	if err = d.err(ctx, err); errors.As(err, &fault) && fault.Kind == store.Denied {
		return false, nil
	}
	return false, err
}

// Clock asks for the server's time, and for its zone: what our own session has does not
// count.
func (d *database) Clock(ctx context.Context) (time.Time, string, error) {
	return setwise.Clock(
		ctx,
		d,
		"SELECT now(6), CASE WHEN zone IN ('UTC', '+00:00', 'GMT', 'Etc/UTC') THEN '' ELSE zone END FROM (SELECT "+
			"CASE WHEN @@global.time_zone = 'SYSTEM' THEN @@system_time_zone ELSE @@global.time_zone END AS zone) z",
	)
}
