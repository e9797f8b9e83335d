package postgres

import (
	"fmt"
	"regexp"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store/setwise"
)

// partitionOf joins the conditions of partitions. Partitions by hash take every row, as
// long as none of them is missing.
func partitionOf(leaves string) string {
	if leaves == "" || strings.Contains(leaves, "satisfies_hash_partition") {
		return ""
	}
	parts := strings.Split(leaves, "\x1f")
	for _, p := range parts {
		if p == "true" {
			return ""
		}
	}
	return strings.Join(parts, " OR ")
}

// typesSQL lists types with what they are made of: elements of arrays, subtypes of
// ranges, labels of enumerations, columns of composite types.
const typesSQL = `
SELECT t.oid, t.typname, t.typtype, CASE WHEN t.typcategory = 'A' THEN t.typelem ELSE 0 END, t.typbasetype, t.typtypmod,
  coalesce((SELECT string_agg(e.enumlabel, chr(31) ORDER BY e.enumsortorder) FROM pg_enum e
    WHERE e.enumtypid = t.oid), ''),
  coalesce((SELECT string_agg(a.atttypid || ' ' || a.atttypmod, chr(31) ORDER BY a.attnum) FROM pg_attribute a
    WHERE a.attrelid = t.typrelid AND a.attnum > 0 AND NOT a.attisdropped), '')
FROM pg_type t LEFT JOIN pg_class c ON c.oid = t.typrelid
WHERE t.typtype <> 'p' AND (t.typrelid = 0 OR c.relkind = 'c' OR EXISTS (SELECT 1 FROM pg_attribute a
  WHERE a.atttypid = t.oid))`

// catalogue is the types of a database by their number.
type catalogue map[string]typeEntry

type typeEntry struct {
	name, class, element, base, baseMod string
	labels, parts                       []string
}

func (c catalogue) read(each func(sql string, width int, show func(*schema.Table, []string)) error) error {
	return each(typesSQL, 8, func(_ *schema.Table, r []string) {
		t := typeEntry{name: r[1], class: r[2], element: r[3], base: r[4], baseMod: r[5]}
		if r[6] != "" {
			t.labels = strings.Split(r[6], "\x1f")
		}
		if r[7] != "" {
			t.parts = strings.Split(r[7], "\x1f")
		}
		c[r[0]] = t
	})
}

// forms are patterns of texts that types take, written as the server writes them.
var forms = map[string]string{
	"inet":    `(192\.0\.2|198\.51\.100|203\.0\.113)\.([1-9]|[1-9][0-9]|1[0-9][0-9])`,
	"cidr":    `(192\.0\.2|198\.51\.100|203\.0\.113)\.([1-9]|[1-9][0-9]|1[0-9][0-9])/32`,
	"macaddr": `00:00:5e:00:53:[0-9a-f]{2}`, "macaddr8": `02:00:5e:10:00:00:00:[0-9a-f]{2}`,
	"money": `[1-9][0-9]{0,2}\.[0-9]{2}`, "interval": `([2-9]|[12][0-9]) days`,
	"timetz": `(0[6-9]|1[0-9]):[0-5][0-9]:00\+00`,
	"xml":    `<note>[a-z]{3,9}</note>`, "tsvector": `'[a-z]{3,8}'`, "tsquery": `'[a-z]{3,8}'`,
	"point": `\([1-9][0-9]?,[1-9][0-9]?\)`, "line": `\{[1-9],[1-9],[1-9]\}`,
	"lseg": `\[\([1-9],[1-9]\),\([1-9],[1-9]\)\]`,
	"box":  `\([5-9],[5-9]\),\([1-4],[1-4]\)`, "path": `\(\([1-9],[1-9]\),\([1-9],[1-9]\)\)`,
	"polygon": `\(\([1-9],[1-9]\),\([1-9],[1-9]\),\([1-9],[1-9]\)\)`, "circle": `<\([1-9],[1-9]\),[1-9]>`,
	"char": `[A-Z]`, "oid": `[1-9][0-9]{3,5}`, "xid": `[1-9][0-9]{2,5}`, "pg_lsn": `[1-9A-F]{1,4}/[1-9A-F]{4,8}`,
	"jsonpath": `\$\."[a-z]{3,8}"`,
	"hstore":   `"[a-z]{3,6}"=>"[a-z]{3,8}"`, "ltree": `[a-z]{3,6}(\.[a-z]{3,6}){0,2}`, "cube": `\([1-9], [1-9]\)`,
	"geometry": `POINT\([1-9] ` +
		`[1-9]\)`, "geography": `POINT\([1-9] [1-9]\)`,
	"txid_snapshot": `[1-9]:[1-9]{2}:`, "pg_snapshot": `[1-9]:[1-9]{2}:`,
	"int4range": `\[[1-9],[1-9][0-9]\)`, "int8range": `\[[1-9],[1-9][0-9]\)`, "numrange": `\[[1-9],[1-9][0-9]\)`,
	"daterange": `\[2026-0[1-9]-[01][1-9],2027-0[1-9]-[01][1-9]\)`,
	"tsrange":   `\["2026-0[1-9]-[01][1-9] 08:00:00","2027-0[1-9]-[01][1-9] 08:00:00"\)`,
	"tstzrange": `\["2026-0[1-9]-[01][1-9] ` +
		`08:00:00\+00","2027-0[1-9]-[01][1-9] 08:00:00\+00"\)`,
	// Parts of others:
	"int2": `[1-9][0-9]?`, "int4": `[1-9][0-9]?`, "int8": `[1-9][0-9]?`, "numeric": `[1-9]`, "float4": `[1-9]`,
	"float8": `[1-9]`, "bool": `[tf]`, "text": `[a-z]{3,8}`, "citext": `[a-z]{3,8}`, "name": `[a-z]{3,8}`,
	"date": `2026-0[1-9]-[01][1-9]`, "timestamp": `"2026-0[1-9]-[01][1-9] 08:00:00"`,
	"timestamptz": `"2026-0[1-9]-[01][1-9] ` +
		`08:00:00\+00"`, "time": `(0[6-9]|1[0-9]):[0-5][0-9]:00`,
	"uuid": `[0-9a-f]{8}-[0-9a-f]{4}-4[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}`,
}

