package postgres

import (
	"math/rand/v2"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/store"
)

// Random addresses of another database of a server lead to that database of that server, or
// are refused.
func TestAddressesOfOtherDatabases(t *testing.T) {
	for _, name := range []string{"PGHOST", "PGPORT", "PGDATABASE", "PGUSER", "PGPASSWORD", "PGSERVICE", "PGSSLMODE",
		"PGOPTIONS"} {
		t.Setenv(name, "")
	}
	random := rand.New(rand.NewPCG(3, 17))
	one := func(list ...string) string { return list[random.IntN(len(list))] }
	some := func(list ...string) string {
		var out []string
		for _, x := range list {
			if random.IntN(3) == 0 {
				out = append(out, x)
			}
		}
		if len(out) == 0 {
			return ""
		}
		return "?" + strings.Join(out, "&")
	}
	const name = "evensprout_run_20260501080000_0123456789ab"
	read, refused := 0, 0
	for range 5000 {
		user := one(
			"",
			"me",
			"me:secret",
			"me:a%40b",
			"me:a#b",
			"me:a%2Fb%3Fc",
			"%6De:%73",
			"me:",
			"é:日本",
			"me:a;b",
			"me:a b",
		)
		if user != "" {
			user += "@"
		}
		host := one(
			"",
			"db.example.net",
			"db.example.net:5433",
			"127.0.0.1",
			"[::1]:5432",
			"[2001:db8::1]",
			"a.example.net,b.example.net",
			"a.example.net:1,b.example.net:2",
			"%2Frun%2Fpg",
			"%2Frun%2Fpg:5433",
			"a.example.net,%2Frun%2Fpg",
		)
		u := one("postgres://", "postgresql://") + user + host + one("", "/", "/prod", "/pr%6Fd", "/prod%2Fx", "/a b") +
			some(
				"dbname="+one("prod", "p%20d"),
				"database=prod",
				"host="+one("/run/pg", "c.example.net", "c.example.net,d.example.net"),
				"port="+one("5432", "1,2"),
				"user=you",
				"password="+one("x", "a%26b"),
				"sslmode="+one(
					"disable",
					"allow",
					"prefer",
					"require",
					"verify-full",
				),
				"application_name=prod",
				"search_path=prod",
				"options="+url.QueryEscape("-c dbname=prod"),
				"target_session_attrs="+one("any", "read-write", "primary"),
				"connect_timeout=3",
				"channel_binding="+one("prefer", "require"),
				"sslsni="+one("0", "1"),
				"sslnegotiation=direct",
				"hostaddr=203.0.113.1",
				"require_auth=scram-sha-256",
			)
		a, err := parse(u)
		if err != nil {
			assert.NotContains(t, err.Error(), "secret")
			continue
		}
		read++
		text, err := a.named(name).URL()
		if err != nil {
			refused++
			var fault *store.Fault
			require.ErrorAs(t, err, &fault, u)
			continue
		}
		b, err := parse(text)
		require.NoError(t, err, "%s became %s", u, text)
		assert.Equal(t, name, b.config.Database, "%s became %s", u, text)
		assert.Equal(t, a.place().Hosts, b.place().Hosts, "%s became %s", u, text)
		assert.Equal(t, a.config.User, b.config.User)
		assert.Equal(t, a.config.Password, b.config.Password)
		again := a.named(name).config
		assert.True(t, same(again, b.config), "%s became %s", u, text)
		assert.NotEqual(t, "prod", b.config.Database)
		if a.config.Password != "" && len(a.config.Password) > 1 {
			assert.NotContains(t, a.place().Shown, url.QueryEscape(a.config.Password))
		}
		for _, v := range (Driver{}).Variables(text) {
			if v.Name == "PGDATABASE" || v.Name == "DB_NAME" {
				assert.Equal(t, name, v.Value)
			}
		}
	}
	assert.Greater(t, read, 2000, "most of these are addresses")
	assert.Less(t, refused, read/10)
}

// Of a server that is not this machine, no way without encryption is left for a password.
func TestSecuredWays(t *testing.T) {
	t.Setenv("PGSSLMODE", "")
	for u, plain := range map[string]int{
		"postgres://me:x@db.example.net/a": 0, "postgres://me@db.example.net/a": 1,
		"postgres://me:x@db.example.net/a?sslmode=disable": 1, "postgres://me:x@db.example.net/a?sslmode=allow": 0,
		"postgres://me:x@127.0.0.1/a": 1, "postgres://me:x@localhost/a?sslmode=require": 0,
		"postgres://me:x@/a?host=/run/pg": 1, "postgres://me:x@a.example.net,127.0.0.1/a": 1,
		"postgres://me:x@127.0.0.1,a.example.net/a": 1,
	} {
		a, err := parse(u)
		require.NoError(t, err, u)
		n := 0
		for _, s := range servers(a.secured()) {
			for _, w := range s.ways {
				if w == nil {
					n++
				}
			}
		}
		assert.Equal(t, plain, n, u)
	}
}
