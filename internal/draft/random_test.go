package draft_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"evensprout/internal/archive"
	"evensprout/internal/draft"
	"evensprout/internal/grow"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store/sqlite"
)

// Columns that tables get by chance, each with the conditions of the table that belong to it.
var randomColumns = [][2]string{
	{"n INTEGER NOT NULL"}, {"code VARCHAR(3) NOT NULL UNIQUE"}, {"label VARCHAR(40)"}, {"email TEXT NOT NULL"},
	{"status TEXT NOT NULL CHECK (status IN ('open', 'paid', 'shipped', 'cancelled'))"},
	{"created_at INTEGER NOT NULL"},
	{"begins DATE NOT NULL, ends DATE NOT NULL CHECK (ends > begins)"}, {"flag BOOLEAN NOT NULL"},
	{"level SMALLINT NOT NULL CHECK (level BETWEEN 1 AND 3)"}, {"tag TEXT CHECK (length(tag) % 2 = 0)"},
	{"low INTEGER, high INTEGER", "CHECK (low < high)"}, {"one INTEGER NOT NULL UNIQUE CHECK (one IN (1, 2, 3))"},
	{"total DECIMAL(10,2) NOT NULL"}, {"subtotal DECIMAL(10,2), tax DECIMAL(10,2)"}, {"item_count INTEGER NOT NULL"},
	{"quantity INTEGER NOT NULL CHECK (quantity > 0)"}, {"unit_price DECIMAL(8,2) NOT NULL"}, {"price DECIMAL(5,2)"},
	{"discount INTEGER CHECK (discount BETWEEN 0 AND 100)"}, {"amount DECIMAL(8,2) NOT NULL CHECK (amount >= 0)"},
	{"created TIMESTAMP NOT NULL, updated_at TIMESTAMP"}, {"paid_at TIMESTAMP"}, {"shipped_at TIMESTAMP"},
	{"deleted_at TIMESTAMP"},
	{"starts_at TIMESTAMP NOT NULL, ends_at TIMESTAMP NOT NULL", "CHECK (ends_at >= starts_at)"},
	{"first_name VARCHAR(30) NOT NULL, last_name VARCHAR(30) NOT NULL"}, {"name TEXT NOT NULL"}, {"slug TEXT UNIQUE"},
	{"city TEXT, postal_code VARCHAR(10), country_code CHAR(2)"}, {"latitude REAL, longitude REAL"},
	{"rating INTEGER NOT NULL", "CHECK (rating >= 1 AND rating <= 5)"}, {"currency CHAR(3) NOT NULL DEFAULT 'EUR'"},
	{"position INTEGER NOT NULL"}, {"is_active BOOLEAN NOT NULL DEFAULT TRUE"}, {"data JSON"},
	{"day DATE NOT NULL UNIQUE"},
	{"double_n INTEGER GENERATED ALWAYS AS (2 * 3) STORED"}, {"kind TEXT NOT NULL DEFAULT 'x'"},
	{"never INTEGER NOT NULL CHECK (never > 5 AND never < 3)"},
	{"odd TEXT NOT NULL CHECK (odd LIKE '%!' AND odd = 'a')"},
}

// Names of tables, some of which say what their rows are.
var randomTables = []string{"customers", "orders", "order_items", "products", "invoices", "payments", "users",
	"categories", "comments", "shipments", "appointments", "tenants", "t1", "t2", "t3", "t4", "tags", "countries",
	"employees", "reviews"}

