package main

import (
	"encoding/json"
	"encoding/xml"
	"image/png"
	"io"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type trialJSON struct {
	Entity, Changed string
	Measures        []struct {
		Way, Job          string
		Rows, Written     int
		Rate              float64 `json:"rows_per_second"`
		Slower            float64
		Statements, Bytes int64
		Own               bool
	}
	Chosen []struct{ Way, Why string }
}

func TestTrial(t *testing.T) {
	onEngines(t, harbourPlan(300, 10), func(t *testing.T, s *site) {
		before := s.rows(t)
		r := s.on(
			"trial",
			"--counts",
			"20,300",
			"--repeat",
			"2",
			"--entity",
			"Berth",
			"--json",
			"--chart",
			"chart.png",
			"--limit",
			"10m",
		) // a slow disk needs long for 300 commits
		require.Zero(t, r.code, r.errOut)
		var x trialJSON
		require.NoError(t, json.Unmarshal([]byte(r.out), &x))
		assert.Equal(t, before, s.rows(t), "nothing is left of it")
		require.Len(t, x.Measures, 2*(6+4))
		statements := map[string]int64{}
		best := map[string]bool{}
		for _, m := range x.Measures {
			assert.Equal(t, m.Rows, m.Written, m.Way)
			assert.Positive(t, m.Rate, m.Way)
			assert.Positive(t, m.Bytes, m.Way)
			assert.GreaterOrEqual(t, m.Slower, 1.0, m.Way)
			best[m.Job] = best[m.Job] || m.Slower == 1
			if m.Rows == 300 {
				statements[m.Way] = m.Statements
			}
		}
		assert.Equal(t, map[string]bool{"add": true, "change": true}, best)
		assert.EqualValues(t, 300, statements["one row per statement, each committed"], "a statement for each row")
		assert.Less(t, statements["100 rows a statement"], int64(10))
		require.Len(t, x.Chosen, 2)
		picture, err := os.Open(s.file("chart.png"))
		require.NoError(t, err)
		defer picture.Close()
		drawn, err := png.Decode(picture)
		require.NoError(t, err)
		assert.Equal(t, 1280, drawn.Bounds().Dx())

		r = s.on("trial", "--counts", "20", "--repeat", "1", "--entity", "Berth", "--chart", "chart.svg")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "For new rows (write: insert) load takes ")
		d := xml.NewDecoder(strings.NewReader(string(must(os.ReadFile(s.file("chart.svg"))))))
		for err == nil {
			_, err = d.Token()
		}
		assert.Equal(t, io.EOF, err)

		s.write("more.csv", "id,code,label\n1,AAA,x\n2,BBB,y\n3,CCC,z\n")
		r = s.on("trial", "--file", "more.csv", "--table", "ports", "--repeat", "1")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "3 rows")
		assert.Contains(t, r.out, "No rows were changed")

		// What takes too long is ended, and what was killed is removed by the next trial.
		r = s.on("trial", "--counts", "300", "--repeat", "1", "--entity", "Berth", "--limit", "1ms")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "ended by --limit")
		for _, signal := range []os.Signal{syscall.SIGINT, os.Kill} {
			c := s.command("trial", "--counts", "300", "--repeat", "100", "--entity", "Berth", "--db", s.url)
			require.NoError(t, c.Start())
			time.Sleep(700 * time.Millisecond)
			require.NoError(t, c.Process.Signal(signal))
			c.Wait()
			if signal == syscall.SIGINT {
				assert.Equal(t, 130, c.ProcessState.ExitCode())
			}
		}
		var left result
		deadline := time.Now().Add(20 * time.Second)
		for ; time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
			if left = s.on("trial", "--counts", "20", "--repeat", "1", "--entity", "Berth"); left.code == 0 {
				break // the server has noticed that the other one is gone
			}
		}
		require.Zero(t, left.code, left.errOut)
		assert.Equal(t, before, s.rows(t))
	})
}

// TestTrialOfOddColumns changes what the database shows in another form than it was planned.
func TestTrialOfOddColumns(t *testing.T) {
	for column, source := range map[string]string{"price DECIMAL(9,3)": "price: {between: [1.0, 900.0], step: 0.5}",
		"mark CHAR(9)": `mark: ` +
			`{pattern: "[a-z]{1,5}"}`, "at TIMESTAMP": "at: {before: clock, within: 9d}", "size REAL": "size: " +
			"{between: [1.5, 900.5]}"} {
		for _, e := range engines() {
			t.Run(e.name+" "+column, func(t *testing.T) {
				f := newFolder(t)
				f.write(
					"evensprout.yaml",
					"name: odd\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Thing:\n    table: things\n    "+
						"rows: 200\n    fields: {"+source+"}\n",
				)
				script := "CREATE TABLE things (id INTEGER PRIMARY KEY, " + column + ");"
				url := "sqlite:app.db"
				if e.start != nil {
					url = e.start(t).Database(t, script)
				} else {
					f.makeDB("app.db", script)
				}
				r := f.run("trial", "--counts", "200", "--repeat", "1", "--db", url)
				require.Zero(t, r.code, r.errOut)
				assert.Contains(t, r.out, "changing the column "+strings.Fields(column)[0])
			})
		}
	}
}

func TestWrongTrials(t *testing.T) {
	f := newFolder(t)
	f.sample(t)
	for args, want := range map[string]string{
		"--counts x":             "--counts must be numbers of rows",
		"--counts 0":             "--counts must be numbers of rows",
		"--counts 100000":        "and Ticket has 18,",
		"--entity Tickt":         "did you mean Ticket?",
		"--chart x.gif":          "ends in .png or .svg",
		"--repeat 0":             "--repeat must be between",
		"--limit 0s":             "--limit must be a duration",
		"--file x.csv":           "must be used together",
		"--file x.csv --table t": "--file and a plan cannot be combined",
		"--entity FareClass":     "no generated rows",
	} {
		r := f.run(append([]string{"trial", "larkwater/evensprout.yaml"}, strings.Fields(args)...)...)
		assert.Equal(t, 2, r.code, args)
		assert.Contains(t, r.errOut, want, args)
	}
}
