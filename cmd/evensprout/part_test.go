package main

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/grow"
)

// partSums adds up what the parts of a load say of themselves, by entity.
func partSums(t *testing.T, parts []string) (map[string]grow.Fingerprint, map[string]int64) {
	prints, rows := map[string]grow.Fingerprint{}, map[string]int64{}
	for _, text := range parts {
		var r struct {
			Part struct {
				Entities []struct {
					Entity      string
					Inserted    int64
					Fingerprint grow.Fingerprint
				}
			}
		}
		require.NoError(t, json.Unmarshal([]byte(text), &r), text)
		for _, e := range r.Part.Entities {
			sum := prints[e.Entity]
			sum.Add(e.Fingerprint)
			prints[e.Entity] = sum
			rows[e.Entity] += e.Inserted
		}
	}
	return prints, rows
}

// TestPartsThatAreKilled runs 16 parts at once, kills some of them again and again, and
// starts them anew, until each has done its work.
func TestPartsThatAreKilled(t *testing.T) {
	onEngines(t, harbourPlan(1500, 2500), func(t *testing.T, s *site) {
		want := s.another(t)
		r := want.on("load", "--commit", "chunk", "--json")
		require.Zero(t, r.code, r.errOut)
		var whole struct {
			Entities []struct {
				Entity      string
				Inserted    int64
				Fingerprint grow.Fingerprint
			}
		}
		require.NoError(t, json.Unmarshal([]byte(r.out), &whole))

		const parts = 16
		results := make([]string, parts)
		var kills atomic.Int64
		var all sync.WaitGroup
		for n := range parts {
			all.Add(1)
			go func() {
				defer all.Done()
				for try := 0; try < 60; try++ {
					c := s.command(
						"load",
						"--part",
						fmt.Sprintf("%d/%d", n+1, parts),
						"--chunk",
						"60",
						"--json",
						"--db",
						s.url,
					)
					var out, errOut strings.Builder
					c.Stdout, c.Stderr = &out, &errOut
					if !assert.NoError(t, c.Start()) {
						return
					}
					if try < 3 && n%3 != 0 {
						time.AfterFunc(
							rand.N(time.Duration(400*(try+1))*time.Millisecond),
							func() { c.Process.Kill() },
						)
					}
					err := c.Wait()
					if err == nil {
						results[n] = out.String()
						return
					}
					if exit, ok := err.(*exec.ExitError); ok && exit.ExitCode() >= 0 {
						assert.Fail(t, "a part failed", "part %d: %d: %s", n+1, exit.ExitCode(), errOut.String())
						return
					}
					kills.Add(1)
				}
			}()
		}
		all.Wait()
		t.Logf("%d processes were killed", kills.Load())
		assert.Empty(t, difference(want.rows(t), s.rows(t)))
		// A part that finds the load done says so, and not what it wrote.
		var told []string
		for n := range parts {
			if !strings.Contains(results[n], `"part"`) {
				continue
			}
			told = append(told, results[n])
		}
		if len(told) == parts {
			prints, rows := partSums(t, told)
			for _, e := range whole.Entities {
				assert.Equal(t, e.Fingerprint, prints[e.Entity], e.Entity)
				assert.Equal(t, e.Inserted, rows[e.Entity], e.Entity)
			}
		}
		r = s.on("compare")
		assert.Zero(t, r.code, r.out+r.errOut)
		r = s.on("load", "--part", "5/16")
		assert.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "Nothing to do")
		r = s.on("withdraw")
		require.Zero(t, r.code, r.errOut)
		s.noSessions(t)
	})
}

// TestNobodyTakesBackWhatIsBeingWritten holds a part up by a lock on a row that it needs.
func TestNobodyTakesBackWhatIsBeingWritten(t *testing.T) {
	onEngines(t, harbourPlan(300, 500), func(t *testing.T, s *site) {
		if s.start == nil {
			t.Skip("one process writes at a time")
		}
		require.Zero(t, s.on("load", "--part", "1/2", "--chunk", "50").code)
		db := s.open(t)
		defer db.Close()
		holder, err := db.Lock(t.Context(), "evensprout load harbour, part 2") // as a part has it
		require.NoError(t, err)
		require.Empty(t, holder)
		for _, command := range [][]string{{"withdraw"}, {"load", "--resume"},
			{"load", "--part", "2/2", "--wait", "1ms"}} {
			r := s.on(command...)
			assert.Equal(t, 4, r.code, command)
			assert.Contains(t, r.errOut, "is being written by", command)
		}
		require.NoError(t, db.Close())
		r := s.on("load", "--part", "2/2") // waits until the server has noticed
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "it was the last")
		require.Zero(t, s.on("withdraw").code)
	})
}

// another is the same site with another database of the harbour's tables.
func (s *site) another(t *testing.T) *site {
	o := *s
	o.url = s.database(t)
	return &o
}

