package main

import (
	"fmt"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/store/storetest"
)

// A server that is too old, or another product, is refused in one line; one that is newer than those of the tests is
// used, and load says so.
func TestVersionsOfServers(t *testing.T) {
	cases := map[string][]struct{ says, message, hint, note string }{
		"postgres": {
			{"PostgreSQL 11", `the server at 127\.0\.0\.1:[0-9]+ \(database \w+\) is PostgreSQL 11, which is too old`,
				"use PostgreSQL 12 or newer", ""},
			{"HarbourSQL 15", `is not supported: it calls itself "HarbourSQL 15[^"]*"`,
				"use PostgreSQL, MariaDB, MySQL or a SQLite file", ""},
			{"PostgreSQL 99", "", "", "the server is PostgreSQL 99, which is newer than what this program was tested " +
				"with (versions 12 to 18)"},
		},
		"mariadb": {
			{"10.04", `is MariaDB 10\.4, which is too old`, "use MariaDB 10.5 or newer", ""},
			{"quite", `is not supported: it calls itself "quite\.[0-9]+-MariaDB`,
				"use PostgreSQL, MariaDB, MySQL or a SQLite file", ""},
			{"12.11", "", "", "the server is MariaDB 12.11, which is newer than what this program was tested " +
				"with (version 10.11)"},
		},
	}
	onEngines(t, harbourPlan(20, 10), func(t *testing.T, s *site) {
		if s.start == nil {
			t.Skip("files have no servers")
		}
		server := s.start(t)
		direct := s.url
		for _, c := range cases[s.name] {
			really := "10.11"
			if s.name == "postgres" {
				really = "PostgreSQL " + server.Ask(t, "postgres", "SHOW server_version_num")[:2]
			}
			port := storetest.Rewriting(t, server.Port, really, c.says)
			s.url = strings.Replace(direct, ":"+strconv.Itoa(server.Port), fmt.Sprintf(":%d", port), 1)
			require.NotEqual(t, direct, s.url)
			r := s.on("load")
			if c.message == "" {
				require.Zero(t, r.code, r.errOut)
				assert.Contains(t, r.errOut, "note: "+c.note)
				continue
			}
			assert.Equal(t, 4, r.code, r.errOut)
			assert.Regexp(t, c.message, r.errOut)
			assert.Contains(t, r.errOut, c.hint)
			assert.Equal(t, 2, strings.Count(r.errOut, "\n"), r.errOut)
		}
	})
}
