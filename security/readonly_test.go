//go:build unix

package security_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/store/mysql"
	"evensprout/internal/store/storetest"
)

// Whoever made sessions read-only by default means it: no command overrides that, and reading goes on.
func TestReadOnlyDefaultsAreRespected(t *testing.T) {
	commands := [][]string{
		{"load", "--anew"},
		{"load", "--restore"},
		{"load", "--dry-run", "--anew"},
		{"load", "--rows", "Port=9"},
		{"load", "--no-journal"},
		{"withdraw"},
		{"add", "Port"},
		{"during", "--shared", "--", "true"},
	}
	refused := func(t *testing.T, b *box, url, way string) {
		before := b.dump()
		for _, args := range commands {
			at := len(args)
			if i := strings.Index(strings.Join(args, " "), " --"); i >= 0 && args[0] == "during" {
				at = 2
			}
			if args[0] == "withdraw" { // an entry of the journal goes as little as rows do
				r := b.run("history", "--forget", fmt.Sprint(b.lastLoad()), "--db", url)
				assert.Contains(t, r.err, "nothing is written here")
			}
			r := b.run(append(append(append([]string{}, args[:at]...), "--db", url), args[at:]...)...)
			assert.NotZero(t, r.code, "%v: %s", args, r.all())
			assert.Contains(t, r.err, "nothing is written here", "%v", args)
			assert.Contains(t, r.err, way, "%v", args)
		}
		require.Equal(t, before, b.dump())
		for _, args := range [][]string{{"compare"}, {"look", "ports"}, {"check"}, {"history"}, {"survey", "--out", "draft.yaml"}} {
			r := b.run(append(args, "--db", url)...)
			assert.Zero(t, r.code, "%v: %s", args, r.all())
		}
	}
	t.Run("postgres, URL", func(t *testing.T) {
		t.Parallel()
		b := onPostgres(t, "")
		b.seeded()
		refused(t, b, b.url+"?default_transaction_read_only=on", "remove it there")
	})
	t.Run("postgres, database", func(t *testing.T) {
		t.Parallel()
		b := onPostgres(t, "")
		b.seeded()
		psql(t, b.url, "ALTER DATABASE "+databaseOf(b.url)+" SET default_transaction_read_only = on")
		refused(t, b, b.url, "RESET default_transaction_read_only")
		psql(t, b.url, `BEGIN READ WRITE; ALTER DATABASE "`+databaseOf(b.url)+`" RESET default_transaction_read_only; COMMIT`)
		require.Zero(t, b.on("withdraw").code, "the hint works")
	})
	t.Run("mariadb, server", func(t *testing.T) {
		t.Parallel()
		server, err := storetest.StartMariaDB()
		require.NoError(t, err)
		t.Cleanup(server.Remove)
		b := boxFor(t, engine{"mariadb", mysql.Driver{}, engines[2].key, func(testing.TB) *storetest.Server { return server }}, "")
		b.seeded()
		b.exec("SET GLOBAL tx_read_only = ON")
		refused(t, b, b.url, "SET GLOBAL tx_read_only = OFF")
		b.exec("SET GLOBAL tx_read_only = OFF")
		require.Zero(t, b.on("withdraw").code, "the hint works")
	})
}
