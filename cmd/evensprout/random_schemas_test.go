package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// schemaMaker makes tables as people make them: names of many meanings, with types that fit them mostly, keys,
// conditions, defaults and references.
type schemaMaker struct {
	*rand.Rand
	tables []string
}

var tableNames = strings.Fields("" +
	"customers orders order_items products payments users employees kunden rechnungen livres articulos " +
	"patients tickets posts comments events devices vehicles bank_accounts invoices suppliers reviews " +
	"shipments courses lessons rooms bookings messages files categories tags roles cities countries " +
	"projects tasks")

var columnNames = strings.Fields("" +
	"name title first_name last_name email phone address line1 city zip country status type kind notes " +
	"description body slug url image_url ip_address user_agent sku ean iban bic vat_no currency price " +
	"amount total subtotal tax_amount discount quantity stock rating position age year month weekday " +
	"percent weight_kg width height latitude longitude is_active is_deleted verified created_at " +
	"updated_at deleted_at ordered_at paid_at shipped_at delivered_at cancelled_at start_time end_time " +
	"starts_on ends_on birth_date due_date opened_at closed_at vorname nachname strasse plz ort betrag " +
	"menge apellidos correo prix titre code reference token password_hash serial_no color size language " +
	"timezone gender level priority score duration_ms view_count comments_count item_count unit_price " +
	"line_total line_no tax_rate salary balance battery_level temperature foo bar x1 data value flag " +
	"count_a")

func (m *schemaMaker) oneOf(list ...string) string { return list[m.IntN(len(list))] }

// typeOf is a type for a column: mostly one that people give to such a name.
func (m *schemaMaker) typeOf(name string) string {
	text := fmt.Sprintf("VARCHAR(%s)", m.oneOf("2", "5", "10", "20", "40", "80", "120", "255"))
	decimal := m.oneOf("DECIMAL(10,2)", "DECIMAL(8,2)", "DECIMAL(5,2)", "DECIMAL(12,4)", "DECIMAL(4,1)")
	whole := m.oneOf("INTEGER", "SMALLINT", "BIGINT")
	has := func(parts string) bool {
		for _, p := range strings.Fields(parts) {
			if strings.Contains(name, p) {
				return true
			}
		}
		return false
	}
	switch {
	case m.IntN(12) == 0:
		return m.oneOf(text, decimal, whole, "DATE", "TIMESTAMP", "BOOLEAN")
	case has("_at time"):
		return "TIMESTAMP"
	case has("_on date"):
		return "DATE"
	case has("is_ verified flag"):
		return "BOOLEAN"
	case has("price amount total discount tax betrag prix weight latitude longitude salary balance temperature"):
		return decimal
	case has("quantity stock rating position age year month weekday width height level score duration count menge"):
		return whole
	case has("description body notes"):
		return m.oneOf("TEXT", text)
	}
	return text
}

// conditionOn is a condition on a column; empty for none.
func (m *schemaMaker) conditionOn(name, typ string) string {
	if m.IntN(4) > 0 {
		return ""
	}
	switch {
	case strings.HasPrefix(typ, "VARCHAR"):
		if strings.HasPrefix(typ, "VARCHAR(2)") {
			return ""
		}
		return m.oneOf(name+" IN ('a', 'b', 'c')", "length("+name+") > 0", name+" <> ''")
	case strings.HasPrefix(typ, "DECIMAL"), typ == "INTEGER", typ == "SMALLINT", typ == "BIGINT":
		return m.oneOf(name+" >= 0", name+" > 0", name+" BETWEEN 1 AND 5", name+" <= 90", name+" IN (1, 2, 3)")
	}
	return ""
}

