package postgres

import (
	"context"
	"strings"
	"time"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
)

// rightsSQL lists columns with what this user may do with them, and with the sequence
// behind their default.
const rightsSQL = `
SELECT a.attname, has_schema_privilege(n.oid, 'USAGE'), has_table_privilege(c.oid, 'DELETE'),
  has_column_privilege(c.oid, a.attnum, 'SELECT'), has_column_privilege(c.oid, a.attnum, 'INSERT'),
    has_column_privilege(c.oid, a.attnum, 'UPDATE'),
  coalesce(s.oid::regclass::text, ''), coalesce(has_sequence_privilege(s.oid, 'SELECT')
    AND has_sequence_privilege(s.oid, 'UPDATE'), true),
  coalesce(has_sequence_privilege(s.oid, 'USAGE') OR has_sequence_privilege(s.oid, 'UPDATE') OR a.attidentity <> '',
    true), pg_has_role(c.relowner, 'USAGE')
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
LEFT JOIN LATERAL (
  SELECT p.objid AS oid FROM pg_depend p JOIN pg_class q ON q.oid = p.objid AND q.relkind = 'S'
  WHERE p.classid = 'pg_class'::regclass AND p.refclassid = 'pg_class'::regclass AND p.refobjid = c.oid
    AND p.refobjsubid = a.attnum AND p.deptype = 'i'
  UNION ALL
  SELECT p.refobjid FROM pg_attrdef f JOIN pg_depend p ON p.classid = 'pg_attrdef'::regclass AND p.objid = f.oid
    AND p.refclassid = 'pg_class'::regclass
  JOIN pg_class q ON q.oid = p.refobjid AND q.relkind = 'S' WHERE f.adrelid = c.oid AND f.adnum = a.attnum
  LIMIT 1) s ON true
WHERE n.nspname = $1 AND c.relname = $2 ORDER BY a.attnum`

// policiesSQL counts the policies that let this user do something in a table where policies
// bind it: without any, nothing is allowed. One whose condition is false allows nothing.
const policiesSQL = `
SELECT count(p.polname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
LEFT JOIN pg_policy p ON p.polrelid = c.oid AND p.polpermissive AND (p.polcmd = '*' OR p.polcmd = CASE $3 WHEN 'I'
  THEN 'a' ELSE 'w' END)
  AND (0 = ANY (p.polroles) OR EXISTS (SELECT 1 FROM unnest(p.polroles) AS r (oid) WHERE pg_has_role(r.oid, 'MEMBER')))
  AND coalesce(pg_get_expr(coalesce(p.polwithcheck, p.polqual), p.polrelid), '') <> 'false'
WHERE n.nspname = $1 AND c.relname = $2 AND row_security_active(c.oid) GROUP BY c.oid`

// Denied asks the server for the rights of this user.
func (d *database) Denied(ctx context.Context, a store.Access) (string, error) {
	var lacks []string
	for _, x := range []struct {
		right  string
		wanted bool
	}{{"TEMPORARY", a.Stage}, {"CREATE", a.Journal}} {
		if !x.wanted {
			continue
		}
		err := d.texts(
			ctx,
			1,
			"SELECT has_database_privilege(current_database(), '"+x.right+"')",
			nil,
			func(r []string) {
				if r[0] == "f" {
					lacks = append(lacks, x.right+" on the database")
				}
			},
		)
		if err != nil {
			return "", err
		}
	}

	if a.Table != nil {
		more, err := d.deniedOn(ctx, a)
		if err != nil {
			return "", err
		}
		lacks = append(lacks, more...)
	}

	if len(lacks) == 0 {
		return "", nil
	}
	return "this user lacks " + strings.Join(lacks, ", "), nil
}

// withoutPolicy tells for which writes no policy of row-level security allows a row.
func (d *database) withoutPolicy(ctx context.Context, a store.Access) (lacks []string, err error) {
	for verb, wanted := range map[string]bool{"INSERT": len(a.Insert) > 0, "UPDATE": len(a.Update) > 0} {
		err := d.texts(ctx, 1, policiesSQL, args(a.Table.Schema, a.Table.LocalName(), verb[:1]), func(row []string) {
			if wanted && row[0] == "0" {
				lacks = append(lacks, "a policy of row-level security that allows "+verb)
			}
		})
		if err != nil {
			return nil, err
		}
	}
	return lacks, nil
}

func (d *database) deniedOn(ctx context.Context, a store.Access) ([]string, error) {
	refused := map[string]map[string]bool{"SELECT": {}, "INSERT": {}, "UPDATE": {}}
	var usage, remove, owner bool
	var sequences []string
	err := d.texts(ctx, 10, rightsSQL, args(a.Table.Schema, a.Table.LocalName()), func(row []string) {
		no := func(i int) bool { return row[i] == "f" }
		name, sequence := strings.Clone(row[0]), strings.Clone(row[6])
		if !strings.Contains(a.Table.Name, ".") { // the search path finds it
			sequence = strings.TrimPrefix(sequence, a.Table.Schema+".")
		}
		usage, remove, owner = usage || no(1), remove || no(2), !no(9)
		for i, right := range []string{"SELECT", "INSERT", "UPDATE"} {
			refused[right][name] = no(3 + i)
		}
		written := false
		for _, c := range a.Insert {
			written = written || c.Name == name
		}
		switch {
		case a.Number != nil && a.Number.Name == name && no(7):
			sequences = append(sequences, "SELECT and UPDATE on the sequence "+sequence)
		case len(a.Insert) > 0 && !written && no(8):
			sequences = append(sequences, "USAGE on the sequence "+sequence)
		}
	})
	if err != nil {
		return nil, err
	}
	lacks, err := d.withoutPolicy(ctx, a)
	if err != nil {
		return nil, err
	}
	if usage {
		return []string{"USAGE on the schema " + a.Table.Schema}, nil
	}
	for _, x := range []struct {
		right   string
		columns []*schema.Column
	}{{"SELECT", a.Read}, {"INSERT", a.Insert}, {"UPDATE", a.Update}} {
		if s := store.Lacking(x.right, x.columns,
			func(c *schema.Column) bool { return refused[x.right][c.Name] }); s != "" {
			lacks = append(lacks, s)
		}
	}

	if a.Delete && remove {
		lacks = append(lacks, "DELETE")
	}
	if a.Loosen && !owner {
		lacks = append(lacks, "the table's ownership, by which a reference that closes a circle can be put off")
	}
	return append(lacks, sequences...), nil
}

// Clock asks for the server's time, and for the zone that the database or the user is
// set to: what our own session has does not count.
func (d *database) Clock(ctx context.Context) (now time.Time, zone string, err error) {
	err = d.own(ctx, func() error {
		now, zone, err = setwise.Clock(
			ctx,
			d,
			"SELECT localtimestamp, CASE WHEN reset_val IN ('UTC', 'Etc/UTC', 'GMT', 'Etc/GMT', 'Zulu') THEN '' "+
				"ELSE reset_val END FROM pg_settings WHERE name = 'TimeZone'",
		)
		return err
	})
	return now, zone, err
}
