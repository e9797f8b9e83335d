package main

import (
	"archive/zip"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"evensprout/internal/store"
)

// meanwhile starts a command on the site's database and waits until it has come so far. The command is ended with the
// test.
func meanwhile(so func(t *testing.T, s *site) bool, args ...string) func(t *testing.T, s *site) {
	return func(t *testing.T, s *site) {
		t.Helper()
		c := s.command(append([]string{args[0], "--db", s.url}, args[1:]...)...)
		require.NoError(t, c.Start())
		s.beside = c
		t.Cleanup(func() {
			c.Process.Kill()
			c.Wait()
		})
		for deadline := time.Now().Add(20 * time.Second); !so(t, s); time.Sleep(5 * time.Millisecond) {
			require.True(t, time.Now().Before(deadline), "the other command does not come so far: %v", args)
		}
	}
}

// held takes a lock of the database, as another process would that works there; lets gives it back.
func held(lock string) func(t *testing.T, s *site) {
	return func(t *testing.T, s *site) {
		t.Helper()
		db := s.open(t)
		t.Cleanup(func() { db.Close() })
		holder, err := db.Lock(t.Context(), lock)
		require.NoError(t, err)
		require.Empty(t, holder)
		s.lets = func() { db.Unlock(context.Background(), lock) }
	}
}

// soon lets go of what is held while the next command waits for it.
func soon(t *testing.T, s *site) { time.AfterFunc(200*time.Millisecond, s.lets) }

// now lets go of it before the next command.
func now(t *testing.T, s *site) { s.lets() }

// book writes a workbook whose only sheet has these rows, as XML, and makes the plan read its rows from it.
func book(rows string) func(t *testing.T, s *site) {
	return func(t *testing.T, s *site) {
		beside("shelves.xlsx", "", "{code: code}")(t, s)
		file, err := os.Create(s.file("shelves.xlsx"))
		require.NoError(t, err)
		defer file.Close()
		z := zip.NewWriter(file)
		for _, member := range [][2]string{
			{"xl/workbook.xml", `<workbook ` +
				`xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet ` +
				`name="Shelves" r:id="rId1"/></sheets></workbook>`},
			{"xl/_rels/workbook.xml.rels", `<Relationships><Relationship Id="rId1" ` +
				`Target="worksheets/sheet1.xml"/></Relationships>`},
			{"xl/worksheets/sheet1.xml", "<worksheet><sheetData>" + rows + "</sheetData></worksheet>"},
		} {
			w, err := z.Create(member[0])
			require.NoError(t, err)
			_, err = io.WriteString(w, member[1])
			require.NoError(t, err)
		}
		require.NoError(t, z.Close())
	}
}

// database of the site, as the server calls it.
func (s *site) databaseName() string { return s.url[strings.LastIndexByte(s.url, '/')+1:] }

// journalShared lets another user write to the journal of a load.
func journalShared(t *testing.T, s *site) {
	t.Helper()
	did("load")(t, s)
	s.as(
		t,
		"scribe",
		"GRANT USAGE ON SCHEMA evensprout TO scribe",
		"GRANT INSERT, UPDATE ON evensprout.loads, evensprout.chunks TO scribe",
	)
}

// atCommit is a way to the site's server that breaks when a client commits: the server gets that, and the client no
// answer. It breaks once.
func atCommit(t *testing.T, s *site) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	port := s.start(t).Port
	go func() {
		for {
			client, err := l.Accept()
			if err != nil {
				return
			}
			server, err := net.Dial("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
			if err != nil {
				client.Close()
				return
			}
			go func() {
				defer client.Close()
				b := make([]byte, 1<<16)
				for {
					n, err := client.Read(b)
					commits := strings.Contains(strings.ReplaceAll(string(b[:n]), "COMMITTED", ""), "COMMIT")
					if commits {
						server.SetReadDeadline(time.Now()) // ends the copying of answers
						time.Sleep(50 * time.Millisecond)
					}
					server.Write(b[:n])
					if err != nil || commits {
						time.Sleep(50 * time.Millisecond)
						server.Close()
						return
					}
				}
			}()
			go io.Copy(client, server)
		}
	}()
	s.url = strings.Replace(s.url, ":"+strconv.Itoa(port), ":"+strconv.Itoa(l.Addr().(*net.TCPAddr).Port), 1)
}

