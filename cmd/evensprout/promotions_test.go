package main

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/store/storetest"
)

// promotion is a primary that ends while commands work, and a standby that takes over without its last commits.
type promotion struct {
	*site
	name             string // of the database
	primary, standby *storetest.Server
	within           time.Duration // in which the commands would end
}

// run starts commands, and ends the primary at a random moment. The commands go on with the standby, or say what
// stopped them; then they are run again.
func (p *promotion) run(t *testing.T, commands ...[]string) {
	t.Helper()
	p.standby = p.primary.Standby(t)
	p.url = fmt.Sprintf("postgres://tester@127.0.0.1:%d,127.0.0.1:%d/%s", p.primary.Port, p.standby.Port, p.name)
	running := make([]*exec.Cmd, len(commands))
	outs := make([]bytes.Buffer, len(commands))
	for i, args := range commands {
		running[i] = p.command(append(args, "--wait", "1m", "--db", p.url)...)
		running[i].Stdout, running[i].Stderr = &outs[i], &outs[i]
		require.NoError(t, running[i].Start())
	}
	time.Sleep(rand.N(p.within))
	p.standby.Ask(t, p.name, "ALTER SYSTEM SET primary_conninfo = ''")
	p.standby.Ask(t, p.name, "SELECT pg_reload_conf()")
	time.Sleep(rand.N(p.within / 3))
	p.primary.Kill()
	time.Sleep(rand.N(200 * time.Millisecond))
	p.standby.Ask(t, p.name, "SELECT pg_promote()")
	for i, c := range running {
		if err := c.Wait(); err != nil && !strings.Contains(outs[i].String(), nothingToWithdraw) {
			// A part may meet a row whose parent was lost before it learns that.
			assert.Contains(t, []int{4, 5}, c.ProcessState.ExitCode(), "%v: %s", commands[i], outs[i].String())
		}
	}
	p.primary = p.standby
	p.url = p.primary.URL(p.name)
	for _, args := range commands {
		r := p.on(append(args, "--wait", "1m")...)
		if !strings.Contains(r.errOut, nothingToWithdraw) {
			require.Zero(t, r.code, "%v: %s", args, r.out+r.errOut)
		}
	}
}

const nothingToWithdraw = "there is no load to withdraw"

// A primary ends at a random moment, and a standby without the last commits takes over: in the end nothing is missing,
// nothing is there twice, and nothing differs.
func TestPromotions(t *testing.T) {
	load := []string{"load", "--resume", "--chunk", "80", "--jobs", "2", "--quiet"}
	withdraw := []string{"withdraw", "--commit", "chunk"}
	works := map[string]func(t *testing.T, p *promotion, before, after string){
		"loads and withdrawals": func(t *testing.T, p *promotion, before, after string) {
			p.run(t, load)
			require.Empty(t, difference(after, p.rows(t)), "loaded")
			p.run(t, withdraw)
			require.Empty(t, difference(before, p.rows(t)), "withdrawn")
		},
		"parts": func(t *testing.T, p *promotion, before, after string) {
			var parts [][]string
			for n := range 4 {
				parts = append(parts, []string{"load", "--part", fmt.Sprintf("%d/4", n+1), "--chunk", "80", "--quiet"})
			}
			p.run(t, parts...)
			require.Empty(t, difference(after, p.rows(t)), "loaded")
			r := p.on("withdraw")
			require.Zero(t, r.code, r.errOut)
			require.Empty(t, difference(before, p.rows(t)), "withdrawn")
		},
	}
	for what, work := range works {
		t.Run(what, func(t *testing.T) {
			s, primary := ownServer(t, engines()[1], harbourPlan(600, 900))
			p := &promotion{site: s, primary: primary, name: s.url[strings.LastIndexByte(s.url, '/')+1:]}
			before, after, within := s.undisturbed(t)
			p.within = within
			for range tries(1, 30) {
				work(t, p, before, after)
			}
			p.noSessions(t)
		})
	}
	t.Run("units", func(t *testing.T) {
		s, primary := ownServer(t, engines()[1], harbourPlan(40, 0))
		p := &promotion{site: s, primary: primary, within: time.Second}
		for range tries(1, 10) {
			s.url = p.primary.Database(t, strings.ReplaceAll(harbourScript, "{key}", s.key))
			p.name = s.url[strings.LastIndexByte(s.url, '/')+1:]
			s.harbour(t, "5")
			before := s.prices(t)
			p.run(t, dock)
			require.Equal(t, docks, p.whole(t, before))
			for runs := 0; ; runs++ { // those that broke off, and the last one
				r := p.on("withdraw")
				if strings.Contains(r.errOut, nothingToWithdraw) || len(p.cells(t, "visits", "id")) == 0 {
					break
				}
				require.Zero(t, r.code, r.out+r.errOut)
				require.Less(t, runs, 20)
			}
			require.Zero(t, p.whole(t, before), "withdrawn")
		}
	})
}
