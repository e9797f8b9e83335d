package postgres

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store/setwise"
)

// vetSQL tells of a table of the journal what it should not have. Its owner may be this
// user, a role that it is a member of (of which a superuser is none), the owner of the
// database, or a superuser: these could do anything as it is.
const vetSQL = `
WITH me AS (SELECT r.oid, r.rolsuper FROM pg_roles r WHERE r.rolname = current_user),
t AS (SELECT c.* FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = $1 AND c.relname = $2),
owned AS (SELECT 'the table' AS what, t.relowner AS owner FROM t UNION ALL SELECT 'its schema', n.nspowner
  FROM pg_namespace n JOIN t ON n.oid = t.relnamespace)
SELECT 'kind', '' FROM t WHERE t.relkind NOT IN ('r', 'p')
UNION ALL SELECT 'owner', o.what || ' belongs to ' || r.rolname FROM owned o JOIN pg_roles r ON r.oid = o.owner
  CROSS JOIN me
  WHERE o.owner <> me.oid AND NOT r.rolsuper AND o.owner <> (SELECT d.datdba FROM pg_database d
    WHERE d.datname = current_database()) AND (me.rolsuper OR NOT pg_has_role(o.owner, 'MEMBER'))
UNION ALL SELECT 'trigger', g.tgname FROM t JOIN pg_trigger g ON g.tgrelid = t.oid WHERE NOT g.tgisinternal
UNION ALL SELECT 'rule', w.rulename FROM t JOIN pg_rewrite w ON w.ev_class = t.oid
UNION ALL SELECT 'policy', p.polname FROM t JOIN pg_policy p ON p.polrelid = t.oid
UNION ALL SELECT 'row-level security', '' FROM t WHERE t.relrowsecurity OR t.relforcerowsecurity
UNION ALL SELECT 'parent or child', '' FROM t JOIN pg_inherits i ON i.inhrelid = t.oid OR i.inhparent = t.oid
UNION ALL SELECT 'default or computed column', a.attname FROM t JOIN pg_attrdef f ON f.adrelid = t.oid
  JOIN pg_attribute a ON a.attrelid = t.oid AND a.attnum = f.adnum
UNION ALL SELECT 'constraint', k.conname FROM t JOIN pg_constraint k ON k.conrelid = t.oid
  WHERE k.contype NOT IN ('p', 'u', 'n')
UNION ALL SELECT 'index over an expression', x.relname FROM t JOIN pg_index i ON i.indrelid = t.oid
  JOIN pg_class x ON x.oid = i.indexrelid WHERE i.indexprs IS NOT NULL OR i.indpred IS NOT NULL
UNION ALL SELECT 'column of a type of its own', a.attname FROM t JOIN pg_attribute a ON a.attrelid = t.oid
  AND a.attnum > 0 AND NOT a.attisdropped JOIN pg_type y ON y.oid = a.atttypid
  JOIN pg_namespace n ON n.oid = y.typnamespace WHERE n.nspname <> 'pg_catalog'
UNION ALL SELECT 'writer', CASE WHEN g.grantee = 0 THEN 'everybody' ELSE g.grantee::regrole::text END FROM t CROSS
  JOIN me CROSS JOIN LATERAL aclexplode(t.relacl) g
  WHERE g.privilege_type IN ('INSERT', 'UPDATE', 'DELETE', 'TRUNCATE', 'TRIGGER') AND g.grantee NOT IN (me.oid,
    t.relowner)
UNION ALL SELECT 'writer', r.rolname FROM t JOIN pg_roles r ON r.oid = t.relowner CROSS JOIN me
  WHERE t.relowner <> me.oid AND NOT r.rolsuper`

// Vet looks at the journal's tables as the catalogue has them.
func (d *database) Vet(ctx context.Context, tables []*schema.Table) ([]string, error) {
	var writers []string
	for _, t := range tables {
		var refused error
		err := d.texts(ctx, 2, vetSQL, args(t.Schema, t.LocalName()), func(r []string) {
			switch kind, what := r[0], strings.Clone(r[1]); {
			case kind == "writer":
				if !slices.Contains(writers, what) {
					writers = append(writers, what)
				}
			case refused != nil:
			case kind == "kind":
				refused = setwise.Unvetted(t.Name, "is not an ordinary table", "inspect it, and drop it if nobody "+
					"needs it")
			case kind == "owner":
				refused = setwise.Unvetted(
					t.Name,
					"could be changed by another user at any time: "+what,
					fmt.Sprintf(
						"work as that role, or let a role that both are members of own it: ALTER TABLE %s OWNER TO "+
							"..., ALTER SCHEMA %s OWNER TO ...",
						d.Table(t),
						d.Quote(t.Schema),
					),
				)
			default:
				refused = setwise.Unvetted(
					t.Name,
					strings.TrimSpace("has a "+kind+" "+what)+", which this program did not create",
					"it would run with this user's rights: inspect it, and drop it",
				)
			}
		})
		if err := cmp.Or(err, refused); err != nil {
			return nil, err
		}
	}

	slices.Sort(writers)
	return writers, nil
}