// form is a pattern of texts that a type takes; empty if none is known.
func (c catalogue) form(oid string, typmod int) string {
	t, ok := c[oid]
	if !ok {
		return ""
	}
	switch {
	case t.class == "d":
		mod := -1
		fmt.Sscan(t.baseMod, &mod)
		return c.form(t.base, mod)
	case t.class == "e":
		return setwise.AnyOf(t.labels)
	case t.element != "0":
		if e := c.part(t.element, typmod); e != "" {
			return `\{` + e + "(," + e + `){0,2}\}`
		}
		return `\{\}`
	case t.class == "m":
		if f := forms[strings.Replace(t.name, "multirange", "range", 1)]; f != "" {
			return `\{` + f + `\}`
		}
		return `\{\}`
	case t.class == "c":
		var parts []string
		for _, p := range t.parts {
			var of string
			mod := -1
			fmt.Sscan(p, &of, &mod)
			parts = append(parts, c.part(of, mod)) // nothing is NULL
		}
		return `\(` + strings.Join(parts, ",") + `\)`
	case t.name == "bit":
		return fmt.Sprintf("[01]{%d}", max(typmod, 1))
	case t.name == "varbit":
		return fmt.Sprintf("[01]{1,%d}", max(min(typmod, 32), 1))
	case t.name == "varchar" || t.name == "bpchar":
		const header = 4
		if n := typmod - header; n > 0 && n < 8 {
			return fmt.Sprintf("[a-z]{%d}", n)
		}
		return `[a-z]{3,8}`
	}

	if f := forms[t.name]; f != "" {
		return f
	}
	if t.class == "r" {
		return "empty"
	}
	return ""
}

// part is the form of a type inside an array or a composite; empty if it would need
// quotes there.
func (c catalogue) part(oid string, typmod int) string {
	t := c[oid]
	switch {
	case t.class == "e":
		var labels []string
		for _, l := range t.labels {
			if strings.ContainsAny(l, `"\`) {
				return ""
			}
			labels = append(labels, `"`+regexp.QuoteMeta(l)+`"`)
		}
		return "(" + strings.Join(labels, "|") + ")"
	case t.class == "d":
		return c.part(t.base, typmod)
	case t.class == "b" && t.element == "0" && strings.Contains(" int2 int4 int8 numeric float4 float8 bool text "+
		"citext name varchar bpchar date timestamp timestamptz time uuid inet macaddr ltree interval ", " "+t.name+" "):
		return c.form(oid, typmod)
	}
	return ""
}