func TestPartsOneAfterTheOther(t *testing.T) {
	onEngines(t, harbourPlan(300, 500), func(t *testing.T, s *site) {
		want := s.another(t)
		r := want.on("load", "--no-journal", "--quiet")
		require.Zero(t, r.code, r.errOut)
		before := s.rows(t)
		var told []string
		for i, n := range []int{4, 2, 5, 1, 3} {
			r := s.on("load", "--part", fmt.Sprintf("%d/5", n), "--json")
			require.Zero(t, r.code, r.errOut)
			told = append(told, r.out)
			var p struct {
				Part struct {
					Whole     bool
					PartsDone int `json:"parts_done"`
				}
			}
			require.NoError(t, json.Unmarshal([]byte(r.out), &p))
			assert.Equal(t, i == 4, p.Part.Whole)
			assert.Equal(t, i+1, p.Part.PartsDone)
		}
		assert.Empty(t, difference(want.rows(t), s.rows(t)))
		_, rows := partSums(t, told)
		assert.Equal(t, map[string]int64{"Port": 300, "Berth": 600, "Visit": 500}, rows)
		require.Zero(t, s.on("withdraw").code)
		assert.Empty(t, difference(before, s.rows(t)))

		// Half of the parts, then one process for the rest.
		require.Zero(t, s.on("load", "--part", "2/4").code)
		r = s.on("load", "--part", "1/3")
		assert.Equal(t, 4, r.code)
		assert.Contains(t, r.errOut, "in 4 parts, not in 3 parts")
		s.write("evensprout.yaml", strings.Replace(harbourPlan(300, 500), "seed: s", "seed: other", 1))
		r = s.on("load", "--part", "1/4")
		assert.Equal(t, 4, r.code)
		assert.Contains(t, r.errOut, "the plan has changed since it was loaded")
		s.write("evensprout.yaml", harbourPlan(300, 500))
		r = s.on("load", "--resume")
		require.Zero(t, r.code, r.errOut)
		assert.Empty(t, difference(want.rows(t), s.rows(t)))
		require.Zero(t, s.on("withdraw").code)

		// Invariants are looked at when all is there, whoever is the last.
		for _, last := range [][]string{{"--part", "2/2"}, {"--resume"}} {
			s.write(
				"evensprout.yaml",
				harbourPlan(300, 500)+"always:\n  no port is called so: every Port has label == \"nothing\"\n",
			)
			r = s.on("load", "--part", "1/2")
			require.Zero(t, r.code, r.errOut)
			r = s.on(append([]string{"load"}, last...)...)
			assert.Equal(t, 5, r.code, last)
			assert.Contains(t, r.errOut, "no port is called so", last)
			require.Zero(t, s.on("withdraw").code)
		}
		s.write("evensprout.yaml", harbourPlan(300, 500))

		// A half-done load in parts is taken back, too.
		require.Zero(t, s.on("load", "--part", "3/4").code)
		r = s.on("withdraw")
		require.Zero(t, r.code, r.errOut)
		assert.Empty(t, difference(before, s.rows(t)))
	})
}

// TestPartsWithKeysOfTheDatabase lets others refer to rows whose keys only the part knows
// that wrote them, and some rows be left out, with what hangs on them.
func TestPartsWithKeysOfTheDatabase(t *testing.T) {
	plan := strings.NewReplacer("table: ports\n", "table: ports\n    keys: database\n", "table: berths\n", "table: "+
		"berths\n    keys: database\n", "table: visits\n", "table: visits\n    keys: database\n",
		"on_violation: {unique: redraw}", "on_violation: {unique: skip}").
		Replace(harbourPlan(200, 300))
	onEngines(t, plan, func(t *testing.T, s *site) {
		var codes []string
		for i := range 20000 {
			codes = append(codes, fmt.Sprintf("(%d, 'P%05d', 'there')", 1_000_000+i, 5*i))
		}
		for at := 0; at < len(codes); at += 5000 {
			s.exec(t, "INSERT INTO ports (id, code, label) VALUES "+strings.Join(codes[at:at+5000], ", "))
		}
		for _, resume := range []bool{false, true} {
			for _, n := range []int{2, 4, 1, 3} {
				args := []string{
					"load",
					"--part",
					fmt.Sprintf("%d/4", n),
					"--chunk",
					"30",
					"--rejects",
					fmt.Sprintf("rejects-%v-%d.ndjson", resume, n),
				}
				if resume && n != 2 {
					args = []string{"load", "--resume", "--rejects", "rejects-resumed.ndjson"}
				}
				r := s.on(args...)
				require.Equal(t, 6, r.code, r.errOut)
				if len(args) == 4 {
					break
				}
			}
			rows := s.rows(t)
			visits := strings.Count(rows[strings.Index(rows, "== visits"):], "\n") - 1
			berths := strings.Count(rows[strings.Index(rows, "== berths"):strings.Index(rows, "== ports")], "\n") - 1
			ports := strings.Count(
				rows[strings.Index(rows, "== ports"):strings.Index(rows, "== visits")],
				"\n",
			) - 20001 - 1
			assert.Greater(t, ports, 100)
			assert.Less(t, ports, 200, "a fifth of the codes are taken")
			assert.Equal(t, 2*ports, berths, "what hangs on a row is left out with it")
			assert.Less(t, visits, 300)
			r := s.on("compare")
			assert.Zero(t, r.code, "%s%s", r.out, r.errOut)
			r = s.on("withdraw")
			require.Zero(t, r.code, r.errOut)
		}
	})
}

func TestWrongParts(t *testing.T) {
	f := newFolder(t)
	f.sample(t)
	for args, want := range map[string]string{
		"--part 0/4":               "numbered 1 to 4,",
		"--part x":                 "must be written as 3/16",
		"--part env/4":             "JOB_COMPLETION_INDEX",
		"--part 1/4 --dry-run":     "--part writes a share of a load",
		"--part 1/4 --no-journal":  "--part writes a share of a load",
		"--part 1/4 --commit load": "commits by chunk,",
		"--part 1/4 --unit sell":   "--unit",
	} {
		r := f.run(append([]string{"load", "larkwater/evensprout.yaml"}, strings.Fields(args)...)...)
		assert.Equal(t, 2, r.code, args)
		assert.Contains(t, r.errOut, want, args)
	}
}
