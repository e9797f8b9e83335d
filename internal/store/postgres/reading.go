package postgres

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
	"evensprout/internal/value"
)

// ReadOnly does something in a transaction that cannot write and is rolled back. Inside a
// transaction it is a savepoint that ends the same way: the way back to it makes the
// transaction able to write again.
func (d *database) ReadOnly(ctx context.Context, do func() error) error {
	return d.readOnly(ctx, nil, do)
}

func (d *database) readOnly(ctx context.Context, settings []string, do func() error) error {
	begin, end := []string{"BEGIN READ ONLY"}, []string{"ROLLBACK"}
	if d.conn.TxStatus() != 'I' {
		const mark = "evensprout_reading"
		begin, end = []string{
			"SAVEPOINT " + mark,
			"SET LOCAL transaction_read_only = on",
		}, []string{
			"ROLLBACK TO " + mark,
			"RELEASE " + mark,
		}
	}

	for _, sql := range append(begin, settings...) {
		if _, err := d.Exec(ctx, sql); err != nil {
			return err
		}
	}
	err := do()
	if d.conn.IsClosed() {
		return err
	}
	for _, sql := range end {
		if _, back := d.Exec(context.WithoutCancel(ctx), sql); back != nil {
			return errors.Join(err, back)
		}
	}
	return err
}

// Passes asks about conditions that call nothing but built-in functions that cannot write,
// and functions of this user's own. Nothing is asked with the rights of a superuser: they
// are too great to lend to a condition.
func (d *database) Passes(
	ctx context.Context,
	columns []*schema.Column,
	condition string,
	rows [][]value.Value,
) ([]bool, error) {
	why, err := d.powerful(ctx)
	if why == "" && err == nil {
		why = d.calls[condition]
	}
	if why == "" && err == nil {
		why, err = d.volatile(ctx, condition)
	}
	if err != nil {
		return nil, err
	}
	if why != "" {
		return nil, &store.NotAsked{Why: why}
	}
	// a domain has conditions of its own
	typed := func(p string, c *schema.Column) string { return "CAST(" + p + " AS " + c.Base + ")" }
	reading := func(ctx context.Context, do func() error) error {
		return d.readOnly(
			ctx,
			[]string{fmt.Sprintf("SET LOCAL statement_timeout = %d", setwise.ProbeTime.Milliseconds())},
			func() error { return d.own(ctx, do) },
		)
	}
	return d.probes.Passes(ctx, setwise.Asker{Engine: d, Reading: reading, Typed: typed}, columns, condition, rows)
}

// callsSQL lists the functions, operators and domains on which conditions depend and that
// are neither built in (what is built in is not listed there) nor this user's own.
const callsSQL = `
WITH used AS (
  SELECT d.objid AS condition, p.oid::regprocedure::text AS name, p.proowner AS owner FROM pg_depend d
    JOIN pg_proc p ON p.oid = d.refobjid
  WHERE d.classid = 'pg_constraint'::regclass AND d.refclassid = 'pg_proc'::regclass
  UNION ALL SELECT d.objid, 'the operator ' || o.oid::regoperator::text, p.proowner FROM pg_depend d
    JOIN pg_operator o ON o.oid = d.refobjid JOIN pg_proc p ON p.oid = o.oprcode
  WHERE d.classid = 'pg_constraint'::regclass AND d.refclassid = 'pg_operator'::regclass
  UNION ALL SELECT d.objid, 'the domain ' || t.oid::regtype::text, t.typowner FROM pg_depend d
    JOIN pg_type t ON t.oid = d.refobjid AND t.typtype = 'd'
  JOIN pg_constraint c ON c.oid = d.objid AND c.contypid <> t.oid
  WHERE d.classid = 'pg_constraint'::regclass AND d.refclassid = 'pg_type'::regclass)
SELECT pg_get_expr(c.conbin, c.conrelid), u.name, r.rolname
FROM used u JOIN pg_constraint c ON c.oid = u.condition JOIN pg_roles r ON r.oid = u.owner
WHERE c.contype = 'c' AND NOT pg_has_role(u.owner, 'MEMBER')`

// readCalls learns what conditions call.
func (d *database) readCalls(each func(sql string, width int, show func(*schema.Table, []string)) error) error {
	d.calls = map[string]string{}
	return each(callsSQL, 3, func(_ *schema.Table, r []string) {
		d.calls[trimParentheses(r[0])] = fmt.Sprintf("it calls %s, which belongs to %s", r[1], r[2])
	})
}

// powerfulSQL reports whether the session has the rights of a superuser, or can take them: a
// function could, with SET ROLE or RESET ROLE.
const powerfulSQL = `SELECT r.rolname FROM pg_roles r WHERE r.rolsuper AND (pg_has_role(session_user, r.oid, ` +
	`'MEMBER') OR pg_has_role(current_user, r.oid, 'MEMBER')) LIMIT 1`

// powerful tells why nothing is asked with this user's rights.
func (d *database) powerful(ctx context.Context) (string, error) {
	if d.powers == nil {
		var powers string
		if err := d.texts(ctx, 1, powerfulSQL, nil, func([]string) {
			powers = "this user is a superuser, or can become one; run survey as another role to have it tested"
		}); err != nil {
			return "", err
		}
		d.powers = &powers
	}
	return *d.powers, nil
}

var callPattern = regexp.MustCompile(`([A-Za-z_][A-Za-z0-9_$]*|"(?:[^"]|"")*")\s*\(`)

// volatile tells which built-in function a condition calls that may do more than compute.
func (d *database) volatile(ctx context.Context, condition string) (string, error) {
	var names []string
	for _, m := range callPattern.FindAllStringSubmatch(condition, -1) {
		name := strings.ToLower(m[1])
		if m[1][0] == '"' {
			name = strings.ReplaceAll(m[1][1:len(m[1])-1], `""`, `"`)
		}
		if !slices.Contains(names, name) {
			names = append(names, name)
		}
	}

	for _, name := range names {
		found := false
		err := d.catalogue(
			ctx,
			"SELECT p.proname FROM pg_proc p WHERE p.pronamespace = 'pg_catalog'::regnamespace AND p.proname = $1 "+
				"AND p.provolatile = 'v' LIMIT 1",
			args(name),
			[]*schema.Column{{Kind: schema.Text}},
			func([]value.Value) error {
				found = true
				return nil
			},
		)
		if err != nil || found {
			return "it calls " + name + ", which may do more than compute", err
		}
	}
	return "", nil
}