// full opens as many connections as the server has for ordinary users.
func full(t *testing.T, s *site) {
	t.Helper()
	s.url = s.as(
		t,
		"guest",
		"GRANT ALL ON shelves, books, lent TO guest",
		"GRANT ALL ON ALL SEQUENCES IN SCHEMA public TO guest",
		"ALTER ROLE guest CONNECTION LIMIT -1",
	)
	leave := occupy(t, s)
	s.lets = func() { leave(1000) }
}

// occupy opens all connections that the server has left. It returns what closes them.
func occupy(t *testing.T, s *site) (leave func(n int)) {
	t.Helper()
	var open []store.Store
	leave = func(n int) {
		for range min(n, len(open)) {
			open[0].Close()
			open = open[1:]
		}
	}
	t.Cleanup(func() { leave(1000) })
	for range 1000 {
		db, err := s.driver.Open(t.Context(), s.url)
		if err != nil {
			break
		}
		open = append(open, db)
	}
	return leave
}

// packets sets what the server takes in one statement.
func packets(bytes int) func(t *testing.T, s *site) {
	return sqlDone(fmt.Sprintf("SET GLOBAL max_allowed_packet = %d", bytes))
}

var adviceOfServers = map[string]advised{
	"an empty sheet": {says: "its first row names the columns", first: book(""), wrong: []string{"load"},
		follow: book(
			`<row r="1"><c r="A1" t="inlineStr"><is><t>code</t></is></c></row><row r="2"><c r="A2" ` +
				`t="inlineStr"><is><t>ABC</t></is></c></row>`,
		)},
	"a head with merged cells": {
		says: "a range says where the table begins: sheet: NAME!A3:F",
		first: book(
			`<row r="1"><c r="A1" t="inlineStr"><is><t>Shelves</t></is></c><c r="B1"/></row><row r="2"><c r="A2" ` +
				`t="inlineStr"><is><t>code</t></is></c></row>` +
				`<row r="3"><c r="A3" t="inlineStr"><is><t>ABC</t></is></c></row>`,
		),
		wrong:  []string{"load"},
		follow: replaced("file: shelves.xlsx", "file: shelves.xlsx, sheet: Shelves!A2:A"),
	},
	"a range that is none": {
		says: "such as B3:F200, or B3:F for all rows from the third on",
		first: func(t *testing.T, s *site) {
			book(`<row r="1"><c r="A1" t="inlineStr"><is><t>code</t></is></c></row><row r="2"><c r="A2" `+
				`t="inlineStr"><is><t>ABC</t></is></c></row>`)(t, s)
			replaced("file: shelves.xlsx", "file: shelves.xlsx, sheet: Shelves!A-B")(t, s)
		},
		wrong:  []string{"load"},
		follow: replaced("Shelves!A-B", "Shelves!A1:B"),
	},
	"a workbook with a password": {
		says: "save it as .xlsx without a password",
		first: func(t *testing.T, s *site) {
			beside("shelves.xlsx", "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1 and more", "{code: code}")(t, s)
		},
		wrong: []string{"load"},
		follow: book(`<row r="1"><c r="A1" t="inlineStr"><is><t>code</t></is></c></row><row r="2"><c r="A2" ` +
			`t="inlineStr"><is><t>ABC</t></is></c></row>`),
	},
	"an encoding that is none": {
		says: "such as utf-8, utf-16le, windows-1252, iso-8859-15, shift_jis",
		first: func(t *testing.T, s *site) {
			beside("shelves.csv", "code\nABC\n", "{code: code}")(t, s)
			replaced("file: shelves.csv", "file: shelves.csv, encoding: latin")(t, s)
		},
		wrong:  []string{"load"},
		follow: replaced("encoding: latin", "encoding: windows-1252"),
	},
	"two trials at a time": {
		says:   "two trials at the same time would disturb each other",
		engine: "postgres mariadb",
		first:  held("trial"),
		wrong:  []string{"trial", "--counts", "10", "--repeat", "1", "--entity", "Book"},
		follow: now,
	},
	"MariaDB: a user who may not make databases": {
		says:   "GRANT ALL ON `evensprout\\_%`.* allows it; during --shared needs no such right",
		engine: "mariadb",
		first: func(t *testing.T, s *site) {
			admin := *s
			s.url = s.as(t, "builder", "GRANT SELECT, SHOW VIEW, TRIGGER, LOCK TABLES ON {tables} TO {user}")
			s.lets = func() { admin.exec(t, "GRANT ALL ON `evensprout\\_%`.* TO builder@localhost") }
		},
		wrong:  []string{"during", "--", "true"},
		follow: func(t *testing.T, s *site) { s.lets() },
	},
	"a database without the mark": {
		says:   "if nobody needs it, drop it yourself",
		engine: "postgres",
		server: true,
		first: func(t *testing.T, s *site) {
			s.write("schema.sql", strings.ReplaceAll(shelfTables, "{key}", s.key)+"\n-- "+s.databaseName())
			require.Zero(t, s.sh("true", "--schema", "schema.sql").code)
			r := s.on("during", "--sweep", "--cached")
			require.Zero(t, r.code, r.errOut)
			_, name, ok := strings.Cut(r.out, "removed evensprout_cache_")
			require.True(t, ok, r.out)
			name, _, _ = strings.Cut("evensprout_cache_"+name, ":")
			s.exec(t, "CREATE DATABASE "+name)
			s.lets = func() { s.exec(t, "DROP DATABASE IF EXISTS "+name) }
			t.Cleanup(s.lets)
		},
		wrong:  []string{"during", "--schema", "schema.sql", "--", "true"},
		follow: func(t *testing.T, s *site) { s.lets() },
	},
	"an engine without savepoints": {
		says:   "ALTER TABLE ... ENGINE=InnoDB, or leave such a table out; rows in it stay",
		engine: "mariadb",
		tables: "CREATE TABLE shelves (id {key}, code VARCHAR(8) NOT NULL UNIQUE, CHECK (code <> reverse('BAA'))) " +
			"ENGINE=MyISAM;",
		plan: "name: shelf\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Shelf:\n    table: shelves\n    " +
			"fields: {code: {pattern: \"[A-Z]{3}\", unique: true}}\n    given:\n      a: {code: BBB}\n      b: " +
			"{code: AAB}\n",
		wrong:  []string{"load", "--commit", "chunk", "--on-violation", "check=skip"},
		follow: sqlDone("ALTER TABLE shelves ENGINE=InnoDB", "DELETE FROM shelves"),
		code:   6,
	},
	"a journal that others write to": {
		says:   "name its file: evensprout withdraw LOAD1 PLAN.yaml",
		engine: "postgres",
		first: func(t *testing.T, s *site) {
			journalShared(t, s)
			require.NoError(t, os.Rename(s.file("evensprout.yaml"), s.file("shelf.yaml")))
		},
		wrong: []string{"withdraw", "LOAD1"},
		right: []string{"withdraw", "LOAD1", "shelf.yaml"},
	},
	"a plan that says less than the journal": {
		says: "evensprout history LOAD1 --plan > was.yaml writes its plan: read it, then evensprout withdraw " +
			"LOAD1 was.yaml",
		engine: "postgres",
		first: func(t *testing.T, s *site) {
			journalShared(t, s)
			plan := s.read("evensprout.yaml")
			s.write("evensprout.yaml", plan[:strings.Index(plan, "  Book:")])
			s.exec(t, "ALTER TABLE books DROP CONSTRAINT books_shelf_id_fkey")
		},
		wrong: []string{"withdraw", "LOAD1"},
		follow: func(t *testing.T, s *site) {
			r := s.on(s.words(t, "history", "LOAD1", "--plan")...)
			require.Zero(t, r.code, r.errOut)
			s.write("was.yaml", r.out)
		},
		right: []string{"withdraw", "LOAD1", "was.yaml"},
	},
	"parts, and then the whole": {
		says:   "run all parts of the same number of parts",
		first:  did("load", "--part", "1/2"),
		wrong:  []string{"load", "--part", "1/3"},
		follow: did("load", "--part", "2/2"),
		right:  []string{"load"},
	},
	"parts, and one process": {
		says:  "evensprout load --resume continues it as one process",
		first: did("load", "--part", "1/2"),
		wrong: []string{"load", "--part", "1/3"},
		right: []string{"load", "--resume"},
	},
	"parts, withdrawn": {
		says:   "evensprout withdraw LOAD1 undoes it",
		first:  did("load", "--part", "1/2"),
		wrong:  []string{"load", "--part", "1/3"},
		follow: did("withdraw", "LOAD1"),
		right:  []string{"load", "--part", "1/3"},
	},
	"a part that is being written": {
		says:   "wait for it with --wait 5m",
		engine: "postgres mariadb",
		first:  held("evensprout load shelf, part 1"),
		wrong:  []string{"load", "--part", "1/1", "--wait", "10ms"},
		follow: soon,
		right:  []string{"load", "--part", "1/1", "--wait", "5m"},
	},
	"picks that hand-written rows use up": {says: "plan more rows to pick from, or fewer that pick",
		plan: strings.NewReplacer("rows: 5\n", "rows: 64\n", "rows: 20\n", "rows: 50\n", "{pick: Shelf}", "{pick: "+
			"Shelf, unique: true}").
			Replace(shelfPlan) +
			"    given:\n      a: {title: A}\n",
		first: after(
			did("load"),
			rewritten(
				"rows: 50",
				"rows: 52",
				"      a: {title: A}\n",
				"      a: {title: A}\n      b: {title: B}\n      c: {title: C}\n      d: {title: D}\n      e: "+
					"{title: E}\n      f: {title: F}\n      g: {title: G}\n",
			),
		),
		wrong: []string{"load"}, follow: rewritten("rows: 64", "rows: 80")},
	"rows in the way of a change": {
		says: "other rows are in the way: nothing was withdrawn",
		plan: shelfPlan + "units:\n  rename:\n    rows: 1\n    steps:\n      - {update: shelves, match: {id: 1}, " +
			"set: {code: \"'new'\"}}\n",
		first: func(t *testing.T, s *site) {
			did("load", "--without-units")(t, s)
			was := ""
			for i, id := range s.column(t, "shelves", "id") {
				if id == "1" {
					was = s.column(t, "shelves", "code")[i]
				}
			}
			did("load", "--unit", "rename")(t, s)
			s.exec(t, "INSERT INTO shelves (id, code) VALUES (900, '"+was+"')")
		},
		wrong:  []string{"withdraw"},
		follow: sqlDone("DELETE FROM shelves WHERE id = 900"),
	},
	"MariaDB: a statement that is too long": {
		says: "raise max_allowed_packet; for the journal's copy of input files and rows, --no-journal is the " +
			"other way",
		engine: "mariadb",
		server: true,
		first: after(func(t *testing.T, s *site) {
			var rows strings.Builder
			for i := range 60000 {
				fmt.Fprintf(&rows, "%08x,%032x\n", i, uint64(i)*0x9E3779B97F4A7C15)
			}
			beside("shelves.csv", "code,note\n"+rows.String(), "{code: code}")(t, s)
		}, packets(1<<17)),
		wrong:  []string{"load"},
		follow: packets(16 << 20),
	},
	"PostgreSQL: a commit without an answer": {
		says:   "look at the tables before you do anything else; nothing was retried",
		engine: "postgres",
		first: func(t *testing.T, s *site) {
			direct := s.url
			atCommit(t, s)
			s.lets = func() { s.url = direct }
		},
		wrong:  []string{"load", "--no-journal"},
		follow: func(t *testing.T, s *site) { s.lets() },
		right:  []string{"look", "books"},
	},
	"MariaDB: a commit without an answer": {
		says:   "look at the tables before you do anything else; nothing was retried",
		engine: "mariadb",
		first: func(t *testing.T, s *site) {
			direct := s.url
			atCommit(t, s)
			s.lets = func() { s.url = direct }
		},
		wrong:  []string{"load", "--no-journal"},
		follow: func(t *testing.T, s *site) { s.lets() },
		right:  []string{"look", "books"},
	},
	"PostgreSQL: no free connection": {
		says:   "close other connections, or try again",
		engine: "postgres",
		server: true,
		first:  full,
		wrong:  []string{"load", "--no-journal"},
		follow: func(t *testing.T, s *site) { s.lets() },
	},
	"no folder for a run's database": {
		says:   "choose another folder with XDG_CACHE_HOME or TMPDIR",
		engine: "sqlite",
		first: func(t *testing.T, s *site) {
			require.NoError(t, os.Mkdir(s.file("tmp"), 0o777))
			require.NoError(t, os.Symlink(s.path, s.file("tmp/"+fmt.Sprintf("evensprout-%d", os.Getuid()))))
			s.env = []string{"HOME=/dev/null", "TMPDIR=" + s.file("tmp")}
		},
		wrong:  []string{"during", "--", "true"},
		follow: func(t *testing.T, s *site) { s.env = append(s.env, "XDG_CACHE_HOME="+s.file("cache")) },
	},
}
