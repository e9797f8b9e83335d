//go:build unix

package security_test

import (
	"archive/zip"
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hostileText is what acts on terminals: colours, titles, the clipboard, the cursor, the
// direction of text.
var hostileText = []string{
	"\x1b[31mred",
	"\x1b]0;title\x07",
	"\x1b]52;c;aGk=\x07",
	"\x1b[2J\x1b[H",
	"\rover",
	"\u202eback",
	"\u2066x\u2069",
	"\u009b31m",
	"\x1b[8m",
	"\b\b\b",
	"\x1b[?1049h",
}

func (b *box) shown(r result, what string) {
	b.t.Helper()
	for _, c := range []string{"\x1b", "\r", "\u202e", "\u2066", "\u009b", "\b", "\x07"} {
		assert.NotContains(b.t, r.all(), c, "%q: %q", what, r.all())
	}
}

// What acts on a terminal reaches nobody's, wherever it comes from.
func TestTerminalsAreNotActedOn(t *testing.T) {
	t.Run("data", func(t *testing.T) {
		b := onSQLite(t, "")
		for i, h := range hostileText {
			b.exec(
				fmt.Sprintf("INSERT INTO ports (id, label) VALUES (%d, '%s')", i+1, strings.ReplaceAll(h, "'", "''")),
			)
		}
		for _, args := range [][]string{{"look"}, {"look", "ports", "--limit", "100"}, {"survey", "--learn"},
			{"load"}, {"compare"}} {
			b.shown(b.on(args...), args[0])
		}
	})
	t.Run("names", func(t *testing.T) {
		b := onSQLite(t, "")
		for i, h := range hostileText {
			b.exec(fmt.Sprintf(`CREATE TABLE "t%d%s" ("c%s" TEXT NOT NULL CHECK ("c%s" <> '%s'))`, i, h, h, h, h))
		}
		for _, args := range [][]string{{"look"}, {"look", "t0" + hostileText[0]}, {"survey"},
			{"survey", "--out", "draft.yaml"}, {"check", "draft.yaml"}, {"load", "draft.yaml"}} {
			r := b.on(args...)
			if args[0] == "survey" && len(args) == 1 {
				for line := range strings.Lines(r.out) { // a draft is a file: what is no comment is quoted
					assert.NotContains(t, line, "\x1b", line)
				}
				continue
			}
			b.shown(r, args[0])
		}
	})
	t.Run("comments and messages of a server", func(t *testing.T) {
		b := onPostgres(t, "")
		psql(
			t,
			b.url,
			"CREATE FUNCTION loud() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION "+
				"E'\\x1b[31mno\\r\\u202e'; END $$; CREATE TRIGGER loud BEFORE INSERT ON visits FOR EACH ROW "+
				"EXECUTE FUNCTION loud(); COMMENT ON TABLE ports IS E'\\x1b[31mred'; ALTER TABLE ports ADD "+
				"CONSTRAINT \"\x1b[31mred\" CHECK (label <> E'\\x1b[31m');",
		)
		for _, args := range [][]string{{"survey"}, {"check"}, {"load"}, {"load", "--json"}, {"history"}} {
			b.shown(b.on(args...), args[0])
		}
	})
	t.Run("plan and command line", func(t *testing.T) {
		b := onSQLite(t, "")
		for _, h := range hostileText {
			b.write(
				"p.yaml",
				"name: "+strings.NewReplacer("\b", "", "\r", "").
					Replace("x"+h)+
					"\nseed: s\nentities:\n  Port: {table: \"ports\", fields: {label: {kind: \"no"+"\"}}}\n",
			)
			for _, args := range [][]string{{"check", "p.yaml"}, {"load", "p.yaml"}, {h}, {"look", h}, {"catalog", h},
				{"load", "--" + h}, {"load", "none" + h + ".yaml"}} {
				b.shown(b.on(args...), h)
			}
		}
	})
	t.Run("history", func(t *testing.T) {
		b := onSQLite(t, "")
		b.seeded()
		b.exec("UPDATE evensprout_loads SET actor = '\x1b[31mmallory\r', plan = 'x\u202ey'")
		b.shown(b.on("history"), "history")
		b.shown(b.on("history", "1"), "history")
	})
}

// What other files stand in the way is not followed, replaced or waited for.
func TestFilesInTheWay(t *testing.T) {
	secret := func(t *testing.T) string {
		path := filepath.Join(t.TempDir(), "secret")
		require.NoError(t, os.WriteFile(path, []byte("keep me"), 0o600))
		return path
	}
	kept := func(t *testing.T, path string) {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Equal(t, "keep me", string(text))
	}
	t.Run("lock beside a database", func(t *testing.T) {
		for name, link := range map[string]func(old, new string) error{"symbolic": os.Symlink, "hard": os.Link} {
			b := onSQLite(t, "")
			target := secret(t)
			for _, lock := range []string{"evensprout load harbour", "during harbour"} {
				require.NoError(t, link(target, lockPath(b.file("prod.db"), lock)), name)
			}
			for _, args := range [][]string{{"load"}, {"during", "--shared", "--", "true"}, {"withdraw"}} {
				b.on(args...)
				kept(t, target)
			}
		}
	})
	t.Run("outputs", func(t *testing.T) {
		b := onSQLite(t, "")
		target := secret(t)
		for _, name := range []string{"rejects.ndjson", "changes.csv", "draft.yaml", "out.csv",
			"harbour.rejects.ndjson"} {
			require.NoError(t, os.Symlink(target, b.file(name)))
		}
		for _, args := range [][]string{{"load", "--rejects", "rejects.ndjson"}, {"load", "--changes", "changes.csv"},
			{"survey", "--out", "draft.yaml"}, {"export", "--entity", "Port", "--out", "out.csv"}} {
			b.on(args...)
			kept(t, target)
		}
	})
	t.Run("plan's name", func(t *testing.T) {
		for _, name := range []string{"../../escaped", "/tmp/evensprout-escaped", "a/../../../escaped", "..", "x\\y"} {
			b := onSQLite(
				t,
				"CREATE TABLE pairs (id INTEGER PRIMARY KEY, n INTEGER NOT NULL UNIQUE);\nINSERT INTO pairs (n) "+
					"VALUES (1);",
			)
			b.write(
				"in/evensprout.yaml",
				"name: "+name+"\nseed: s\nclock: 2026-05-01T08:00:00Z\non_violation: {unique: skip}\nwhen: "+
					"any\nentities:\n  Pair:\n    table: pairs\n    rows: 3\n    fields: {n: {choose: {1: 1, 2: "+
					"1}}, id: {count: 100}}\n",
			)
			before := b.files()
			b.on("load", "in/evensprout.yaml")
			for path := range b.files() {
				if _, ok := before[path]; !ok {
					assert.True(t, filepath.Dir(path) == b.folder || strings.HasPrefix(path, b.folder), path)
				}
			}
			assert.NoFileExists(t, filepath.Join(filepath.Dir(b.folder), "escaped.rejects.ndjson"))
			assert.NoFileExists(t, "/tmp/evensprout-escaped.rejects.ndjson")
		}
	})
	t.Run("pipes", func(t *testing.T) {
		b := onSQLite(t, "")
		for _, name := range []string{"pipe.yaml", "pipe.csv", "pipe.sql", "pipe.db", "pipe.ndjson", "pipe.json",
			"pipe.xlsx", "pipe.parquet"} {
			require.NoError(t, syscall.Mkfifo(b.file(name), 0o644))
		}
		from := func(file string) string {
			return "name: x\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Port:\n    table: ports\n    " +
				"rows_from: {file: " + file + ", columns: {label: label}}\n"
		}
		for _, args := range [][]string{{"check", "pipe.yaml"}, {"load", "pipe.yaml"},
			{"look", "--db", "sqlite:pipe.db"}, {"load", "--db", "sqlite:pipe.db"},
			{"load", "--rejected", "pipe.ndjson"}, {"during", "--schema", "pipe.sql", "--", "true"}} {
			r := b.run(args...)
			if args[len(args)-1] == "pipe.ndjson" || args[0] == "during" {
				r = b.on(args...)
			}
			assert.NotZero(t, r.code, args)
		}
		for _, ending := range []string{"csv", "ndjson", "json", "xlsx", "parquet"} {
			b.write("p.yaml", from("pipe."+ending))
			r := b.on("check", "p.yaml")
			assert.NotZero(t, r.code)
			assert.Contains(t, r.err, "is a pipe, not a regular file")
		}
	})
	photos := "name: harbour\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Photo:\n    table: photos\n    " +
		"rows: 1\n    fields: {file: {file: {folder: %s, as: txt}}}\n"
	t.Run("placeholder files", func(t *testing.T) {
		for name, place := range map[string]func(t *testing.T, path string) string{
			"unreadable": func(t *testing.T, path string) string {
				require.NoError(t, os.WriteFile(path, []byte("keep me"), 0o000))
				return path
			},
			"symbolic link out": func(t *testing.T, path string) string {
				target := secret(t)
				require.NoError(t, os.Symlink(target, path))
				return target
			},
			"pipe": func(t *testing.T, path string) string {
				require.NoError(t, syscall.Mkfifo(path, 0o644))
				return ""
			},
			"folder": func(t *testing.T, path string) string {
				require.NoError(t, os.Mkdir(path, 0o755))
				return ""
			},
		} {
			b := onSQLite(t, "CREATE TABLE photos (id INTEGER PRIMARY KEY, file VARCHAR(60));")
			b.write("evensprout.yaml", fmt.Sprintf(photos, "images"))
			require.NoError(t, os.Mkdir(b.file("images"), 0o755))
			target := place(t, b.file("images/photo-file-0.txt"))
			r := b.on("load")
			assert.NotZero(t, r.code, name)
			assert.Zero(t, b.ask("SELECT count(*) FROM photos"), name)
			if target != "" {
				os.Chmod(target, 0o600)
				kept(t, target)
			}
		}
	})
	t.Run("folders of the program's own", func(t *testing.T) {
		for _, folder := range []string{".evensprout-unfinished", ".evensprout-unfinished/x",
			"./.evensprout-unfinished", "../out", "/tmp", "a/../../out"} {
			b := onSQLite(t, "CREATE TABLE photos (id INTEGER PRIMARY KEY, file VARCHAR(60));")
			b.write("evensprout.yaml", fmt.Sprintf(photos, folder))
			r := b.on("load")
			assert.Equal(t, 3, r.code, "%s: %s", folder, r.all())
			assert.NoDirExists(t, filepath.Join(filepath.Dir(b.folder), "out"))
		}
	})
	t.Run("link as a folder", func(t *testing.T) {
		b := onSQLite(t, "CREATE TABLE photos (id INTEGER PRIMARY KEY, file VARCHAR(60));")
		b.write("evensprout.yaml", fmt.Sprintf(photos, "images"))
		elsewhere := t.TempDir()
		require.NoError(t, os.Symlink(elsewhere, b.file("images")))
		r := b.on("load")
		assert.NotZero(t, r.code)
		left, err := os.ReadDir(elsewhere)
		require.NoError(t, err)
		assert.Empty(t, left)
	})
}

// workbook makes an XLSX file of parts.
func workbook(t *testing.T, path string, parts map[string]func(w func(string))) {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	all := map[string]func(w func(string)){
		"xl/workbook.xml": func(w func(string)) {
			w(
				`<workbook ` +
					`xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet ` +
					`name="s" r:id="r1"/></sheets></workbook>`,
			)
		},
		"xl/_rels/workbook.xml.rels": func(w func(string)) {
			w(`<Relationships><Relationship Id="r1" ` +
				`Target="s.xml"/></Relationships>`)
		},
		"xl/s.xml": func(w func(string)) {
			w(`<worksheet><sheetData><row><c t="inlineStr"><is><t>label</t></is></c></row></sheetData></worksheet>`)
		},
	}
	for name, part := range parts {
		all[name] = part
	}
	for name, part := range all {
		h := &zip.FileHeader{Name: name, Method: zip.Deflate}
		if strings.HasSuffix(name, "s.xml") {
			h.Method = zip.Store // it would take long to pack
		}
		m, err := z.CreateHeader(h)
		require.NoError(t, err)
		part(func(s string) { m.Write([]byte(s)) })
	}
	require.NoError(t, z.Close())
	require.NoError(t, os.WriteFile(path, b.Bytes(), 0o644))
}

// Whatever is refused is refused before it takes the machine's memory, and in time.
func TestInputIsBounded(t *testing.T) {
	repeat := func(s string, n int) func(w func(string)) {
		return func(w func(string)) {
			chunk := strings.Repeat(s, 1000)
			for range n / 1000 {
				w(chunk)
			}
		}
	}
	random := func(n int) string { // does not compress as far as to be refused for that
		var b strings.Builder
		x := uint32(1)
		for b.Len() < n {
			x = x*1664525 + 1013904223
			b.WriteByte('a' + byte(x>>28))
		}
		return b.String()
	}
	noise := random(1 << 20)
	from := func(file string) string {
		return "name: x\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Port:\n    table: ports\n    " +
			"rows_from: {file: " + file + ", columns: {label: label}}\n"
	}
	head := "name: x\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Port:\n    table: ports\n    rows: 1\n"
	files := map[string]func(b *box) []string{
		"csv: one cell": func(b *box) []string {
			b.write("f.csv", "label\n"+strings.Repeat("x", 300*mebibyte))
			return []string{"f.csv"}
		},
		"csv: open quote": func(b *box) []string {
			b.write("f.csv", "label\n\""+strings.Repeat("x\n", 150*mebibyte))
			return []string{"f.csv"}
		},
		"csv: heading": func(b *box) []string {
			b.write("f.csv",
				strings.Repeat("x", 300*mebibyte))
			return []string{"f.csv"}
		},
		"csv: columns": func(b *box) []string {
			b.write("f.csv",
				strings.Repeat("x,", 10*mebibyte))
			return []string{"f.csv"}
		},
		"ndjson: one line": func(b *box) []string {
			b.write("f.ndjson", `{"label": "`+strings.Repeat("x", 300*mebibyte)+`"}`)
			return []string{"f.ndjson"}
		},
		"json: one text": func(b *box) []string {
			b.write("f.json", `[{"label": "`+strings.Repeat("x", 300*mebibyte)+`"}]`)
			return []string{"f.json"}
		},
		"json: blanks": func(b *box) []string {
			b.write("f.json", `[`+strings.Repeat("\n", 300*mebibyte)+`]`)
			return []string{"f.json"}
		},
		"json: depth": func(b *box) []string {
			b.write("f.json", `[{"label": `+strings.Repeat("[", 50*mebibyte))
			return []string{"f.json"}
		},
		"json: keys": func(b *box) []string {
			var s strings.Builder
			for i := range 1_000_000 {
				fmt.Fprintf(&s, `"k%d":1,`, i)
			}
			b.write("f.json", `[{`+s.String()+`"z":1}]`)
			return []string{"f.json"}
		},
		"xlsx: many texts": func(b *box) []string {
			workbook(
				b.t,
				b.file("f.xlsx"),
				map[string]func(func(string)){"xl/sharedStrings.xml": repeat("<si/>", 50_000_000)},
			)
			return []string{"f.xlsx"}
		},
		"xlsx: one cell": func(b *box) []string {
			workbook(b.t, b.file("f.xlsx"), map[string]func(func(string)){"xl/s.xml": func(w func(string)) {
				w(`<worksheet><sheetData><row><c t="inlineStr"><is><t>`)
				for range 300 {
					w(noise)
				}
			}})
			return []string{"f.xlsx"}
		},
		"xlsx: depth": func(b *box) []string {
			workbook(b.t, b.file("f.xlsx"), map[string]func(func(string)){"xl/s.xml": func(w func(string)) {
				for i := range 1_500_000 {
					w(fmt.Sprintf("<a%d>", i))
				}
			}})
			return []string{"f.xlsx"}
		},
		"xlsx: attribute": func(b *box) []string {
			workbook(b.t, b.file("f.xlsx"), map[string]func(func(string)){"xl/s.xml": func(w func(string)) {
				w(`<worksheet a="`)
				for range 300 {
					w(noise)
				}
			}})
			return []string{"f.xlsx"}
		},
		"xlsx: sheets": func(b *box) []string {
			workbook(b.t, b.file("f.xlsx"), map[string]func(func(string)){"xl/workbook.xml": func(w func(string)) {
				w(`<workbook><sheets>`)
				for i := range 400_000 {
					w(fmt.Sprintf(`<sheet name="%d%s"/>`, i, noise[i%1000:i%1000+20]))
				}
			}})
			return []string{"f.xlsx"}
		},
		"xlsx: members": func(b *box) []string {
			var buf bytes.Buffer
			z := zip.NewWriter(&buf)
			for i := range 180_000 {
				z.Create(fmt.Sprint(i))
			}
			require.NoError(b.t, z.Close())
			require.NoError(b.t, os.WriteFile(b.file("f.xlsx"), buf.Bytes(), 0o644))
			return []string{"f.xlsx"}
		},
	}
	for name, file := range parquetFiles(t, random) {
		files["parquet: "+name] = func(b *box) []string {
			require.NoError(b.t, os.WriteFile(b.file("f.parquet"), file(), 0o644))
			return []string{"f.parquet"}
		}
	}
	for name, make := range files {
		t.Run(name, func(t *testing.T) {
			b := onSQLite(t, "")
			for _, f := range make(b) {
				b.write("p.yaml", from(f))
				r := b.on("check", "p.yaml")
				assert.NotZero(t, r.code, r.out)
				assert.Less(t, r.peak, int64(peakLimit), "%d MiB", r.peak>>20)
				assert.Less(t, r.took.Seconds(), 30.0)
				t.Logf("%d MiB, %v: %.200s", r.peak>>20, r.took, r.err)
			}
		})
	}
	plans := map[string]string{
		"doubling texts": func() string {
			s := head + "    fields:\n      f0: {text: \"0123456789012345\", column: label}\n"
			for i := range 40 {
				s += fmt.Sprintf("      f%d: {text: \"{f%d}{f%d}\"}\n", i+1, i, i)
			}
			return s
		}(),
		"doubling expressions": func() string {
			s := head + "    shared:\n      f0: {text: \"0123456789012345\"}\n"
			for i := range 40 {
				s += fmt.Sprintf("      f%d: {derive: \"f%d + f%d\"}\n", i+1, i, i)
			}
			return s + "    fields:\n      label: {derive: f40}\n"
		}(),
		"wide text": head + "    fields:\n      label: {text: \"" + strings.Repeat(
			"{a}",
			900,
		) + "\"}\n    shared:\n      a: {text: \"" + strings.Repeat(
			"x",
			100_000,
		) + "\"}\n",
		"replace": head + "    fields:\n      label: {derive: \"replace(replace(replace(a, 'x', a), 'x', a), 'x', " +
			"a)\"}\n    shared:\n      a: {text: \"" + strings.Repeat(
			"x",
			2000,
		) + "\"}\n",
		"loops": head + "    fields:\n      label: {derive: \"string(" + strings.Repeat(
			"[1,2,3,4,5,6,7,8,9,10].map(x, ",
			8,
		) + "1" + strings.Repeat(
			")",
			8,
		) + ".size())\"}\n",
		"unknown keys": "name: x\n" + func() string {
			var s strings.Builder
			for i := range 100_000 {
				fmt.Fprintf(&s, "kee%d: 1\n", i)
			}
			return s.String()
		}(),
		"unknown fields": head + "    fields:\n" + func() string {
			var s strings.Builder
			for i := range 50_000 {
				fmt.Fprintf(&s, "      labell%d: {kind: nothing%d}\n", i, i)
			}
			return s.String()
		}(),
		"aliases": "a: &a [x,x,x,x,x,x,x,x,x]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a,*a]\nc: &c " +
			"[*b,*b,*b,*b,*b,*b,*b,*b,*b]\nd: &d [*c,*c,*c,*c,*c,*c,*c,*c,*c]\ne: &e " +
			"[*d,*d,*d,*d,*d,*d,*d,*d,*d]\nf: &f [*e,*e,*e,*e,*e,*e,*e,*e,*e]\ng: [*f,*f,*f,*f,*f,*f,*f,*f,*f]\n",
		"depth":         strings.Repeat("[", 1<<20),
		"mapping depth": strings.Repeat("{a: ", 1<<18),
		"one line":      "name: " + strings.Repeat("x", 3<<20),
		"random bytes":  head + "    fields:\n      label: {bytes: 1048576..1048576}\n",
		"pattern": head + "    fields:\n      label: {pattern: " +
			"\"((((((a{1000}){1000}){1000}){1000}){1000}){1000})\"}\n",
		"too long": strings.Repeat("# x\n", 40<<20),
		"many rows": strings.Replace(
			head,
			"rows: 1",
			"rows: 99999999999999999999",
			1,
		) + "    fields: {label: {text: x}}\n",
		"wide batch": strings.Replace(
			head,
			"rows: 1",
			"rows: 400",
			1,
		) + "    fields:\n      label: {text: \"{a}{a}{a}{a}{a}{a}{a}{a}\"}\n    shared:\n      a: {text: \"" +
			strings.Repeat(
				"x",
				100_000,
			) + "\"}\n",
	}
	for name, text := range plans {
		t.Run("plan: "+name, func(t *testing.T) {
			b := onSQLite(t, "CREATE TABLE wide (id INTEGER PRIMARY KEY, label TEXT);")
			b.write("p.yaml", strings.ReplaceAll(text, "table: ports", "table: wide"))
			for _, args := range [][]string{{"check", "p.yaml"}, {"preview", "p.yaml"}, {"load", "p.yaml"}} {
				r := b.on(args...)
				if args[0] == "load" {
					assert.Equal(t, name == "wide batch", r.code == 0, r.all())
				}
				assert.Less(t, r.peak, int64(peakLimit), "%v: %d MiB: %.300s", args, r.peak>>20, r.err)
				assert.Less(t, r.took.Seconds(), 30.0, args)
				assert.NotContains(t, r.err, "fatal error")
			}
		})
	}
}

// Values that no type holds are errors, with the row and the field.
func TestValuesDoNotWrap(t *testing.T) {
	head := "name: x\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Ship:\n    table: ships\n    rows: 3\n    " +
		"fields:\n"
	for name, c := range map[string]struct{ fields, column string }{
		"addDays of a moment": {"      v: {derive: \"addDays(at, 200000000)\"}\n      at: {before: clock, within: " +
			"10d}\n", "at"},
		"addDays beyond 9999":  {"      at: {derive: \"addDays(timestamp('2026-05-01T08:00:00Z'), 3000000)\"}\n", "at"},
		"addDays before 1":     {"      at: {derive: \"addDays(timestamp('2026-05-01T08:00:00Z'), -800000)\"}\n", "at"},
		"days of a date":       {"      day: {derive: \"addDays(date('2026-05-01'), 4611686018427387904)\"}\n", "day"},
		"date beyond 32 bits":  {"      day: {derive: \"addDays(date('2026-05-01'), 3999999)\"}\n", "day"},
		"counter":              {"      n: {count: 9223372036854775806}\n", "n"},
		"number times number":  {"      n: {derive: \"9223372036854775807 * 2\"}\n", "n"},
		"small column":         {"      small: {between: [30000, 40000]}\n", "small"},
		"span after the clock": {"      at: {after: clock, within: 9999y}\n", "at"},
		"a date of the year 0": {"      day: {choose: [0000-01-01]}\n", "day"},
	} {
		t.Run(name, func(t *testing.T) {
			on(
				t,
				"CREATE TABLE ships (id INTEGER PRIMARY KEY, at TIMESTAMP NULL, day DATE, n BIGINT, small "+
					"SMALLINT, v TIMESTAMP NULL);",
				func(t *testing.T, b *box) {
					b.write("p.yaml", head+"      id: {count: 1}\n"+c.fields)
					r := b.on("load", "p.yaml")
					assert.NotZero(t, r.code, r.out)
					assert.Regexp(t, "Ship|"+c.column, r.err)
					assert.Zero(t, b.ask("SELECT count(*) FROM ships"))
				},
			)
		})
	}
	t.Run("sums", func(t *testing.T) {
		b := onSQLite(
			t,
			"CREATE TABLE fleets (id INTEGER PRIMARY KEY, total BIGINT);\nCREATE TABLE ships (id INTEGER PRIMARY "+
				"KEY, fleet_id INTEGER NOT NULL REFERENCES fleets (id), n BIGINT, so_far BIGINT);",
		)
		text := "name: x\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Fleet:\n    table: fleets\n    rows: " +
			"2\n    fields:\n      TOTAL\n  Ship:\n    table: ships\n    per: {Fleet: 3}\n    fields:\n      n: " +
			"{between: [9000000000000000000, 9000000000000000000]}\n      RUNNING\n"
		for _, f := range [][2]string{{"total: {sum: Ship.n}", "so_far: {nothing: 1}"},
			{"total: {literal: 1}", "so_far: " +
				"{running: n}"}} {
			b.write(
				"p.yaml",
				strings.NewReplacer("TOTAL", strings.Replace(f[0], "{literal: 1}", "1", 1), "RUNNING",
					strings.Replace(f[1], "{nothing: 1}", "1", 1)).
					Replace(text),
			)
			r := b.on("load", "p.yaml")
			assert.NotZero(t, r.code, r.out)
			assert.Contains(t, r.err, "does not fit into 64 bits")
			assert.Zero(t, b.ask("SELECT count(*) FROM ships"))
		}
	})
}

// A plan may name any file, but nothing of a file that is no plan is shown.
func TestOtherFilesAreNotShown(t *testing.T) {
	b := onSQLite(t, "")
	for i, text := range []string{"password: hunter2\nother: 3\n", "hunter2\n", "a: [hunter2\nb: x: y\n", "name: [hunter2\n",
		"- hunter2\n", "hunter2: {name: x, entities: y}\n", "name: app\nservices: {db: {password: hunter2}}\n"} {
		b.write("secret.yaml", text)
		b.write("evensprout.yaml", "builds_on: secret.yaml\n"+plan)
		for _, args := range [][]string{{"check"}, {"load"}, {"load", "--dry-run"}, {"add", "Port"}, {"preview"}, {"diagram"},
			{"export", "--format", "csv", "--out", "rows"}, {"page", "--out", "p.html"}, {"survey", "--into", "evensprout.yaml"},
			{"compare"}, {"withdraw"}, {"load", "--anew"}} {
			r := b.with([]string{"DATABASE_URL=" + b.url}, "", args...)
			assert.NotContains(t, r.all(), "hunter2", "%d %v", i, args)
		}
	}
}