// table makes a table that may refer to earlier ones.
func (m *schemaMaker) table(name string) string {
	lines := []string{"id {key}"}
	used := map[string]bool{"id": true}
	for _, to := range m.tables {
		if m.IntN(4) > 0 {
			continue
		}
		column := strings.TrimSuffix(to, "s") + "_id"
		null := m.oneOf(" NOT NULL", " NOT NULL", "")
		cascade := m.oneOf("", " ON DELETE CASCADE")
		lines = append(lines, fmt.Sprintf("%s INTEGER%s REFERENCES %s (id)%s", column, null, to, cascade))
		used[column] = true
	}
	var plain, moments []string
	for range 3 + m.IntN(9) {
		column := m.oneOf(columnNames...)
		if used[column] {
			continue
		}
		used[column] = true
		typ := m.typeOf(column)
		line := column + " " + typ
		notNull := m.IntN(10) < 6
		if notNull {
			line += " NOT NULL"
		}
		switch {
		case typ == "BOOLEAN" && m.IntN(2) == 0:
			line += " DEFAULT " + m.oneOf("TRUE", "FALSE")
		case strings.HasPrefix(typ, "VARCHAR") && m.IntN(12) == 0:
			line += " UNIQUE"
		}
		if c := m.conditionOn(column, typ); c != "" {
			line += " CHECK (" + c + ")"
		}
		lines = append(lines, line)
		if notNull && typ == "TIMESTAMP" {
			moments = append(moments, column)
		}
		if notNull && typ != "TEXT" {
			plain = append(plain, column)
		}
	}
	if len(moments) > 1 && m.IntN(3) == 0 {
		lines = append(lines, fmt.Sprintf("CHECK (%s >= %s)", moments[1], moments[0]))
	}
	if len(plain) > 1 && m.IntN(5) == 0 {
		lines = append(lines, fmt.Sprintf("UNIQUE (%s, %s)", plain[0], plain[1]))
	}
	m.tables = append(m.tables, name)
	return fmt.Sprintf("CREATE TABLE %s (\n  %s\n);\n", name, strings.Join(lines, ",\n  "))
}

// schema makes some tables.
func (m *schemaMaker) schema() string {
	var b strings.Builder
	names := append([]string(nil), tableNames...)
	m.Shuffle(len(names), func(i, j int) { names[i], names[j] = names[j], names[i] })
	for _, name := range names[:2+m.IntN(7)] {
		b.WriteString(m.table(name))
	}
	return b.String()
}

// Drafts for random tables load as they are, and the rows are those of the plan. EVENSPROUT_SCHEMAS says how many for
// each engine; the usual number is small.
func TestDraftsOfRandomSchemas(t *testing.T) {
	many, err := strconv.Atoi(os.Getenv("EVENSPROUT_SCHEMAS"))
	if err != nil {
		many = 12
	}
	for _, e := range engines() {
		t.Run(e.name, func(t *testing.T) {
			f, left := newFolder(t), 0
			for seed := range many {
				m := &schemaMaker{Rand: rand.New(rand.NewPCG(uint64(seed), 22))}
				draft := fmt.Sprintf("draft%d.yaml", seed)
				s := &site{folder: f, engine: e, script: m.schema()}
				s.url = s.database(t)
				if seed%2 == 0 { // a draft loads without having been tried, too
					untried := fmt.Sprintf("untried%d.yaml", seed)
					r := s.on("survey", "--out", untried)
					require.Zero(t, r.code, "seed %d: %s\n%s", seed, r.errOut, s.script)
					r = s.on("load", untried, "--dry-run")
					assert.Zero(t, r.code, "seed %d: %s\n%s", seed, r.errOut, s.script)
				}
				r := s.on("survey", "--out", draft, "--prove")
				require.Zero(t, r.code, "seed %d: %s\n%s", seed, r.errOut, s.script)
				r = s.on("load", draft)
				if !assert.Zero(t, r.code, "seed %d: %s\n%s", seed, r.errOut, s.script) {
					continue
				}
				r = s.on("compare", draft)
				assert.Zero(t, r.code, "seed %d: %s\n%s", seed, r.out, s.script)
				left += strings.Count(f.read(draft), "# left out")
			}
			t.Logf("%d schemas, %d tables left out", many, left)
		})
	}
}
