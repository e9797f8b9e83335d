package cli

import (
	"fmt"
	"os"
	"strings"
	"time"

	"golang.org/x/term"

	"evensprout/internal/diag"
	"evensprout/internal/load"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/report"
)

// progress lets a load tell how far it is: entities with bars on a terminal, else a plain line every few seconds. The
// function it returns ends that. targets are the entities in load order; nil for a unit.
func (a *program) progress(o *load.Options, targets []*plan.Target, what string) func() {
	if a.quiet {
		return func() {}
	}
	const (
		drawEvery = 100 * time.Millisecond
		lineEvery = 3 * time.Second
	)
	started := time.Now()
	last := started
	if f, ok := a.errFile.(*os.File); a.log != nil || !ok || !term.IsTerminal(int(f.Fd())) {
		o.Progress = func(p load.Progress) {
			if time.Since(last) >= lineEvery && p.Done < p.Total {
				last = time.Now()
				how := strings.Join(howFar(p, what, time.Since(started)), ", ")
				fmt.Fprintf(a.err, "loading: %d%%, %s\n", 100*p.Done/p.Total, how)
			}
		}
		return func() {}
	}
	page := a.errPage
	live := report.NewLive(a.errFile, page)
	steps := make([]report.Step, len(targets))
	at := map[string]int{}
	for i, t := range targets {
		steps[i] = report.Step{Name: t.Plan.Name, Total: t.Grow.Total()}
		at[t.Plan.Name] = i
	}
	o.Progress = func(p load.Progress) {
		if i, ok := at[p.Entity]; ok {
			steps[i].Done, steps[i].Total = p.EntityDone, p.EntityTotal
		}
		if time.Since(last) < drawEvery {
			return
		}
		last = time.Now()
		const most, free = 12, 2 // lines of entities; lines that are kept free
		how := packed(howFar(p, what, time.Since(started)), page.Width)
		live.Draw(append(page.Steps(steps, min(most, max(page.Height-free-len(how), 1))), how...))
	}
	return live.Clear
}

// howFar is how far a load is, how fast, and how long it will take.
func howFar(p load.Progress, what string, took time.Duration) []string {
	rate := float64(p.Done) / max(took, time.Millisecond).Seconds()
	left := time.Duration(0)
	if rate > 0 {
		left = time.Duration(float64(p.Total-p.Done)/rate*1000) * time.Millisecond
	}
	parts := []string{
		fmt.Sprintf("%s of %s %s", diag.Number(p.Done), diag.Number(p.Total), what),
		diag.Number(int64(rate)) + " per second",
		max(left.Round(time.Second), time.Second).String() + " left",
	}
	if p.LeftOut > 0 {
		parts = append(parts, strings.TrimSpace(diag.Count(p.LeftOut, "row", "rows"))+" left out")
	}
	return parts
}

// packed puts parts on as few lines as a width of columns allows.
func packed(parts []string, width int) []string {
	var lines []string
	for _, part := range parts {
		if n := len(lines); n > 0 && len(lines[n-1])+len(", "+part+",") <= width {
			lines[n-1] += ", " + part
			continue
		} else if n > 0 {
			lines[n-1] += ","
		}
		lines = append(lines, "  "+part)
	}
	return lines
}

// inOrder are the entities that are loaded, in load order.
func inOrder(c *plan.Compiled) []*plan.Target {
	o := order.Of(c)
	return o.Targets()
}