// randomSchema makes tables that refer to each other, in circles too, with keys of all kinds.
func randomSchema(r *rand.Rand) string {
	chance := func(percent int) bool { return r.IntN(100) < percent }
	var names []string
	for _, i := range r.Perm(len(randomTables))[:2+r.IntN(7)] {
		names = append(names, randomTables[i])
	}
	const number, text = "id INTEGER PRIMARY KEY", "id VARCHAR(8) PRIMARY KEY"
	keys := make([]string, len(names)) // empty: none
	for i := range keys {
		keys[i] = []string{number, number, number, text, ""}[r.IntN(5)]
	}
	var script strings.Builder
	for i, name := range names {
		var parts, conditions, refs []string
		taken := map[string]bool{}
		if keys[i] != "" {
			parts = append(parts, keys[i])
		}
		for range r.IntN(4) {
			to := r.IntN(len(names))
			if keys[to] == "" {
				continue
			}
			column := strings.TrimSuffix(names[to], "s") + "_id"
			if to == i {
				column = "parent_id"
			}
			if taken[column] {
				column = "other_" + column
			}
			if taken[column] {
				continue
			}
			taken[column] = true
			words := column + " " + strings.Fields(keys[to])[1]
			if chance(55) && to != i {
				words += " NOT NULL"
			}
			if chance(12) {
				words += " UNIQUE"
			}
			if parts = append(parts, words); chance(10) {
				continue // maybe a guess: no constraint says so
			}
			words = fmt.Sprintf("FOREIGN KEY (%s) REFERENCES %s (id)", column, names[to])
			if chance(40) {
				words += " ON DELETE CASCADE"
			}
			conditions, refs = append(conditions, words), append(refs, column)
		}
		for _, c := range r.Perm(len(randomColumns))[:1+r.IntN(6)] {
			if c >= len(randomColumns)-2 && !chance(30) {
				continue
			}
			if parts = append(parts, randomColumns[c][0]); randomColumns[c][1] != "" {
				conditions = append(conditions, randomColumns[c][1])
			}
		}
		if len(refs) > 1 && chance(50) {
			kind := "UNIQUE"
			if keys[i] == "" {
				kind = "PRIMARY KEY"
			}
			conditions = append(conditions, fmt.Sprintf("%s (%s)", kind, strings.Join(refs[:2], ", ")))
		}
		parts = append(parts, "x TEXT") // a table has one column that is not computed
		fmt.Fprintf(&script, "CREATE TABLE %s (%s);\n", name, strings.Join(append(parts, conditions...), ", "))
	}
	return script.String()
}

// Whatever the tables are, the draft is a plan that loads as it is.
func TestDraftsOfRandomTablesLoad(t *testing.T) {
	rounds := 60
	if os.Getenv("EVENSPROUT_FAULTS") != "" {
		rounds = 3000
	}
	filled, left := 0, 0
	for seed := range rounds {
		script := randomSchema(rand.New(rand.NewPCG(uint64(seed), 25)))
		func() {
			defer func() {
				if r := recover(); r != nil {
					t.Errorf("seed %d: %v\n%s", seed, r, script)
				}
			}()
			f, l := loadDraft(t, seed, script)
			filled, left = filled+f, left+l
		}()
	}
	t.Logf("%d tables filled, %d left out", filled, left)
	require.Greater(t, filled, left)
}

func loadDraft(t *testing.T, seed int, script string) (filled, left int) {
	path := filepath.Join(t.TempDir(), fmt.Sprintf("%d.db", seed))
	require.NoError(t, sqlite.Create(path, script), script)
	defer os.Remove(path)
	s, err := sqlite.Driver{}.Open(t.Context(), "sqlite:"+path)
	require.NoError(t, err)
	defer s.Close()
	db, err := s.Survey(t.Context())
	require.NoError(t, err)
	o := draft.Options{Name: "random", Size: 10, Loosens: s.Traits().DefersAll || s.Traits().Loosens}
	d, err := draft.Make(t.Context(), db, o)
	require.NoError(t, err, script)
	if len(d.Tables) == 0 {
		return 0, len(d.Left)
	}
	text := d.Write(o)
	p, err := plan.Read("draft.yaml", []byte(text))
	if err != nil {
		t.Errorf("seed %d: %v\n%s\n%s", seed, err, script, text)
		return
	}
	c, err := p.Compile(plan.Options{Database: db, Existing: func(of *schema.Table) (grow.Table, error) {
		return archive.Existing(t.Context(), s, of)
	}})
	if err != nil {
		t.Errorf("seed %d: %v\n%s\n%s", seed, err, script, text)
		return
	}
	if _, err := load.Run(t.Context(), c, s, load.Options{}); err != nil {
		t.Errorf("seed %d: %v\n%s\n%s", seed, err, script, text)
	}
	return len(d.Tables), len(d.Left)
}
