//go:build unix

package security_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Of long cells the database sends no more than is shown.
func TestLongCellsAreNotSent(t *testing.T) {
	bytes := map[string]string{"sqlite": "zeroblob(60000000)", "postgres": "convert_to(repeat('x', 60000000), 'UTF8')", "mariadb": "REPEAT('x', 8000000)"}
	kind := map[string]string{"sqlite": "BLOB", "postgres": "BYTEA", "mariadb": "LONGBLOB"}
	on(t, "", func(t *testing.T, b *box) {
		b.exec("CREATE TABLE heavy (id INTEGER PRIMARY KEY, b "+kind[b.name]+", x TEXT)",
			"INSERT INTO heavy VALUES (1, "+bytes[b.name]+", 'text')", "INSERT INTO heavy VALUES (2, NULL, '"+strings.Repeat("é", 20_000)+"')")
		for _, args := range [][]string{{"look", "heavy"}, {"look", "heavy", "--where", "id = 1"}, {"look", "heavy", "--counts"}, {"look", "heavy", "1"}} {
			r := b.on(args...)
			require.Zero(t, r.code, r.all())
			most := map[bool]int64{true: 64 << 20, false: 128 << 20}[b.name != "sqlite"] // its engine reads the cell into our memory, once
			assert.Less(t, r.peak, most, "%v", args)
			assert.Less(t, len(r.out), 50_000, "%v", args)
		}
	})
}
