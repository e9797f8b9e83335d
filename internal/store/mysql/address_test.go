package mysql

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Random addresses of another database of a server lead to that database of that server, or
// are refused.
func TestAddressesOfOtherDatabases(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 17))
	one := func(list ...string) string { return list[random.IntN(len(list))] }
	const name = "evensprout_run_20260501080000_0123456789ab"
	read := 0
	for range 3000 {
		user := one(
			"",
			"me",
			"me:secret",
			"me:a%40b",
			"me:a@b",
			"me:a%2Fb%3Fc%23d",
			"%6De:%73",
			"me:",
			"é:日本",
			"me:a;b",
		)
		if user != "" {
			user += "@"
		}
		u := one(
			"mysql://",
			"mariadb://",
		) + user + one(
			"",
			"db.example.net",
			"db.example.net:3307",
			"127.0.0.1",
			"[::1]:3306",
			"[2001:db8::1]",
			"::1:3306",
			"a,b",
			"tcp(db.example.net)",
		) + one(
			"",
			"/",
			"/prod",
			"/pr%6Fd",
			"//prod",
			"/prod?x",
			"/prod%2Fx",
		)
		var query []string
		for _, q := range []string{"tls=" + one("true", "false", "skip-verify", "preferred", "x"), "socket=" +
			one("/run/db.sock", "db.sock"), "database=prod", "parseTime=true"} {
			if random.IntN(4) == 0 {
				query = append(query, q)
			}
		}
		if len(query) > 0 && !strings.Contains(u, "?") {
			u += "?" + strings.Join(query, "&")
		}
		a, err := parse(u)
		if err != nil {
			assert.NotContains(t, err.Error(), "secret")
			continue
		}
		read++
		text, err := a.named(name).URL()
		require.NoError(t, err, u)
		b, err := parse(text)
		require.NoError(t, err, "%s became %s", u, text)
		assert.Equal(t, name, b.config.DBName, "%s became %s", u, text)
		assert.Equal(t, a.place().Hosts, b.place().Hosts)
		assert.Equal(t, a.config.Addr, b.config.Addr)
		assert.Equal(t, a.config.User, b.config.User)
		assert.Equal(t, a.config.Passwd, b.config.Passwd)
		assert.Equal(t, a.config.TLSConfig, b.config.TLSConfig)
		if len(a.config.Passwd) > 1 {
			assert.NotContains(t, a.place().Shown, a.config.Passwd)
		}
	}
	assert.Greater(t, read, 300, "many of these are addresses")
}

func TestSecuredWays(t *testing.T) {
	for u, want := range map[string]string{
		"mysql://me:x@db.example.net/a": "skip-verify", "mysql://me@db.example.net/a": "preferred",
		"mysql://me:x@db.example.net/a?tls=false":     "false",
		"mysql://me:x@db.example.net/a?tls=preferred": "skip-verify", "mysql://me:x@db.example.net/a?tls=true": "true",
		"mysql://me:x@127.0.0.1/a": "", "mysql://me:x@/a?socket=/run/db.sock": "",
		"mysql://me:x@localhost/a?tls=true": "true",
	} {
		a, err := parse(u)
		require.NoError(t, err, u)
		assert.Equal(t, want, a.secured().TLSConfig, u)
	}
}
