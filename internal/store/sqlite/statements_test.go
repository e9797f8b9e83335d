package sqlite

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"zombiezen.com/go/sqlite"
)

// Few statements stay prepared, and one that is in use stays whatever follows it.
func TestFewStatementsStayPrepared(t *testing.T) {
	conn, err := sqlite.OpenConn(":memory:")
	require.NoError(t, err)
	d := &database{conn: conn, path: ":memory:"}
	defer d.Close()
	require.NoError(t, d.exec("CREATE TABLE piers (id INTEGER PRIMARY KEY)"))
	require.NoError(t, d.exec("INSERT INTO piers VALUES (1), (2), (3)"))
	var read []int64
	require.NoError(t, d.rows("SELECT id FROM piers ORDER BY id", nil, func(outer *sqlite.Stmt) error {
		read = append(read, outer.ColumnInt64(0))
		for n := range maxPrepared {
			sql := fmt.Sprintf("SELECT %d + %d", n, len(read)*1000)
			if err := d.rows(sql, nil, func(*sqlite.Stmt) error { return nil }); err != nil {
				return err
			}
		}
		return nil
	}))
	assert.Equal(t, []int64{1, 2, 3}, read)
	assert.Len(t, d.statements.oldest, maxPrepared)
	assert.Len(t, d.statements.users, maxPrepared)
}
