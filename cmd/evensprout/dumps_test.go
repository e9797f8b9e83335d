package main

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What an engine's own program for dumps writes is a schema, rows and all; one that leads to another database is
// refused before anything is done.
func TestDumpsAreSchemas(t *testing.T) {
	onTables(t, memberTables, memberPlan, func(t *testing.T, s *site) {
		s.exec(t, "INSERT INTO ports (code) VALUES ('X'), (';')")
		before := s.rows(t)
		name := s.databaseName()
		var dump, other []string
		switch {
		case strings.HasPrefix(s.url, "postgres"):
			dump, other = []string{"pg_dump", "-d", s.url}, []string{"pg_dump", "--create", "-d", s.url}
		case strings.HasPrefix(s.url, "mysql"):
			tool := "mariadb-dump"
			if _, err := exec.LookPath(tool); err != nil {
				tool = "mysqldump"
			}
			at := strings.TrimPrefix(strings.SplitN(s.url, "@", 2)[1], "")
			host, port, _ := strings.Cut(strings.Split(at, "/")[0], ":")
			dump = []string{tool, "-uroot", "-h" + host, "-P" + port, name}
			other = []string{tool, "-uroot", "-h" + host, "-P" + port, "--databases", name}
		default:
			return
		}
		if _, err := exec.LookPath(dump[0]); err != nil {
			t.Skip(dump[0] + " is not installed")
		}
		write := func(file string, command []string) {
			out, err := exec.Command(command[0], command[1:]...).Output()
			if err != nil {
				t.Skipf("%s: %s", command[0], err) // of another version than the server
			}
			require.NoError(t, os.WriteFile(s.file(file), out, 0o600))
		}
		write("dump.sql", dump)
		write("other.sql", other)
		r := s.on("survey", "--ddl", "dump.sql", "--out", "dump.yaml")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "a plan for 3 tables")
		assert.Regexp(t, "existing rows|rows already", s.read("dump.yaml"))
		r = s.on("survey", "--ddl", "other.sql", "--out", "other.yaml")
		assert.NotZero(t, r.code)
		assert.Contains(t, r.errOut, "CREATE DATABASE")
		assert.Contains(t, r.errOut, "other.sql:")
		assert.Equal(t, before, s.rows(t), "the database itself is as it was")
	})
}

// A script that drops another database is refused, however the statement is written.
func TestScriptsDropNoOtherDatabase(t *testing.T) {
	onTables(t, memberTables, memberPlan, func(t *testing.T, s *site) {
		if s.name == "sqlite" {
			return // it has no other databases
		}
		before, victim := s.rows(t), s.databaseName()
		for _, script := range []string{"DROP\nDATABASE %s;\n", "DROP /* ports */ DATABASE IF EXISTS %s"} {
			require.NoError(t, os.WriteFile(s.file("drop.sql"), []byte(fmt.Sprintf(script, victim)), 0o600))
			r := s.on("survey", "--ddl", "drop.sql", "--out", "drop.yaml")
			assert.NotZero(t, r.code, script)
			assert.Contains(t, r.errOut, "drop.sql:1", script)
			assert.Equal(t, before, s.rows(t), script)
		}
	})
}
