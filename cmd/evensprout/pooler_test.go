package main

import (
	"net/url"
	"path"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/store/storetest"
)

// A pooler that runs each transaction in another session is refused at once, whatever the command, and leaves the
// sessions of the server as they are. One that keeps a session is like the server.
func TestPoolers(t *testing.T) {
	s, server := ownServer(t, engines()[1], harbourPlan(50, 20))
	u, err := url.Parse(s.url)
	require.NoError(t, err)
	database := path.Base(u.Path)
	direct := s.rows(t)
	settings := func(url string) []string {
		conn, err := pgconn.Connect(t.Context(), url)
		require.NoError(t, err)
		defer conn.Close(t.Context())
		r, err := conn.Exec(t.Context(), "SELECT string_agg(name || '=' || setting, E'\\n' ORDER BY name) "+
			"FROM pg_settings "+
			"WHERE name NOT IN ('application_name', 'client_encoding', 'DateStyle', 'TimeZone', "+
			"'standard_conforming_strings') AND name NOT LIKE 'plpgsql%'").ReadAll()
		require.NoError(t, err)
		return strings.Split(string(r[0].Rows[0][0]), "\n")
	}
	for _, mode := range []string{"transaction", "statement"} {
		pooled := storetest.Pooler(t, server, database, mode)
		before := settings(pooled)
		for _, command := range [][]string{{"load"}, {"check"}, {"survey"}, {"look"}, {"withdraw"}, {"compare"}} {
			r := s.run(append(command, "--db", pooled)...)
			assert.Equal(t, 2, r.code, "%s: %s", command, r.errOut)
			assert.Contains(t, r.errOut, "may run each transaction in another session of the server", command)
			assert.Contains(t, r.errOut, "pool_mode = session", command)
		}
		assert.Equal(t, before, settings(pooled), mode)
		assert.Empty(t, difference(direct, s.rows(t)))
	}

	// the hint
	pooled := storetest.Pooler(t, server, database, "session")
	before := settings(pooled)
	for _, command := range [][]string{
		{"load"}, {"compare"}, {"withdraw"}, {"load", "--commit", "chunk", "--jobs", "2"},
	} {
		r := s.run(append(command, "--db", pooled)...)
		assert.Zero(t, r.code, "%s: %s", command, r.errOut)
	}
	assert.Equal(t, before, settings(pooled), "the pooler resets its sessions")
	assert.NotEmpty(t, difference(direct, s.rows(t)))
	require.Zero(t, s.run("withdraw", "--db", pooled).code)

	// there is no second session to compare with
	pooled = storetest.Pooler(t, server, database, "session", "default_pool_size = 1")
	r := s.run("load", "--commit", "load", "--db", pooled)
	assert.Zero(t, r.code, r.errOut)
	require.Zero(t, s.run("withdraw", "--db", pooled).code)

	// fewer sessions than connections that a load asks for: it goes on with those that it gets
	pooled = storetest.Pooler(t, server, database, "session", "default_pool_size = 1")
	began := time.Now()
	r = s.run("load", "--commit", "chunk", "--chunk", "10", "--jobs", "3", "--db", pooled)
	assert.Zero(t, r.code, r.errOut)
	assert.Less(t, time.Since(began), time.Minute, "it does not wait for the pooler to give up")
}
